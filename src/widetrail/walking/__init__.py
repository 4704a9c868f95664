"""Walking: doing the leg that is due at a station, with a journal, checks and a report."""

from widetrail.walking.leg import LegDone, StepDone, Visit
from widetrail.walking.report import (
    CheckLine,
    ItemReport,
    LeftReport,
    LegReport,
    Report,
    make_report,
)

__all__ = [
    "CheckLine",
    "ItemReport",
    "LeftReport",
    "LegDone",
    "LegReport",
    "Report",
    "StepDone",
    "Visit",
    "make_report",
]
