"""Judging what was read by the conditions of a recipe."""

from __future__ import annotations

from datetime import UTC, datetime

from widetrail.finding.values import Value, show_value
from widetrail.formats.parser_process import matches
from widetrail.recipe.conditions import Condition, parse_duration


def condition_holds(
    condition: Condition, value: Value, of_old: Value | None, today: datetime
) -> bool:
    """Return whether ``value`` is what ``condition`` asks; what cannot be compared is not."""
    text = show_value(value)
    number = value if isinstance(value, int | float) and not isinstance(value, bool) else None
    amount = len(value) if isinstance(value, tuple) else number
    tests = [
        condition.equals is None or _same(condition.equals, text, number),
        condition.one_of is None or any(_same(w, text, number) for w in condition.one_of),
        condition.matches is None or matches(condition.matches, text) is True,
        condition.lowest is None or (amount is not None and amount >= condition.lowest),
        condition.at_most is None or (amount is not None and amount <= condition.at_most),
        condition.within is None or _recent(text, condition.within, today),
        not condition.compares_old or _covers(value, of_old),
    ]
    return all(tests)


def _same(wanted: str, text: str, number: float | None) -> bool:
    if number is None:
        return wanted.casefold() == text.casefold()
    try:
        return float(wanted) == number
    except ValueError:
        return False


def _recent(text: str, within: str, today: datetime) -> bool:
    try:
        moment = datetime.fromisoformat(text)
    except ValueError:
        return False
    moment = moment if moment.tzinfo is not None else moment.replace(tzinfo=UTC)
    try:
        return moment >= today - parse_duration(within)
    except OverflowError:  # a year that no calendar of ours has
        return False


def _covers(value: Value, of_old: Value | None) -> bool:
    if isinstance(value, int | float) and isinstance(of_old, int | float):
        return value >= of_old
    here = value if isinstance(value, tuple) else (str(value),)
    there = of_old if isinstance(of_old, tuple) else (str(of_old),)
    return set(there) <= set(here)
