"""Taking back what steps did, from what the journal of a station tells of each."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import field
from typing import Literal

from widetrail.finding.stores import StoreKind
from widetrail.formats.quantities import show_size
from widetrail.formats.stored_values import Mode, Text
from widetrail.lazily import dataclass
from widetrail.machine import Machine
from widetrail.machine.moves import Move, modes_of, taken_back
from widetrail.machine.paths import join, parent
from widetrail.steps.appending import Cut
from widetrail.steps.backup import back_to
from widetrail.steps.commands import show_command
from widetrail.steps.journal_events import (
    Appeared,
    LetGo,
    Moves,
    PutBack,
    Record,
    Saved,
    StepEnded,
    StepRecord,
    ValuesSaving,
)
from widetrail.steps.run_events import RunEnded, RunStarted, UndoneBy
from widetrail.steps.run_storage import UNDONE, Room

MANY = 12
"""Names of one folder from which on they are said together."""


@dataclass(frozen=True)
class UndoAct:
    """One act of undoing: moves, a command of the application, values of a store, or the end of a
    file that is ``cut`` off.

    ``values`` are the kind and place of a store whose values are given back, and where they are
    kept; ``modes`` those that folders have again after the moves, where they may not be written to.
    """

    moves: tuple[Move, ...] = ()
    command: tuple[Text, ...] = ()
    values: tuple[()] | tuple[StoreKind, Text, Text] = ()
    modes: Mapping[Text, Mode] = field(default_factory=dict)
    cut: Cut | None = None

    @property
    def words(self) -> str:
        """What it does, told from that alone."""
        told = list(_words(self.moves))
        if self.command:
            told.append(f"run {show_command(self.command)}")
        if self.values:
            told.append(f"give the values at {self.values[1]} back what they were before")
        if self.cut is not None:
            place, size = self.cut.place, show_size(self.cut.size)
            told.append(f"cut {place} back to the {size} that it had; what came after is put away")
        return "; ".join(told)


class WayBack:
    """The journal of a run that is undone, gone through from its newest record to its oldest."""

    def __init__(
        self, machine: Machine, workroom: str, records: Sequence[Record], sure: Collection[str]
    ) -> None:
        """``sure`` are steps of which a person says that they were done."""
        self.machine, self.sure = machine, sure
        self._workroom, self._records, self._count = workroom, records, 0
        self._put_back: Counter[tuple[str, str]] = Counter()

    def fresh(self, place: str) -> str:
        """Return a path on the volume of ``place`` at which what stands there is put away."""
        self._count += 1
        room = Room(self.machine, self._workroom, place, "")
        return join(room.home, UNDONE, str(self._count))

    def back(self, moves: Sequence[Move]) -> UndoAct:
        """Return the act that makes ``moves``."""
        return UndoAct(tuple(moves), modes=modes_of(self.machine, moves))

    def was_put_back(self, record: Saved) -> bool:
        """Return whether what a record says was saved was given back by the walk itself."""
        key = record.step, record.place
        given_back = self._put_back[key] > 0
        self._put_back[key] -= given_back
        return given_back

    def takes_note(self, record: Record) -> None:
        """Take note of a record that tells of what older ones say was saved."""
        if isinstance(record, PutBack):
            self._put_back[record.step, record.place] += 1

    def was_let_go(self, kept: str) -> bool:
        """Return whether what is kept at a path was let go of, since an older run keeps it too."""
        return any(isinstance(r, LetGo) and r.kept == kept for r in self._records)

    def is_ended(self, record: StepRecord) -> bool:
        """Return whether the step of a record came to its end after it, all its moves made."""
        later = _of_step(self._records[record.at + 1 :], record.step)
        return any(r.ends_moves or (isinstance(r, StepEnded) and r.well) for r in later)

    def was_made(self, move: Move) -> bool:
        """Return whether a move of a step that was cut off, or refused, was made."""
        there = self.machine.host(move.target).exists()
        if move.kind in ("folder", "out"):
            return there
        return there and not self.machine.host(move.source).exists()

    def is_newest(self, record: StepRecord) -> bool:
        """Return whether a record is the newest of its event and step."""
        return is_newest(self._records, record)

    def fate(self, step: str) -> Fate:
        """Return what is known of what a command did; see ``fate_of``."""
        return fate_of(self._records, step)


def _of_step(records: Sequence[Record], step: str) -> Iterator[StepRecord]:
    return (r for r in records if isinstance(r, StepRecord) and r.step == step)


def is_newest(records: Sequence[Record], record: StepRecord) -> bool:
    """Return whether a record is the newest of its event and step in a journal."""
    later = _of_step(records[record.at + 1 :], record.step)
    return not any(r.event == record.event for r in later)


def undo_record(record: Record, way: WayBack) -> Iterator[UndoAct]:
    """Give the acts that take back what a record of any kind of step tells."""
    match record:
        case Moves() | Appeared():
            all_made = way.is_ended(record)
            made = [m for m in record.moves if all_made or way.was_made(m)]
            if made:
                yield way.back(taken_back(made, way.fresh))
        case Saved():
            yield from _saved(record, way)
        case ValuesSaving():
            yield UndoAct(values=(record.store, record.place, record.kept))


def _saved(record: Saved, way: WayBack) -> Iterator[UndoAct]:
    if way.was_put_back(record):
        return
    kept = record.kept
    if kept and (way.was_let_go(kept) or not way.machine.host(kept).exists()):
        return  # an earlier one of the same place is kept, or it was put back already
    yield way.back(back_to(record, way.fresh(record.place)))


Fate = Literal["ours", "none", "unknown"]


def fate_of(records: Sequence[Record], step: str) -> Fate:
    """Return what is known of what a command did that can be taken back by another.

    It is ours where it ended well, or what the recipe says it makes was not there before and is
    there now. What was there before it ran first is not; and there is nothing of one that never
    ran.
    """
    ran = False
    fate: Fate = "none"
    for record in _of_step(records, step):
        match record:
            case UndoneBy() if not ran:
                before = record.before
            case RunStarted():
                ran, fate = True, "unknown"
            case RunEnded():
                made = not record.trouble or (before is False and record.done is True)
                fate = "ours" if made else "none" if record.done is False else "unknown"
            case StepEnded() if ran and record.well:
                fate = "ours"
    return "none" if ran and before is True else fate


def _words(moves: tuple[Move, ...]) -> Iterator[str]:
    """Give moves in words; many names of one folder are said together."""
    into = [m for m in moves if m.kind == "into"]
    out = [m for m in moves if m.kind == "out"]
    if len(into) + len(out) > MANY:
        folders = dict.fromkeys(parent(m.target if m.kind == "into" else m.source) for m in moves)
        first = next(iter(folders))
        more = f" and {len(folders) - 1} more folders" if len(folders) > 1 else ""
        yield f"move {len(out)} names away and {len(into)} back, in {first}{more}"
        return
    if not into and not out:
        for move in moves:
            verb = "make" if move.kind == "folder" else "remove, if it is empty,"
            yield f"{verb} the folder {move.target}"
        return
    back = {m.target for m in into}
    for move in moves:
        if move.kind == "out" and move.source not in back:
            yield f"move {move.source} away; nothing existed there before"
        elif move.kind == "into":
            yield f"restore what was at {move.target} before, and move away what is there now"
