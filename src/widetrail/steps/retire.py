"""``retire``: an item's folder on old is renamed, last of all, so that nobody works in it."""

from __future__ import annotations

from typing import Literal, Protocol

from widetrail.formats.stored_values import Text
from widetrail.machine.moves import Move
from widetrail.machine.paths import base, join, parent
from widetrail.recipe.templates import plain
from widetrail.steps.backup import move, move_again
from widetrail.steps.contexts import Evidence, OfItem, Work
from widetrail.steps.journal_events import Moves
from widetrail.steps.kind import Act
from widetrail.steps.outcomes import Done, Facts, Failed, Outcome
from widetrail.steps.step import Step


class Has(Work, OfItem, Evidence, Protocol):
    """What retiring takes."""


class RetireStep(Step):
    """A place that is renamed, and the path that it has then."""

    kind: Literal["retire"] = "retire"
    place: str
    renamed: str

    @property
    def leaves(self) -> tuple[str, ...]:
        return (self.renamed,)


class RetireFacts(Facts):
    """The path that the place has now."""

    renamed: Text = ""


class Retire(Act[RetireStep, Has]):
    """Renames an item's folder on old, last of all, so that nobody works in it by accident."""

    step = RetireStep
    facts = RetireFacts
    needs_closed = True
    comes_last = True
    removes = True

    def words(self, step: RetireStep) -> str:
        renamed = base(plain(step.renamed))
        return f"Rename {plain(step.place)} to {renamed}, so that nobody works in it"

    def do(self, step: RetireStep, doing: Has) -> Outcome:
        machine, place = doing.machine, doing.pinned(step.item)
        to = join(parent(place), base(doing.fill(step, step.renamed)))
        before = doing.recorded(Moves, step.id)
        if before is not None:
            move_again(doing, before)
            return Done(RetireFacts(renamed=to))
        if not doing.arrived(step.item):
            return Failed(f"{step.item} did not arrive whole, so it is left as it is", _KEEP)
        if where := machine.synced(place):
            return Failed(
                f"{where} synchronises it, so renaming it would rename it there too", _KEEP
            )
        if machine.look(place) is None:
            return Failed(f"{place} no longer exists", _KEEP)
        if machine.look(to) is not None:
            return Failed(f"{to} already exists", _KEEP)
        doing.await_closed(step.item)
        move(step, doing, [Move("out", place, to)])
        return Done(RetireFacts(renamed=to))


_KEEP = "Rename it by hand once everything is verified."


def retire_step(item: str, place: str, new: str, after: tuple[str, ...]) -> RetireStep:
    """Return the step that retires ``item``, which went to the machine ``new``."""
    renamed = f"{place} (moved to {new})"
    return RetireStep(
        id=f"{item}/retire",
        station="old",
        item=item,
        place=place,
        renamed=renamed,
        after=after,
        changes=(place,),
    )
