"""Reports: what became of a move, as a value and as a page."""

from widetrail.reporting.page import render_page, show_answer
from widetrail.reporting.summary import CheckLine, ItemReport, LegReport, Report, make_report

__all__ = [
    "CheckLine",
    "ItemReport",
    "LegReport",
    "Report",
    "make_report",
    "render_page",
    "show_answer",
]
