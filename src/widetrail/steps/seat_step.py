"""A step about the seat of a licence, as a plan holds it."""

from __future__ import annotations

from typing import Literal

from widetrail.steps.step import Step

SeatAct = Literal["note", "ready", "begin", "end", "renounce", "gone"]


class SeatStep(Step):
    """What is done with a seat around the recipe's commands, and its words."""

    kind: Literal["seat"] = "seat"
    act: SeatAct
    words: str


def looks_whether_ready(step: Step) -> bool:
    """Return whether a step looks whether all is there to move a seat."""
    return isinstance(step, SeatStep) and step.act == "ready"


def other_way(step: Step) -> SeatStep | None:
    """Return a step that is of another way than is planned first: new or a machine is out of it."""
    return step if isinstance(step, SeatStep) and step.act in ("renounce", "gone") else None
