"""``remove``, ``detach`` and retiring: what is taken away at the end, each so that it is kept."""

from __future__ import annotations

from widetrail.errors import Waiting
from widetrail.formats.checked import Model
from widetrail.machine.moves import Move
from widetrail.machine.paths import base, is_within, join, parent
from widetrail.recipe.models import PathText
from widetrail.recipe.templates import plain
from widetrail.steps.interface import Doing, Done, Failed, Outcome, Step, Task, Unfolding
from widetrail.steps.room import ASIDE
from widetrail.steps.saving import move, move_again, room_at


class RemoveRule(Model):
    """The settings of ``remove``: the path that this run itself put there."""

    remove: PathText


class Remove:
    """Unfolds into one removal; what is removed is put aside until the move is settled."""

    schema = RemoveRule

    def unfold(self, unfolding: Unfolding) -> tuple[Step, ...]:
        rule = unfolding.rule
        assert isinstance(rule, RemoveRule)
        path = unfolding.expand(rule.remove)
        return (unfolding.step("remove", arguments={"path": path}, changes=(path,)),)

    def words(self, step: Step) -> str:
        return f"remove {plain(step.text('path'))}, which this move put there"

    def do(self, step: Step, doing: Doing) -> Outcome:
        machine, path = doing.machine, doing.fill(step, step.text("path"))
        before = doing.recorded("moves", step.id)
        if before is not None:
            move_again(doing, before)
            return Done({"removed": path, "put aside": [str(before["aside"])]})
        ours = doing.put_there()
        if not any(is_within(path, place, machine.platform) for place in ours):
            todo = "Remove it by hand if it is not wanted."
            return Failed(f"{path} was not put there by this move, so it stays", todo, {})
        if machine.look(path) is None:
            return Done({"removed": path, "put aside": []})
        doing.await_closed(step.item)
        aside = room_at(doing, path, step.item).fresh(ASIDE)
        move(step, doing, [Move("out", path, aside)], aside=aside)
        return Done({"removed": path, "put aside": [aside]})


class DetachRule(Model):
    """The settings of ``detach``; it has none."""

    detach: str = ""


DETACH = "detach"
"""The name of the task by which the medium is taken away."""


class Detach:
    """Unfolds into one act: what is left comes to new, then the medium is taken away."""

    schema = DetachRule

    def unfold(self, unfolding: Unfolding) -> tuple[Step, ...]:
        return (unfolding.step("detach"),)

    def words(self, step: Step) -> str:
        return "keep what is left of the parcel on this machine, then take the medium away"

    def do(self, step: Step, doing: Doing) -> Outcome:
        medium = doing.medium()
        kept = doing.take_along()
        words = "Take the medium with the parcel away from this machine."
        recipe = doing.finder(step.item).loaded.id
        if medium() and not doing.have_done(step, Task(recipe, step.item, DETACH, step.id, words)):
            raise Waiting(
                words,
                why="a person has to do it, and nobody says it is done",
                todo=f"Do it, then walk again, with the parcel that is in {kept}.",
            )
        doing.await_(medium, f"Take it away, then walk again, with the parcel in {kept}.", 60)
        return Done({"the parcel is in": kept})


class Retire:
    """Renames an item's folder on old, last of all, so that nobody works in it by accident."""

    def words(self, step: Step) -> str:
        where = plain(step.text("place"))
        return f"rename {where} to {base(plain(step.text('to')))}, so that nobody works in it"

    def do(self, step: Step, doing: Doing) -> Outcome:
        machine, place = doing.machine, doing.pinned(step.item)
        to = join(parent(place), base(doing.fill(step, step.text("to"))))
        before = doing.recorded("moves", step.id)
        if before is not None:
            move_again(doing, before)
            return Done({"retired": to})
        if not doing.arrived(step.item):
            return Failed(f"{step.item} did not arrive whole, so it stays as it is", _KEEP, {})
        if where := machine.synced(place):
            return Failed(
                f"{where} keeps it in step, so renaming it would move it there too", _KEEP, {}
            )
        if machine.look(place) is None:
            return Failed(f"{place} is no longer there", _KEEP, {})
        if machine.look(to) is not None:
            return Failed(f"{to} is there already", _KEEP, {})
        doing.await_closed(step.item)
        move(step, doing, [Move("out", place, to)])
        return Done({"retired": to})


_KEEP = "Rename it by hand when all is well."


def retire_step(item: str, place: str, new: str, after: tuple[str, ...]) -> Step:
    """Return the step that retires ``item``, which went to the machine ``new``."""
    return Step(
        id=f"{item}/retire",
        kind="retire",
        station="old",
        item=item,
        arguments={"place": place, "to": f"{place} (moved to {new})"},
        after=after,
        changes=(place,),
    )
