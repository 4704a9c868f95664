"""``person``: a named instruction, with the readings that show it was done."""

from __future__ import annotations

from pydantic import Field

from widetrail.formats.checked import Model
from widetrail.recipe.conditions import Condition
from widetrail.recipe.models import Name, Said
from widetrail.steps.interface import Step, Unfolding


class PersonRule(Model):
    """The settings of ``person``."""

    person: Said
    proof: dict[Name, Condition] = Field(default_factory=dict)


class Person:
    """Unfolds into one act of a person."""

    schema = PersonRule

    def unfold(self, unfolding: Unfolding) -> tuple[Step, ...]:
        rule = unfolding.rule
        assert isinstance(rule, PersonRule)
        proof = tuple(f"{name} is {condition}" for name, condition in sorted(rule.proof.items()))
        step = Step(
            id=unfolding.step_id("person"),
            kind="person",
            station=unfolding.station,
            item=unfolding.subject,
            arguments={"task": unfolding.expand(rule.person), "proof": proof},
        )
        return (step,)

    def words(self, step: Step) -> str:
        proof = step.texts("proof")
        shown = f" (shown by: {', '.join(proof)})" if proof else ""
        return f"you: {step.text('task')}{shown}"
