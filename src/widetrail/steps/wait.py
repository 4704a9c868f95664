"""``wait``: until readings hold, with progress and a time limit."""

from __future__ import annotations

from typing import Literal, Protocol

from pydantic import Field

from widetrail.finding import Unknown
from widetrail.formats.stored_values import Text
from widetrail.recipe.conditions import Condition, parse_duration
from widetrail.recipe.templates import literal, plain
from widetrail.steps.contexts import Evidence, OfItem, Work
from widetrail.steps.kind import Act, Rule
from widetrail.steps.outcomes import Done, Facts, Outcome
from widetrail.steps.reading_conditions import (
    conditions,
    missing,
    old_value,
    shown,
    take,
    telling_of,
)
from widetrail.steps.step import Step, Unfolding
from widetrail.steps.wait_settings import WaitSettings


class Has(Work, OfItem, Evidence, Protocol):
    """What waiting takes."""


class WaitStep(Step):
    """A wait until readings hold, in words; without a number it is for ``wait`` of the route."""

    kind: Literal["wait"] = "wait"
    until: tuple[str, ...]
    within: str
    title: str = ""


class WaitFacts(Facts):
    """What the readings were then, by name, as people read them."""

    readings: dict[Text, Text] = Field(default_factory=dict)


class Wait(Rule[WaitSettings], Act[WaitStep, Has]):
    """Unfolds into one wait."""

    settings = WaitSettings
    step = WaitStep
    effect = "waits"
    facts = WaitFacts
    brings_about = True
    only_waits = True

    def unfold(self, settings: WaitSettings, unfolding: Unfolding) -> tuple[Step, ...]:
        title = literal(settings.title or "")
        until = conditions(settings.wait)
        return (unfolding.step(WaitStep, until=until, within=settings.within, title=title),)

    def words(self, step: WaitStep) -> str:
        what = plain(step.title) or " and ".join(step.until)
        return f"Wait until {what}, at most {step.within}"

    def do(self, step: WaitStep, doing: Has) -> Outcome:
        wanted = awaited(step, doing)
        count = next((n for n, c in wanted.items() if c.at_least), None)
        begun = doing.clock()
        first = _count(step, doing, count)

        def what() -> str:
            lacking = missing(doing, step.item, wanted)
            if lacking and count is not None:
                _tell(step, doing, count, wanted[count], first, begun)
            return "; ".join(lacking)

        seconds = parse_duration(step.within).total_seconds()
        title = plain(step.title)
        rule = doing.settings(step) if step.number else doing.route(step.item)
        with telling_of(doing.finder(step.item), rule):
            doing.await_(what, f"Wait until {title or 'that holds'}, then walk again.", seconds)
        readings = {name: str(take(doing, step.item, name)) for name in wanted}
        return Done(WaitFacts(readings=readings))


def awaited(step: Step, doing: Has) -> dict[str, Condition]:
    """Return what a wait waits for: the recipe's step, or ``wait`` of the route."""
    if not step.number:
        return doing.route(step.item).wait
    rule = doing.settings(step)
    assert isinstance(rule, WaitSettings)
    return rule.wait


def _count(step: Step, doing: Has, name: str | None) -> float:
    found = Unknown("") if name is None else take(doing, step.item, name)
    number = None if isinstance(found, Unknown) else found.value
    return float(number) if isinstance(number, int | float) else 0.0


def _tell(
    step: Step, doing: Has, name: str, condition: Condition, first: float, begun: float
) -> None:
    """Tell how many are there and, from how fast they came so far, how long it will take."""
    total = condition.lowest or 0.0
    if condition.compares_old:
        of_old = old_value(doing, step.item, name)
        value = None if isinstance(of_old, Unknown) else of_old.value
        total = float(value) if isinstance(value, int | float) else 0.0
    there, passed = _count(step, doing, name), doing.clock() - begun
    came = there - first
    left = (total - there) * passed / came if came > 0 and passed > 0 else None
    doing.onlooker.moves(there, total, shown(name), left)
