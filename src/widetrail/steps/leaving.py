"""``remove``, only what this run itself put there, and ``detach``, the medium taken away."""

from __future__ import annotations

from widetrail.formats.checked import Model
from widetrail.recipe.models import PathText
from widetrail.steps.interface import Step, Unfolding


class RemoveRule(Model):
    """The settings of ``remove``: the path that this run itself put there."""

    remove: PathText


class Remove:
    """Unfolds into one removal."""

    schema = RemoveRule

    def unfold(self, unfolding: Unfolding) -> tuple[Step, ...]:
        rule = unfolding.rule
        assert isinstance(rule, RemoveRule)
        path = unfolding.expand(rule.remove)
        step = Step(
            id=unfolding.step_id("remove"),
            kind="remove",
            station=unfolding.station,
            item=unfolding.subject,
            arguments={"path": path},
            changes=(path,),
        )
        return (step,)

    def words(self, step: Step) -> str:
        return f"remove {step.text('path')}, which this move put there"


class DetachRule(Model):
    """The settings of ``detach``; it has none."""

    detach: str = ""


class Detach:
    """Unfolds into one act: what is left comes to new, then the medium is taken away."""

    schema = DetachRule

    def unfold(self, unfolding: Unfolding) -> tuple[Step, ...]:
        step = Step(
            id=unfolding.step_id("detach"),
            kind="detach",
            station=unfolding.station,
            item=unfolding.subject,
        )
        return (step,)

    def words(self, step: Step) -> str:
        return "keep what is left of the parcel on this machine, then take the medium away"
