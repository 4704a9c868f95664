"""What readings must be for a step to be done: proofs and things waited for."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from typing import Protocol

from widetrail.errors import Waiting
from widetrail.finding import ByPart, Finder, Known, Unknown, condition_holds
from widetrail.finding.values import part_label
from widetrail.formats.documents import Model
from widetrail.recipe.conditions import Condition
from widetrail.steps.contexts import Evidence, OfItem, Work
from widetrail.steps.outcomes import Noted


class Has(Work, OfItem, Evidence, Protocol):
    """What judging readings takes."""


Parts = Mapping[str, str]
"""The values of parts, by their names, of which alone readings are taken; none for all."""


def missing(
    doing: Has, item: str, conditions: Mapping[str, Condition], parts: Parts | None = None
) -> list[str]:
    """Return in words which of ``conditions`` do not hold here now; unknown never holds."""
    return [
        words
        for name, condition in sorted(conditions.items())
        if (words := _missing(doing, item, name, condition, parts or {}))
    ]


def holding(
    doing: Has, item: str, conditions: Mapping[str, Condition], parts: Parts | None = None
) -> bool | None:
    """Return whether all of ``conditions`` hold here now; ``None`` where one cannot be told."""
    if any(isinstance(take(doing, item, name, parts), Unknown) for name in conditions):
        return None
    return not missing(doing, item, conditions, parts)


def _missing(doing: Has, item: str, name: str, condition: Condition, parts: Parts) -> str:
    found = take(doing, item, name, parts)
    if isinstance(found, Unknown):
        return f"{shown(name)} is {found}"
    of_old = old_value(doing, item, name, parts) if condition.compares_old else None
    if isinstance(of_old, Unknown):
        return f"old's {shown(name)} is {of_old}"
    before = of_old.value if of_old is not None else None
    if condition_holds(condition, found.value, before, doing.now):
        return ""
    wanted = str(condition) if of_old is None else f"at least as on the old computer ({of_old})"
    return f"{shown(name)} must be {wanted}, but is {str(found) or 'empty'}"


@contextmanager
def telling_of(finder: Finder, rule: Model) -> Iterator[None]:
    """Tell whether what a rule waits for came, or did not."""
    try:
        yield
    except Waiting:
        finder.decide(rule, "did not come")
        raise
    finder.decide(rule, "came")


def take(doing: Has, item: str, name: str, parts: Parts | None = None) -> Known | Unknown:
    """Take a reading here as it is now; one by part is its sum, of those ``parts`` alone."""
    rule = doing.item(item)
    if parts:
        alone = {part: (value,) for part, value in parts.items()}
        rule = rule.model_copy(update={"parts": {**rule.parts, **alone}})
    answer = doing.finder(item).answer(name, rule)
    return answer.total if isinstance(answer, ByPart) else answer


def unlike_reading(doing: Has, item: str, told: Mapping[str, str], parts: Mapping[str, str]) -> str:
    """Return where a value that a program told is not what the reading of that name gives here.

    ``parts`` are the values of parts that the program was started for.
    """
    readings, rule = doing.finder(item).loaded.recipe.readings, doing.item(item)
    for name, value in told.items():
        check = rule.checks.get(name)
        if name not in readings or (check is not None and not doing.looked_at(item, name)):
            continue
        found = take(doing, item, name, parts)
        if isinstance(found, Unknown) or not _same(found, value):
            return f"it prints {name} {value}, but the reading is {found}"
    return ""


def _same(found: Known, told: str) -> bool:
    if isinstance(found.value, int | float) and not isinstance(found.value, bool):
        try:
            return float(told) == found.value
        except ValueError:
            return False
    return str(found) == told


def old_value(doing: Has, item: str, name: str, parts: Parts | None = None) -> Known | Unknown:
    """Return what old noted of a reading."""
    noted = doing.noted(item).get(name)
    if noted is None:
        return Unknown("not noted")
    own = (noted.by or {}).get(part_label(v for _, v in sorted((parts or {}).items())))
    if own is not None:
        return _known(own)
    if noted.by is not None:
        answers = tuple((part, _known(value)) for part, value in noted.by.items())
        return ByPart("", answers).total
    return _known(noted)


def _known(noted: Noted) -> Known | Unknown:
    return Unknown(noted.unknown) if noted.value is None else Known(noted.value)


def shown(name: str) -> str:
    """Return the name of a reading for people."""
    return name.replace("_", " ")


def conditions(rules: Mapping[str, Condition]) -> tuple[str, ...]:
    """Return conditions on readings in words."""
    return tuple(f"{shown(name)} is {condition}" for name, condition in sorted(rules.items()))
