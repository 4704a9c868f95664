"""``detach``: what is left of the parcel comes to new, then the medium is taken away."""

from __future__ import annotations

from typing import Literal, Protocol

from widetrail.errors import Waiting
from widetrail.formats.stored_values import Text
from widetrail.steps.contexts import Cargo, OfItem, People, Work
from widetrail.steps.detach_settings import DetachSettings
from widetrail.steps.kind import Act, Rule
from widetrail.steps.outcomes import Done, Facts, Outcome
from widetrail.steps.people import Task
from widetrail.steps.step import Step, Unfolding


class Has(Work, OfItem, Cargo, People, Protocol):
    """What taking the medium away takes."""


class DetachStep(Step):
    """The medium is taken away."""

    kind: Literal["detach"] = "detach"


class DetachFacts(Facts):
    """The folder that the parcel is in now."""

    parcel: Text = ""


DETACH = "detach"
"""The name of the task by which the medium is taken away."""


class Detach(Rule[DetachSettings], Act[DetachStep, Has]):
    """Unfolds into one act: what is left comes to new, then the medium is taken away."""

    settings = DetachSettings
    step = DetachStep
    effect = "asks"
    facts = DetachFacts
    takes_medium = True

    def unfold(self, settings: DetachSettings, unfolding: Unfolding) -> tuple[Step, ...]:
        return (unfolding.step(DetachStep),)

    def words(self, step: DetachStep) -> str:
        return "Copy the rest of the parcel to this computer, then remove the medium"

    def do(self, step: DetachStep, doing: Has) -> Outcome:
        medium = doing.medium()
        kept = doing.take_along()
        words = "Remove the medium with the parcel from this computer."
        recipe = doing.finder(step.item).loaded.id
        if medium() and not doing.have_done(step, Task(recipe, step.item, DETACH, step.id, words)):
            raise Waiting(
                words,
                why="a person has to do it, and has not confirmed it",
                todo=f"Do it, then walk again, with the parcel that is in {kept}.",
            )
        doing.await_(medium, f"Remove it, then walk again, with the parcel in {kept}.", 60)
        return Done(DetachFacts(parcel=kept))
