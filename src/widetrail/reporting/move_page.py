"""The report as one HTML page that needs nothing beside itself."""

from __future__ import annotations

from widetrail.formats.texts import for_people
from widetrail.reporting.html import make_page
from widetrail.steps import Noted
from widetrail.walking import Report


def render_page(report: Report) -> str:
    """Return the report as HTML; everything from a machine or recipe is escaped."""
    parts = [*(item.id for item in report.items), *(item.id for item in report.left)]
    largest = max((item.size for item in report.items), default=0) or 1
    return make_page(
        "move.html",
        f"{report.old} → {report.new}",
        report=report,
        is_all_there=report.is_complete and all(item.there for item in report.left),
        tasks=report.tasks_by_program,
        sizes=sorted(report.items, key=lambda item: -item.size),
        shares={item.id: f"{100 * item.size / largest:.2f}" for item in report.items},
        anchors={id: f"item-{number}" for number, id in enumerate(parts, start=1)},
        value=show_answer,
    )


def show_answer(answer: Noted | None) -> str:
    """Return a noted answer for people: a value, or that it is unknown."""
    if answer is None:
        return "not noted"
    if answer.by is not None:
        return ", ".join(f"{part}: {show_answer(one)}" for part, one in answer.by.items()) or "none"
    if answer.value is None:
        return for_people(f"unknown: {answer.unknown}")
    if isinstance(answer.value, tuple):
        return for_people(", ".join(answer.value))
    return for_people(str(answer.value))
