"""Saving what a program is going to change, so that it can be had back."""

from __future__ import annotations

import sys
from collections.abc import Iterator, Sequence
from pathlib import Path

from widetrail.errors import MachineUnusable
from widetrail.formats.outside import SafePath
from widetrail.machine import Entry, Machine
from widetrail.machine.moves import Move, carry_out, modes_of, times_of
from widetrail.machine.paths import base, join, parent
from widetrail.machine.same_status import more_status
from widetrail.steps.contexts import Work
from widetrail.steps.journal_events import Changing, LetGo, Moves, PutBack, PuttingBack, Saved
from widetrail.steps.run_storage import ASIDE, SAVED, STAGING, Room
from widetrail.steps.step import Step
from widetrail.steps.tree_writer import TreeWriter

_CHUNK = 1024 * 1024


def room_at(doing: Work, target: str, item: str) -> Room:
    """Return the run's room for an item on the volume of ``target``."""
    return Room(doing.machine, doing.workroom, target, doing.slug(item))


def move(step: Step, doing: Work, moves: Sequence[Move], aside: Sequence[str] = ()) -> None:
    """Write moves down, and where what they put aside is kept, then make them."""
    machine = doing.machine
    times, modes = times_of(machine, moves), modes_of(machine, moves)
    kept = tuple(aside)
    doing.record(Moves(step=step.id, moves=tuple(moves), times=times, modes=modes, aside=kept))
    carry_out(machine, moves, modes=modes)


def move_again(doing: Work, record: Changing) -> None:
    """Make what is left to make of the moves that a record of the journal tells."""
    carry_out(doing.machine, record.moves, modes=record.modes)


def save(step: Step, doing: Work, place: str) -> None:
    """Keep what is at ``place`` and put a copy of it there; once for each step and place.

    What was there is kept itself, with all that no copy holds: other names of its files elsewhere,
    its owner, its times. Where it is kept is journaled first; a walk that was cut off goes on.

    Raises:
        EffectFailed: There is no room for it, or the system refuses.
        MachineUnusable: Something there cannot be read.
    """
    _finish_putting_back(step, doing, place)
    if (saved := _saved(step, doing, place)) is not None:
        _exchange(doing, saved)
        return
    machine = doing.machine
    there, room = machine.look(place), room_at(doing, place, step.item)
    times = times_of(machine, [Move("folder", "", place)])
    missing = tuple(m.target for m in missing_folders(machine, place))
    saved = Saved(step=step.id, place=place, kept="", times=times, missing=missing)
    if there is not None:
        copy, kept = room.fresh(STAGING), room.fresh(SAVED)
        try:
            _copy(doing, place, there, copy)
            machine.effects.barrier(machine.host(parent(copy)))
        except BaseException:
            room.clear(copy)
            raise
        moves = (Move("out", place, kept), Move("into", copy, place))
        modes = modes_of(machine, moves)
        saved = saved.model_copy(update={"kept": kept, "moves": moves, "modes": modes})
    doing.record(saved)
    _exchange(doing, saved)


def _exchange(doing: Work, saved: Saved) -> None:
    """Make what is left to make of the moves by which a place is kept and its copy put there."""
    if saved.kept:
        move_again(doing, saved)


def missing_folders(machine: Machine, target: str) -> list[Move]:
    """Return the folders above ``target`` that are not there, as moves that make them."""
    missing: list[Move] = []
    at = parent(target)
    while parent(at) != at and not machine.host(at).exists():
        missing.append(Move("folder", "", at))
        at = parent(at)
    return missing[::-1]


def put_back(step: Step, doing: Work, place: str) -> None:
    """Give ``place`` back what was saved; what stands there now is put aside."""
    if _finish_putting_back(step, doing, place):  # it is back by now
        return
    saved = _saved(step, doing, place)
    if saved is None:
        return
    room, machine = room_at(doing, place, step.item), doing.machine
    if saved.kept and machine.look(saved.kept) is None:
        doing.record(PutBack(step=step.id, place=place))  # it was refused: it is where it was
        for copied in saved.moves[1:]:
            room.clear(copied.source)
        return
    moves = tuple(back_to(saved, room.fresh(ASIDE)))
    modes = modes_of(machine, moves)
    doing.record(PuttingBack(step=step.id, place=place, moves=moves, modes=modes))
    _finish_putting_back(step, doing, place)
    room.tidy()


def _finish_putting_back(step: Step, doing: Work, place: str) -> bool:
    """Make what is left to make of a putting back that was begun; return whether one was."""
    mine = step.id, place
    begun = [r for r in doing.records(PuttingBack) if (r.step, r.place) == mine]
    ended = [r for r in doing.records(PutBack) if (r.step, r.place) == mine]
    if len(begun) > len(ended):
        move_again(doing, begun[-1])
        doing.record(PutBack(step=step.id, place=place))
        return True
    return False


def back_to(saved: Saved, away: str) -> list[Move]:
    """Return the moves by which a place gets back what was ``saved`` of it, if anything was.

    What is there goes ``away``, and so do the folders that were made above it.
    """
    back = [Move("into", saved.kept, saved.place)] if saved.kept else []
    gone = [Move("unfolder", "", folder) for folder in reversed(saved.missing)]
    return [Move("out", saved.place, away), *back, *gone]


def keep_first(step: Step, doing: Work, place: str) -> str:
    """Let go of what was saved for a step where an earlier one of this run saved the place too.

    Return where what was there before this run is kept, if the step's own copy is that.
    """
    saved = _saved(step, doing, place)
    kept = saved.kept if saved is not None else ""
    steps = (r.step for r in doing.records(Saved) if r.place == place)
    first = next(one for one in steps if _saved_by(one, doing, place) is not None)
    if not kept or first == step.id:
        return kept
    doing.record(LetGo(step=step.id, place=place, kept=kept))
    room_at(doing, place, step.item).clear(kept)
    return ""


def _saved(step: Step, doing: Work, place: str) -> Saved | None:
    """Return the newest record of what was saved for a step, unless it was put back since."""
    return _saved_by(step.id, doing, place)


def _saved_by(step: str, doing: Work, place: str) -> Saved | None:
    mine = step, place
    kept = [r for r in doing.records(Saved) if (r.step, r.place) == mine]
    given_back = [r for r in doing.records(PutBack) if (r.step, r.place) == mine]
    return kept[-1] if len(kept) > len(given_back) else None


def _copy(doing: Work, place: str, there: Entry, copy: str) -> None:
    machine = doing.machine
    if there.kind == "other":
        raise MachineUnusable("is not a regular file", where=place)
    host, top = machine.host(copy), machine.host(place)
    if there.kind != "folder":
        above = TreeWriter(machine.effects, host.parent, begun=True)
        above.write(there, host.name, lambda e: _chunks(doing, place), machine.attributes(place))
        _same_status(machine, top, host)
        return
    writer = TreeWriter(machine.effects, host)
    writer.write(there, "", lambda e: (), machine.attributes(place))
    entries = list(with_hard_links(machine.walk(place)))
    for entry in entries:
        where = join(place, entry.path)
        if entry.kind != "other":
            attributes = {} if entry.kind in ("link", "hard") else machine.attributes(where)
            writer.write(
                entry, entry.path, lambda e: _chunks(doing, join(place, e.path)), attributes
            )
    writer.finish()
    for entry in reversed(entries):
        if entry.kind != "hard":
            _same_status(machine, top / entry.path, host / entry.path)
    _same_status(machine, top, host)


def _same_status(machine: Machine, path: SafePath, copy: Path) -> None:
    """Give a copy what else the system tells of the status of what it is a copy of."""
    if sys.platform != "win32" and more_status(path, copy):
        machine.effects.make_same(path, copy)


def _chunks(doing: Work, path: str) -> Iterator[bytes]:
    with doing.machine.open(path) as file:
        while chunk := file.read(_CHUNK):
            yield chunk


def with_hard_links(entries: Iterator[Entry]) -> Iterator[Entry]:
    """Give entries, each further name of a file that was given before as kind ``hard``."""
    first: dict[str, str] = {}
    for entry in entries:
        if entry.file_id and entry.file_id in first:
            yield entry.another_name(first[entry.file_id])
            continue
        if entry.file_id:
            first[entry.file_id] = entry.path
        yield entry


def beside(doing: Work, path: str, origin: str) -> str:
    """Return a path beside ``path`` where nothing is yet, named for where its contents come from.

    The ending of the name stays: ``a.view`` becomes ``a (from potting-shed).view``.
    """
    name = base(path)
    stem, dot, ending = name.rpartition(".") if "." in name[1:] else (name, "", "")
    number = 1
    while True:
        more = f" {number}" if number > 1 else ""
        free = join(parent(path), f"{stem} (from {origin}{more}){dot}{ending}")
        if doing.machine.look(free) is None:
            return free
        number += 1
