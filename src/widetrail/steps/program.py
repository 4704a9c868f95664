"""``open``, ``close`` and ``first_start``: the application itself."""

from __future__ import annotations

from pydantic import Field, create_model

from widetrail.formats.checked import Model
from widetrail.recipe.models import Name
from widetrail.steps.interface import Step, Unfolding

_WORDS = {
    "open": "open {program}",
    "close": "close {program} (it is asked for, never forced)",
    "first_start": "start {program} for the first time, so that it makes its {place}",
}


class Program:
    """Unfolds into one act on the application."""

    def __init__(self, kind: str) -> None:
        """Make the rule of ``kind``, one of ``open``, ``close`` and ``first_start``."""
        self.kind = kind
        name: type = Name if kind == "first_start" else str
        fields = {"value": (name, Field("", alias=kind))}
        self.schema: type[Model] = create_model(
            f"{kind.title().replace('_', '')}Rule", __base__=Model, **fields
        )  # type: ignore[call-overload]

    def unfold(self, unfolding: Unfolding) -> tuple[Step, ...]:
        name = unfolding.loaded.recipe.application.name
        place = str(getattr(unfolding.rule, "value", ""))
        changes = (unfolding.place,) if self.kind == "first_start" else ()
        step = Step(
            id=unfolding.step_id(self.kind),
            kind=self.kind,
            station=unfolding.station,
            item=unfolding.subject,
            arguments={"program": name, "place": place},
            changes=changes,
        )
        return (step,)

    def words(self, step: Step) -> str:
        return _WORDS[self.kind].format(program=step.text("program"), place=step.text("place"))
