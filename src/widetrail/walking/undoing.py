"""Undoing a move at a station, from the station's journal alone, and settling it for good.

Undoing gives every place back what was there before; what stands there now is put away and kept
until the run is settled. What it will do is written down before the first of it is done, so a
second call goes on where one was cut off.
"""

from __future__ import annotations

import json
from collections.abc import Collection, Iterator
from datetime import datetime

from widetrail.errors import Halted, InputUnusable, WideTrailError
from widetrail.finding.stores import Store, StoreKind
from widetrail.formats.outside import bytes_below, read_outside
from widetrail.machine import Machine
from widetrail.machine.moves import (
    Move,
    carry_out,
    restore_times,
)
from widetrail.machine.own_folders import own_on
from widetrail.machine.paths import base, join, parent
from widetrail.steps import ACTS
from widetrail.steps.appending import cut_off
from widetrail.steps.commands import show_command
from widetrail.steps.journal_events import Changing, StepBegun, StepRecord, ValuesSaved
from widetrail.steps.run_events import UndoneBy
from widetrail.steps.run_storage import ASIDE, SAVED, STAGING, UNDONE, Room
from widetrail.steps.undo import UndoAct, WayBack, fate_of, is_newest
from widetrail.walking.overlaps import (
    insist_newest,
    insist_oldest,
    is_half_way,
    journal_of,
    runs_on,
)
from widetrail.walking.run_folders import LOCK, at_work, clear_work, own_homes, take_away
from widetrail.walking.seats import Ledger, SeatLine, ledger_of_machine, undone_todo
from widetrail.walking.step_context import END_WITHIN
from widetrail.walking.undo_plan import Doubt, PutAway, UndoPlan
from widetrail.walking.walk_context import Company
from widetrail.walking.walk_events import (
    LegBegun,
    MadeFolders,
    Pinned,
    UndoBegun,
    Undone,
    UndoRan,
)


class Run:
    """One run as the journal of a station tells it."""

    def __init__(self, machine: Machine, name: str = "", company: Company | None = None) -> None:
        """Open the run ``name``, or the only one there is.

        Raises:
            InputUnusable: There is no such run, or which is meant must be said.
        """
        known = runs_on(machine)
        if not name and len(known) != 1:
            why = f"known: {', '.join(known)}" if known else "there is no journal of a run there"
            todo = "Specify the run." if known else "Specify the machine with --machine."
            raise InputUnusable(f"specify the run on {machine.name}", why=why, todo=todo)
        self.name = name or known[0]
        if self.name not in known:
            why = f"known: {', '.join(known) or 'none'}"
            raise InputUnusable("run not found", where=self.name, why=why)
        self.machine, self._company = machine, company or Company()
        self.workroom = join(own_on(machine), self.name)
        self.journal = journal_of(machine, self.name)

    # Undoing

    @property
    def undone(self) -> bool:
        """Whether it was undone here."""
        return self.journal.has(Undone)

    @property
    def went_wrong(self) -> tuple[str, ...]:
        """What went wrong with commands while it was undone."""
        record = self.journal.newest(Undone)
        return record.wrong if record is not None else ()

    def undo_plan(self, take_back: Collection[str] = ()) -> UndoPlan:
        """Return what undoing would do; nothing is changed by asking.

        ``take_back`` are the steps of ``doubts`` of which a person says that they were done.

        Raises:
            Halted: A later run changed the same places, and must be undone first.
        """
        begun = self.journal.newest(UndoBegun)
        if begun is not None:
            return UndoPlan(begun.acts, begun.cannot)
        what = f"run {self.name} cannot be undone on {self.machine.name} yet"
        insist_newest(self.machine, self.name, what)
        doubts = tuple(d for d in self._doubts() if d.step not in take_back)
        cannot = (*self._cannot(), *(_in_doubt(doubt) for doubt in doubts))
        return UndoPlan(tuple(self._acts(take_back)), cannot, doubts)

    def _acts(self, take_back: Collection[str]) -> Iterator[UndoAct]:
        """Give what takes the run back, each kind of step telling what is to be done for it."""
        records = self.journal.records
        kinds = {r.step: r.kind for r in self.journal.all(StepBegun)}
        way = WayBack(self.machine, self.workroom, records, take_back)
        for record in reversed(records):
            way.takes_note(record)
            kind = kinds.get(record.step, "") if isinstance(record, StepRecord) else ""
            if (act := ACTS.get(kind)) is not None:
                yield from act.undo(record, way)

    def _doubts(self) -> Iterator[Doubt]:
        records = self.journal.records
        for record in self.journal.all(UndoneBy):
            if is_newest(records, record) and fate_of(records, record.step) == "unknown":
                begun = self.journal.newest(StepBegun, step=record.step)
                words = begun.words if begun is not None else record.step
                yield Doubt(record.step, words, record.command)

    def _cannot(self) -> Iterator[str]:
        for line in self._seats():
            if todo := "" if line.seat.at_end else undone_todo(line):
                yield f"what was done with the seat of {line.title} ({line.words}). {todo}"
            elif line.seat.attempts:
                yield f"what was done with the seat of {line.title}: {line.words}."
        told: set[str] = set()
        for record in self.journal.all(StepBegun):
            if record.step in told:
                continue
            told.add(record.step)
            act = ACTS.get(record.kind)
            if act and (left := act.left_after_undo(record.words, loose=record.loose)):
                yield left

    def _seats(self) -> Iterator[SeatLine]:
        return (line for line in ledger_of_machine(self.machine) if line.run == self.name)

    def undo(self, now: datetime, take_back: Collection[str] = ()) -> UndoPlan:
        """Undo the run here; a second call goes on where one was cut off.

        ``take_back`` is as in ``undo_plan``.

        Raises:
            Halted: It was undone already, a later run must be undone before, or a program must be
                closed first.
            EffectFailed: The system refuses; what was undone stays so.
        """
        if self.undone:
            raise Halted(
                f"run {self.name} was undone on {self.machine.name} before", why="nothing changed"
            )
        self._await_closed()
        with at_work(self.machine, self.journal, self.workroom):
            return self._undo(now, take_back)

    def _undo(self, now: datetime, take_back: Collection[str]) -> UndoPlan:
        plan = self.undo_plan(take_back)
        if not self.journal.has(UndoBegun):
            moment = now.isoformat(timespec="seconds")
            self.journal.add(
                UndoBegun(time=moment, acts=plan.acts, cannot=plan.cannot, times=self._times())
            )
        wrong = [trouble for n, act in enumerate(plan.acts) if (trouble := self._do(n, act))]
        begun = self.journal.newest(UndoBegun)
        restore_times(self.machine, begun.times if begun is not None else {})
        for home in self._homes():
            take_away(self.machine, join(home, STAGING))
            for name in (ASIDE, SAVED):  # all of it went back: what is left held names only
                take_away(self.machine, join(home, name), only_empty=True)
        clear_work(self.machine, self.workroom, self.journal.records)
        self.journal.add(Undone(wrong=tuple(wrong)))
        return plan

    def _do(self, number: int, act: UndoAct) -> str:
        """Do one act and return what went wrong with a command."""
        if act.moves:
            carry_out(self.machine, act.moves, self._taken, act.modes)
        if act.values:
            self._give_back(*act.values)
        if act.cut is not None and (trouble := cut_off(self.machine, act.cut)):
            return trouble
        if not act.command or self.journal.has(UndoRan, act=number):
            return ""
        program, *arguments = act.command
        try:
            done = self.machine.start(program, arguments, END_WITHIN)
            trouble = f"it ended with {done.status}" if done.status else ""
        except WideTrailError as error:
            trouble = str(error)
        self.journal.add(UndoRan(act=number))
        return f"{act.words}: {trouble}" if trouble else ""

    def _give_back(self, kind: StoreKind, place: str, kept: str) -> None:
        """Give values back what they were; what they are now is kept until the run is settled."""
        host = self.machine.host(kept)
        if not host.is_file():  # it was done by a call that was cut off
            return
        if not self.journal.has(ValuesSaved, kept=kept):  # nothing was changed yet
            self.machine.effects.remove_file(host)
            return
        before: dict[str, str | None] = json.loads(read_outside(host))
        store = Store(self.machine, kind, place)
        now = self.machine.host(join(parent(parent(kept)), UNDONE, f"{base(kept)}.values"))
        if not now.exists():
            there = store.read()
            self.machine.effects.keep_private(now.parent)
            self.machine.effects.put(
                now, json.dumps({name: there.get(name) for name in before}).encode()
            )
        store.change(before)
        self.machine.effects.remove_file(host)
        self.machine.effects.sync_folder(host.parent)

    def _taken(self, path: str) -> str:
        """Return where what appeared at a place while it was undone is put."""
        room = Room(self.machine, self.workroom, path, "appeared")
        return room.fresh(UNDONE)

    def _times(self) -> dict[str, int]:
        """Return what the times of folders were before the run first changed the names in them."""
        times: dict[str, int] = {}
        for record in self.journal.all(Changing):
            for folder, moment in record.times.items():
                times.setdefault(folder, moment)
        return times

    def _await_closed(self) -> None:
        pinned = self.journal.newest(Pinned) or Pinned(places={})

        def what() -> str:
            signs = [
                f"{name} is open: {line}"
                for name, programs in sorted(pinned.programs.items())
                for program in programs
                for line in self.machine.running(program)
            ]
            locks = (p for paths in pinned.locks.values() for p in paths)
            signs += [f"{path} is there" for path in locks if self.machine.look(path)]
            return "; ".join(signs)

        company = self._company
        company.patience.await_(what, "Close it, then undo again.", company.onlooker)

    # Settling

    @property
    def unfinished(self) -> str:
        """Why the run cannot be settled here yet, or an empty text."""
        if (line := self._on_its_way) is not None:
            return f"the seat of {line.title} is on its way: {line.words}"
        if self.undone or not is_half_way(self.journal):
            return ""
        if self.journal.has(UndoBegun):
            return "undoing it was begun and is not complete"
        return "its leg here is not complete"

    @property
    def _on_its_way(self) -> SeatLine | None:
        """A seat whose end is not known here, and that no later move took over."""
        open_ones = (s for s in self._seats() if s.seat.act or s.seat.stage == "renounced")
        return next((line for line in open_ones if not line.at_end), None)

    def kept(self) -> tuple[tuple[str, int], ...]:
        """Return what settling removes: each folder of the run's own with its bytes."""
        return tuple((home, bytes_below(self.machine.host(home))) for home in self._homes())

    def put_away(self) -> PutAway:
        """Return what was put away while it was undone and is kept still.

        What the person did since the walk is among it.
        """
        begun = self.journal.newest(UndoBegun)
        acts = begun.acts if begun is not None else ()
        out = [m for act in acts for m in act.moves if m.kind == "out"]
        kept = [m for m in out if self.machine.host(m.target).exists()]
        values = [f"{act.values[1]} (values)" for act in acts if act.values]
        walked = self.journal.newest(LegBegun)
        since = datetime.fromisoformat(walked.time).timestamp() if walked is not None else 0.0
        changed = [path for m in kept for path in self._changed_since(m, since)]
        cut = [c.place for act in acts if (c := act.cut) and self.machine.host(c.away).exists()]
        return PutAway((*(m.source for m in kept), *values, *cut), tuple(changed))

    def _changed_since(self, move: Move, since: float) -> Iterator[str]:
        """Give where files stood that were changed after a moment, of what a move put away."""
        top = self.machine.host(move.target)
        found = [*top.below()] if top.is_dir() else [top]
        for path in found:
            if path.is_file() and path.stat().st_mtime > since:
                below = path.relative_to(top).as_posix()
                yield join(move.source, below) if below != "." else move.source

    def warnings(self) -> tuple[str, ...]:
        """Return what is not known here and should be, before all that is kept goes."""
        return tuple(
            f"the seat of {line.title} was released here; whether {line.new} has it is not known "
            "here (see: widetrail seat PARCEL), and what is kept of its serial goes too"
            for line in self._seats()
            if line.seat.stage == "released" and not line.at_end
        )

    def insist_finished(self) -> None:
        """Raise where the run cannot be settled here yet.

        Raises:
            Halted: The run is not at its end here.
        """
        if self.unfinished:
            line = self._on_its_way
            todo = "Walk it to its end, or undo it, first."
            if line is not None:
                todo = f"{line.todo} Where the parcel is lost, plan the move again on {line.old}."
            raise Halted(
                f"run {self.name} cannot be settled on {self.machine.name}",
                why=self.unfinished,
                todo=todo,
            )
        what = f"run {self.name} cannot be settled on {self.machine.name} yet"
        insist_oldest(self.machine, self.name, what)

    def settle(self) -> None:
        """Remove all that the run keeps here, its journal last.

        Raises:
            Halted: The run is not at its end here.
        """
        self.insist_finished()
        with at_work(self.machine, self.journal, self.workroom):
            self._take_all_away()
        self._settle_seats()
        self._leave()

    def forget(self) -> None:
        """Remove all that the run keeps here, whether it is at its end or not.

        Raises:
            Halted: Another process is at work on it.
        """
        with at_work(self.machine, self.journal, self.workroom):
            self._take_all_away()
        self._leave()

    def _leave(self) -> None:
        """Remove the journal, and the folders that were made for it where nothing else is in."""
        made = self.journal.newest(MadeFolders)
        take_away(self.machine, self.workroom)
        at, count = parent(self.workroom), max(2, made.count if made is not None else 0)
        for _ in range(min(count, self.workroom.count("/")) - 1):
            take_away(self.machine, at, only_empty=True)
            at = parent(at)

    def _settle_seats(self) -> None:
        """Remove the ledger of seats, where no other run of this machine needs it."""
        ledger = Ledger(self.machine)
        if all(line.run == self.name or not line.todo for line in ledger_of_machine(self.machine)):
            take_away(self.machine, ledger.room)

    def _take_all_away(self) -> None:
        """Remove what the run keeps on every disk, but its journal."""
        for home in self._homes():
            for name in sorted(p.name for p in self.machine.host(home).iterdir()):
                if name not in ("journal", LOCK):
                    take_away(self.machine, join(home, name))
            if home != self.workroom:
                take_away(self.machine, home)
                take_away(self.machine, parent(home), only_empty=True)

    def _homes(self) -> list[str]:
        return own_homes(self.machine, self.workroom, self.journal.records)


def clear_settled(machine: Machine) -> bool:
    """Remove what a settling that was cut off at its very end left; return whether there was any.

    That is a folder of runs in which none has a journal, nor anything else but its lock.
    """
    runs = own_on(machine)
    host = machine.host(runs)
    if not host.is_dir():
        return False
    for left in host.iterdir():
        if not left.is_dir() or {path.name for path in left.iterdir()} - {LOCK}:
            return False
    take_away(machine, runs)
    return True


def _in_doubt(doubt: Doubt) -> str:
    back = show_command(doubt.command)
    return (
        f"it is not known whether this was done: {doubt.words}. If it was, and was not so before, "
        f"take it back with: {back} (or undo with --take-back {doubt.step})"
    )
