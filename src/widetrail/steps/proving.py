"""What readings must be for a step to be done: proofs and things waited for."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from contextlib import contextmanager

from widetrail.errors import Waiting
from widetrail.finding import ByPart, Known, Unknown, condition_holds
from widetrail.formats.checked import Model
from widetrail.recipe import Loaded
from widetrail.recipe.arms import reach
from widetrail.recipe.conditions import Condition
from widetrail.steps.interface import Doing


def missing(doing: Doing, item: str, conditions: Mapping[str, Condition]) -> list[str]:
    """Return in words which of ``conditions`` do not hold here now; unknown never holds."""
    return [
        words
        for name, condition in sorted(conditions.items())
        if (words := _missing(doing, item, name, condition))
    ]


def holding(doing: Doing, item: str, conditions: Mapping[str, Condition]) -> bool | None:
    """Return whether all of ``conditions`` hold here now; ``None`` where one cannot be told."""
    if any(isinstance(take(doing, item, name), Unknown) for name in conditions):
        return None
    return not missing(doing, item, conditions)


def _missing(doing: Doing, item: str, name: str, condition: Condition) -> str:
    found = take(doing, item, name)
    if isinstance(found, Unknown):
        return f"{shown(name)} is {found}"
    of_old = old_value(doing, item, name) if condition.covers is not None else None
    if isinstance(of_old, Unknown):
        return f"old's {shown(name)} is {of_old}"
    before = of_old.value if of_old is not None else None
    if condition_holds(condition, found.value, before, doing.now):
        return ""
    wanted = str(condition) if of_old is None else f"at least what old has ({of_old})"
    return f"{shown(name)} must be {wanted}, and is {str(found) or 'empty'}"


@contextmanager
def telling_of(loaded: Loaded, rule: Model) -> Iterator[None]:
    """Tell whether what a rule waits for came, or did not."""
    try:
        yield
    except Waiting:
        reach(loaded, rule, "did not come")
        raise
    reach(loaded, rule, "came")


def take(doing: Doing, item: str, name: str) -> Known | Unknown:
    """Take a reading here as it is now; one by part is its sum."""
    answer = doing.finder(item).answer(name, doing.item(item))
    return answer.total if isinstance(answer, ByPart) else answer


def old_value(doing: Doing, item: str, name: str) -> Known | Unknown:
    """Return what old noted of a reading."""
    noted = doing.noted(item).get(name)
    if not isinstance(noted, dict):
        return Unknown("not noted")
    if isinstance(by := noted.get("by"), dict):
        answers = tuple((part, _known(value)) for part, value in by.items())
        return ByPart("", answers).total
    return _known(noted)


def _known(noted: object) -> Known | Unknown:
    if isinstance(noted, dict) and "value" in noted:
        value = noted["value"]
        return Known(tuple(value) if isinstance(value, list) else value)
    return Unknown(str(noted.get("unknown")) if isinstance(noted, dict) else "not noted")


def shown(name: str) -> str:
    """Return the name of a reading for people."""
    return name.replace("_", " ")
