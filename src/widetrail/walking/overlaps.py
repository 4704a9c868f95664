"""Runs of one machine that changed the same places, and which of them came later.

Each walk has a turn, one more than any turn before it on that machine, and what it changes is told
after it in its journal. A run is undone before what came earlier in the same places, and settled
after it: what one run kept is another's way back.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from widetrail.errors import Halted
from widetrail.lazily import dataclass
from widetrail.machine import Machine
from widetrail.machine.own_folders import own_on
from widetrail.machine.paths import is_within, join, key, parent
from widetrail.steps.appending import Appending
from widetrail.steps.journal_events import Appeared, Moves, Record, Saved, ValuesSaving
from widetrail.steps.run_storage import OWN
from widetrail.walking.journal import RunJournal
from widetrail.walking.walk_events import (
    LegBegun,
    LegWasHalted,
    OfLeg,
    UndoBegun,
    Undone,
    read_record,
)

FILES = "files"
"""What changes are said to be of that are not those of a store."""


@dataclass(frozen=True)
class Overlap:
    """Another run of the machine that changed something of the same places, and one of those."""

    run: str
    path: str


def runs_on(machine: Machine) -> tuple[str, ...]:
    """Return the runs that have a journal on ``machine``."""
    host = machine.host(own_on(machine))
    if not host.is_dir():
        return ()
    return tuple(sorted(p.name for p in host.iterdir() if (p / "journal").is_file()))


def journal_of(machine: Machine, run: str) -> RunJournal:
    """Return the journal of a run on ``machine``; it need not be there.

    Raises:
        InputUnusable: It is damaged before its end.
    """
    path = join(own_on(machine), run, "journal")
    return RunJournal(machine.host(path), path, machine.effects, read_record)


def next_turn(machine: Machine) -> int:
    """Return the turn of a walk that begins on ``machine`` now."""
    begun = (r for run in runs_on(machine) for r in journal_of(machine, run).all(LegBegun))
    return 1 + max((record.turn for record in begun), default=0)


def _later_runs(machine: Machine, run: str) -> tuple[Overlap, ...]:
    """Return the runs that changed the same places after ``run`` did, the newest first."""
    return _others(machine, run, later=True)


def _earlier_runs(machine: Machine, run: str) -> tuple[Overlap, ...]:
    """Return the runs that changed the same places before ``run`` did, the oldest first."""
    return _others(machine, run, later=False)


def insist_newest(machine: Machine, run: str, what: str) -> None:
    """Raise where another run changed the same places since ``run`` did.

    ``what`` cannot be done then.

    Raises:
        Halted: Some did; they are named in the order in which they can be undone.
    """
    others = _later_runs(machine, run)
    if others:
        raise Halted(
            what,
            where=others[0].path,
            why=f"changed there later, by {_named(others)}, which {_is(others)} not settled",
            todo=f"Undo first, in this order: {', '.join(o.run for o in others)}.",
            codes=["later"],
        )


def insist_oldest(machine: Machine, run: str, what: str) -> None:
    """Raise where what ``run`` keeps is needed to undo an earlier one.

    ``what`` cannot be done then.

    Raises:
        Halted: Some do; they are named in the order in which they can be settled.
    """
    others = _earlier_runs(machine, run)
    if others:
        raise Halted(
            what,
            where=others[0].path,
            why=f"what it keeps is needed to undo {_named(others)}, which changed there before",
            todo=f"Settle first, in this order: {', '.join(o.run for o in others)}; or undo this "
            "run.",
            codes=["earlier"],
        )


def insist_not_half_way(machine: Machine, run: str, paths: Sequence[str], what: str) -> None:
    """Raise where another run was cut off or waits in the midst of changing one of ``paths``.

    Raises:
        Halted: One was; its way back would be lost if its places were changed by ``run`` now.
    """
    for other in runs_on(machine) if paths else ():
        theirs = _Changes(machine, other)
        if other == run or theirs.undone or not theirs.is_half_way:
            continue
        if met := theirs.met_by(paths):
            raise Halted(
                what,
                where=met,
                why=f"run {other} is not complete there",
                todo=f"Walk that one to its end, or undo it (widetrail undo {other}).",
                codes=["half-way"],
            )


def is_half_way(journal: RunJournal) -> bool:
    """Return whether a leg was begun here and is not at its end, or undoing is not."""
    if journal.has(UndoBegun):
        return not journal.has(Undone)
    last = journal.newest(OfLeg)
    return isinstance(last, LegBegun | LegWasHalted)


def _named(others: Sequence[Overlap]) -> str:
    return " and ".join(f"run {other.run}" for other in others)


def _is(others: Sequence[Overlap]) -> str:
    return "is" if len(others) == 1 else "are"


def _others(machine: Machine, run: str, *, later: bool) -> tuple[Overlap, ...]:
    mine = _Changes(machine, run)
    found: list[tuple[int, Overlap]] = []
    for other in runs_on(machine) if not mine.undone else ():
        if other == run:
            continue
        theirs = _Changes(machine, other)
        first, second = (mine, theirs) if later else (theirs, mine)
        path = "" if theirs.undone else first.met_later_by(second)
        if path:
            found.append((theirs.last, Overlap(other, path)))
    return tuple(overlap for _, overlap in sorted(found, key=lambda f: f[0], reverse=later))


class _Changes:
    """What a run changed on a machine, by what it was of and its path, with the turn of it."""

    def __init__(self, machine: Machine, run: str) -> None:
        self._machine = machine
        self._own = join(own_on(machine), run)
        self._turns: dict[tuple[str, str], tuple[str, int, int]] = {}
        journal = journal_of(machine, run)
        self.undone, self.is_half_way = journal.has(Undone), is_half_way(journal)
        self.last = 0
        for record in journal.records:
            self.last = record.turn if isinstance(record, LegBegun) else self.last
            for of, path in _changed_by(record):
                if not self._is_own(path):
                    self._take(of, path)

    def _take(self, of: str, path: str) -> None:
        at = of, key(path, self._machine.platform).rstrip("/")
        _, first, _ = self._turns.get(at, ("", self.last, 0))
        self._turns[at] = path, first, self.last

    def _is_own(self, path: str) -> bool:
        return f"{path}/".startswith(f"{self._own}/") or f"/{OWN}/" in path

    def met_by(self, paths: Sequence[str]) -> str:
        """Return one of ``paths`` that lies in, or holds, what the run changed of files."""
        mine = [path for (of, _), (path, *_) in self._turns.items() if of == FILES]
        platform = self._machine.platform
        return next(
            (
                path
                for path in paths
                for own in mine
                if is_within(path, own, platform) or is_within(own, path, platform)
            ),
            "",
        )

    def met_later_by(self, other: _Changes) -> str:
        """Return a path of this run's that ``other`` changed after it, with what is in it or what
        it is in, or an empty text."""
        return self._met(other, self, newer=True) or self._met(self, other, newer=False)

    @staticmethod
    def _met(inner: _Changes, outer: _Changes, *, newer: bool) -> str:
        """Return a path of ``inner`` that is or lies in one of ``outer``, where turns say so.

        That is where the inner one is ``newer``, or the outer one.
        """
        for (of, at), (path, first, last) in inner._turns.items():
            above = at
            while True:
                if (found := outer._turns.get((of, above))) is not None:
                    _, outer_first, outer_last = found
                    if (last > outer_first) if newer else (outer_last > first):
                        return path
                if not above or parent(above) == above:
                    break
                above = parent(above).rstrip("/")
        return ""


def _changed_by(record: Record) -> Iterator[tuple[str, str]]:
    """Give what a record of a journal says was changed: of what, and where.

    A folder that was merely made to hold something is no such change: it goes where it is empty.
    """
    match record:
        case Moves() | Appeared():
            for move in record.moves:
                if move.kind in ("out", "into"):
                    yield from ((FILES, path) for path in (move.source, move.target))
        case Saved():
            yield FILES, record.place
        case Appending():
            yield FILES, record.place
        case ValuesSaving():
            yield record.store, record.place.replace("\\", "/")
