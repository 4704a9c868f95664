"""``note``: readings taken on old, so that new's can be compared with them."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from widetrail.finding import ByPart, Finder, Known, Unknown
from widetrail.formats.stored_values import Text
from widetrail.recipe import Item
from widetrail.steps.contexts import OfItem
from widetrail.steps.kind import Act
from widetrail.steps.outcomes import Done, Facts, Noted, Outcome
from widetrail.steps.step import Step


class NoteStep(Step):
    """Readings of an item that are taken on old."""

    kind: Literal["note"] = "note"
    readings: tuple[str, ...]


class NoteFacts(Facts):
    """What the readings were, by name."""

    readings: dict[Text, Noted] = Field(default_factory=dict)


class Note(Act[NoteStep, OfItem]):
    """Takes the item's readings on old."""

    step = NoteStep
    effect = "looks"
    facts = NoteFacts
    notes = True

    def words(self, step: NoteStep) -> str:
        return f"Record {', '.join(step.readings)} of {step.item} (to compare later)"

    def do(self, step: NoteStep, doing: OfItem) -> Outcome:
        finder, item = doing.finder(step.item), doing.item(step.item)
        return Done(NoteFacts(readings={n: take_note(finder, item, n) for n in step.readings}))


def take_note(finder: Finder, item: Item, name: str) -> Noted:
    """Take a reading of an item, as it is written down."""
    answer = finder.answer(name, item)
    if isinstance(answer, ByPart):
        return Noted(by={part: _one(value) for part, value in answer.answers})
    return _one(answer)


def _one(answer: Known | Unknown) -> Noted:
    if isinstance(answer, Unknown):
        return Noted(unknown=answer.reason)
    value = answer.value
    return Noted(value=list(value) if isinstance(value, tuple) else value)
