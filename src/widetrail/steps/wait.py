"""``wait``: until readings hold, with a time limit."""

from __future__ import annotations

from pydantic import Field

from widetrail.formats.checked import Model
from widetrail.recipe.conditions import Condition, Duration
from widetrail.recipe.models import Name, Said
from widetrail.steps.interface import Step, Unfolding


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
        until = tuple(f"{name} is {condition}" for name, condition in sorted(rule.wait.items()))
        step = Step(
            id=unfolding.step_id("wait"),
            kind="wait",
            station=unfolding.station,
            item=unfolding.subject,
            arguments={"until": until, "within": rule.within, "title": rule.title or ""},
        )
        return (step,)

    def words(self, step: Step) -> str:
        what = step.text("title") or " and ".join(step.texts("until"))
        return f"wait until {what}, at most {step.text('within')}"
