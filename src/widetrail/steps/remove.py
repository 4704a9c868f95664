"""``remove``: what this run itself put on new is taken away again, and kept until it is settled."""

from __future__ import annotations

from typing import Literal, Protocol

from widetrail.formats.stored_values import Text
from widetrail.machine.moves import Move
from widetrail.machine.paths import is_within
from widetrail.recipe.templates import plain
from widetrail.steps.backup import move, move_again, room_at
from widetrail.steps.contexts import OfItem, Work
from widetrail.steps.journal_events import Moves
from widetrail.steps.kind import Act, Rule
from widetrail.steps.outcomes import Done, Facts, Failed, Outcome
from widetrail.steps.remove_settings import RemoveSettings
from widetrail.steps.run_storage import ASIDE
from widetrail.steps.step import Step, Unfolding


class Has(Work, OfItem, Protocol):
    """What removing takes."""


class RemoveStep(Step):
    """A path that is removed."""

    kind: Literal["remove"] = "remove"
    path: str


class RemoveFacts(Facts):
    """The path that was removed."""

    removed: Text = ""


class Remove(Rule[RemoveSettings], Act[RemoveStep, Has]):
    """Unfolds into one removal; what is removed is put aside until the move is settled."""

    settings = RemoveSettings
    step = RemoveStep
    facts = RemoveFacts
    takes_over = True
    needs_closed = True
    removes = True

    def unfold(self, settings: RemoveSettings, unfolding: Unfolding) -> tuple[Step, ...]:
        path = unfolding.expand(settings.remove)
        return (unfolding.step(RemoveStep, path=path, changes=(path,)),)

    def words(self, step: RemoveStep) -> str:
        return f"Remove {plain(step.path)}, which this move put there"

    def do(self, step: RemoveStep, doing: Has) -> Outcome:
        machine, path = doing.machine, doing.fill(step, step.path)
        before = doing.recorded(Moves, step.id)
        if before is not None:
            move_again(doing, before)
            return Done(RemoveFacts(removed=path, backed_up=before.aside))
        ours = doing.put_there()
        if not any(is_within(path, place, machine.platform) for place in ours):
            todo = "Remove it by hand if you do not want it."
            return Failed(f"{path} was not put there by this move, so it is kept", todo)
        if machine.look(path) is None:
            return Done(RemoveFacts(removed=path))
        doing.await_closed(step.item)
        aside = room_at(doing, path, step.item).fresh(ASIDE)
        move(step, doing, [Move("out", path, aside)], aside=aside)
        return Done(RemoveFacts(removed=path, backed_up=(aside,)))
