"""Reports as pages, made from the values that walking gives."""

from widetrail.reporting.move_page import render_page, show_answer

__all__ = ["render_page", "show_answer"]
