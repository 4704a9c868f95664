"""``wait``: until readings hold, with progress and a time limit."""

from __future__ import annotations

from pydantic import Field

from widetrail.finding import Unknown
from widetrail.formats.checked import Model
from widetrail.recipe.conditions import Condition, Duration, parse_duration
from widetrail.recipe.models import Name, Said
from widetrail.recipe.templates import literal, plain
from widetrail.steps.interface import Doing, Done, Outcome, Step, Unfolding
from widetrail.steps.person import conditions
from widetrail.steps.proving import missing, old_value, shown, take, telling_of


class WaitRule(Model):
    """The settings of ``wait``: the readings that must hold, and for how long at most."""

    wait: dict[Name, Condition] = Field(min_length=1)
    within: Duration = "1 h"
    title: Said | None = None


class Wait:
    """Unfolds into one wait."""

    schema = WaitRule

    def unfold(self, unfolding: Unfolding) -> tuple[Step, ...]:
        rule = unfolding.rule
        assert isinstance(rule, WaitRule)
        arguments = {
            "until": conditions(rule.wait),
            "within": rule.within,
            "title": literal(rule.title or ""),
        }
        return (unfolding.step("wait", arguments=arguments),)

    def words(self, step: Step) -> str:
        what = plain(step.text("title")) or " and ".join(step.texts("until"))
        return f"wait until {what}, at most {step.text('within')}"

    def do(self, step: Step, doing: Doing) -> Outcome:
        wanted = awaited(step, doing)
        count = next((n for n, c in wanted.items() if c.at_least or c.covers), None)
        begun = doing.clock()
        first = _count(step, doing, count)

        def what() -> str:
            lacking = missing(doing, step.item, wanted)
            if lacking and count is not None:
                _tell(step, doing, count, wanted[count], first, begun)
            return "; ".join(lacking)

        seconds = parse_duration(step.text("within")).total_seconds()
        title = plain(step.text("title"))
        rule = doing.rule(step) if step.number else doing.route(step.item)
        with telling_of(doing.finder(step.item).loaded, rule):
            doing.await_(what, f"Wait until {title or 'that holds'}, then walk again.", seconds)
        return Done({shown(name): str(take(doing, step.item, name)) for name in wanted})


def awaited(step: Step, doing: Doing) -> dict[str, Condition]:
    """Return what a wait waits for: the recipe's step, or ``await`` of the route."""
    if not step.number:
        return doing.route(step.item).await_
    rule = doing.rule(step)
    assert isinstance(rule, WaitRule)
    return rule.wait


def _count(step: Step, doing: Doing, name: str | None) -> float:
    found = Unknown("") if name is None else take(doing, step.item, name)
    number = None if isinstance(found, Unknown) else found.value
    return float(number) if isinstance(number, int | float) else 0.0


def _tell(
    step: Step, doing: Doing, name: str, condition: Condition, first: float, begun: float
) -> None:
    """Tell how many are there and, from how fast they came so far, how long it will take."""
    total = condition.at_least or 0.0
    if condition.covers is not None:
        of_old = old_value(doing, step.item, name)
        value = None if isinstance(of_old, Unknown) else of_old.value
        total = float(value) if isinstance(value, int | float) else 0.0
    there, passed = _count(step, doing, name), doing.clock() - begun
    came = there - first
    left = (total - there) * passed / came if came > 0 and passed > 0 else None
    doing.onlooker.moves(there, total, shown(name), left)
