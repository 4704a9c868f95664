"""``publish``: an item's cargo to its place on new, staged first, then renamed into place.

What stands there is put aside by a rename of the same kind, so nothing is ever written over. The
moves are written down before the first is made; a walk that was cut off makes the rest.
"""

from __future__ import annotations

import os
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path

from widetrail.errors import Halted, WentWrong
from widetrail.finding import Selection
from widetrail.machine import EffectFailed, Machine, file_digest
from widetrail.machine.moves import Move, below, carry_out, roll_back, times_of
from widetrail.machine.paths import base, join
from widetrail.recipe.arms import MET, reach
from widetrail.recipe.templates import plain
from widetrail.steps.interface import CargoEntry, Doing, Done, Facts, Outcome, Step
from widetrail.steps.pathways import make_paths_right
from widetrail.steps.room import ASIDE, STAGING, Room
from widetrail.steps.saving import beside, missing_folders, moves_of, room_at
from widetrail.steps.writing import TreeWriter

EXISTING = {
    "put aside": "what is there of it already is put aside",
    "stop": "it must not be there yet",
    "overwrite": "files of the same name are put aside, others stay",
    "alongside": "where something is there already, it comes beside it under another name",
    "pass by": "files that are there already stay, and those carried are left in the parcel",
}

CHECKPOINT = 96 * 1024 * 1024
"""Bytes that are staged, at least, before what was staged so far is made durable."""

CHECKPOINT_FILES = 5000
"""Entries that are staged, at least, before it is, where they are small."""


VERIFIERS = 4
"""Files that are read back from the disk at a time."""

FEW = 1024 * 1024
"""Bytes up to which all that is read back is read one file after the other."""


class Publish:
    """Stages, verifies, puts aside and publishes."""

    def words(self, step: Step) -> str:
        where = plain(step.text("to")) or "its place"
        return f"put {step.item} in place at {where}; {EXISTING[step.text('existing')]}"

    def do(self, step: Step, doing: Doing) -> Outcome:
        published = doing.recorded("published", step.id)
        if published is not None:
            facts = published["facts"]
            assert isinstance(facts, dict)
            return Done(facts)
        return _Publishing(step, doing).do()


@dataclass
class _Publishing:
    """One item on its way to its place."""

    step: Step
    doing: Doing
    target: str = ""
    facts: Facts = field(default_factory=dict)

    def do(self) -> Outcome:
        doing, step = self.doing, self.step
        given = step.text("given")
        self.target = doing.fill(step, step.text("to")) if given else doing.pinned(step.item)
        room = room_at(doing, self.target, step.item)
        doing.await_closed(step.item)
        begun = doing.recorded("moves", step.id)
        staged = self._staged(room)
        doing.await_closed(step.item)
        if begun is None:
            moves = self._planned(staged, room)
            self.facts |= make_paths_right(step, doing, staged, self.target)
            told = [move.told() for move in moves]
            times = times_of(doing.machine, moves)
            doing.record("moves", step=step.id, moves=told, times=times, facts=self.facts)
        else:
            moves = moves_of(begun)
            self.facts = dict(begun["facts"])  # type: ignore[arg-type]
        try:
            carry_out(doing.machine, moves, lambda path: self._appeared(path, room))
        except Halted:
            with suppress(
                EffectFailed
            ):  # the same walk again makes them, whatever state they are in
                roll_back(doing.machine, moves)
            raise
        self.facts |= self._put_aside(moves, join(room.home, ASIDE))
        doing.record("published", step=step.id, facts=self.facts)
        room.clear(staged)
        return Done(self.facts)

    # Staging

    def _staged(self, room: Room) -> str:
        """Return where all of the item lies ready, staging what is not staged yet."""
        doing = self.doing
        ready = doing.recorded("staged", self.step.id)
        if ready is not None and self._is_there(str(ready["path"])):
            return str(ready["path"])
        begun = doing.recorded("staging", self.step.id)
        if begun is not None and doing.machine.host(str(begun["path"])).is_dir():
            try:
                return self._stage(str(begun["path"]))
            except WentWrong:  # the power went, and what had been written was not whole yet
                room.clear(str(begun["path"]))
        folder = room.fresh(STAGING)
        doing.record("staging", step=self.step.id, path=folder)
        try:
            return self._stage(folder)
        except BaseException:
            if doing.recorded("staged so far", self.step.id) is None:
                room.clear(folder)
            raise

    def _is_there(self, staged: str) -> bool:
        moving = self.doing.recorded("moves", self.step.id) is not None
        return moving or self.doing.machine.host(staged).is_dir()

    def _stage(self, folder: str) -> str:
        """Stage what of the item is not in ``folder`` yet, verify it, and return the folder."""
        doing, effects = self.doing, self.doing.machine.effects
        entries, top = doing.packed.of(self.step.item), doing.machine.host(folder)
        so_far = doing.recorded("staged so far", self.step.id)
        count = int(str(so_far["count"])) if so_far and so_far["path"] == folder else 0
        resumed = os.path.lexists(top)
        writer = TreeWriter(effects, top, begun=resumed)
        for entry in entries[:count]:
            writer.passed(entry, entry.path)
        total = sum(entry.size for entry in entries)
        every = max(CHECKPOINT, total // 16)
        since = done = sum(entry.size for entry in entries[:count])
        begun, first = doing.clock(), count
        for number, entry in enumerate(entries[count:], start=count + 1):
            if resumed and writer.is_written(entry, entry.path):
                writer.passed(entry, entry.path)
            else:
                writer.write(entry, entry.path, doing.packed.chunks, entry.attributes_by_name)
            done += entry.size
            left = (total - done) * (doing.clock() - begun) / done if done else None
            doing.onlooker.moves(done, total, "bytes", left, (number, len(entries)))
            due = done - since >= every or number - first >= CHECKPOINT_FILES
            if due and number < len(entries):
                effects.barrier(top)
                self._verify(top, folder, entries[first:number])
                doing.record("staged so far", step=self.step.id, path=folder, count=number)
                since, first = done, number
        writer.finish()
        effects.barrier(top)
        self._verify(top, folder, entries[first:])
        files = [e for e in entries if e.kind in ("file", "hard")]
        self.facts = {
            "files": len(files),
            "size": sum(e.size for e in files),
            "verified": len(files),
            "without attributes": list(writer.without_attributes),
        }
        doing.record("staged", step=self.step.id, path=folder, facts=self.facts)
        return folder

    def _verify(self, top: Path, shown: str, entries: tuple[CargoEntry, ...]) -> None:
        """Read staged files from the disk and compare them with what was packed.

        Raises:
            ParcelUnusable: What is in the parcel is not what was packed.
            WentWrong: What is on the disk is not what is in the parcel.
        """
        files = [entry for entry in entries if entry.kind == "file"]
        above = f"{top}{os.sep}"

        def differing(some: list[CargoEntry]) -> list[CargoEntry]:
            return [entry for entry in some if file_digest(f"{above}{entry.path}") != entry.sha256]

        if sum(entry.size for entry in files) < FEW:
            found = iter([differing(files)])
        else:  # the disk is waited for and hashing lets others run, so several read at a time
            with ThreadPoolExecutor(VERIFIERS) as pool:
                found = pool.map(differing, [files[n::VERIFIERS] for n in range(VERIFIERS)])
        for entry in (entry for some in found for entry in some):
            self.doing.packed.insist(entry)
            raise WentWrong(
                "what was written is not what was packed", where=below(shown, entry.path),
                why="its SHA-256 differs when it is read again",
                todo="Check the disk, then walk again; nothing was put in place.",
            )  # fmt: skip

    # Placing

    def _planned(self, staged: str, room: Room) -> list[Move]:
        """Return the moves that bring what is staged into place, as ``existing`` says."""
        told = self.doing.recorded("staged", self.step.id)
        self.facts = dict(told["facts"]) if told is not None else {}  # type: ignore[arg-type]
        self.facts |= {"passed by": [], "beside": []}
        existing, machine, item = self.step.text("existing"), self.doing.machine, self.step.item
        selection = Selection(self.doing.item(item), machine.platform)
        single = bool(self.step.text("single"))
        whole = selection.whole or single
        there = list(_there(machine, self.target, selection, whole=whole))
        if there:
            reach(self.doing.finder(item).loaded, self.doing.route(item), MET)
        if existing == "stop" and there:
            raise self._stopped()
        source = self._only(staged) if single else staged
        if whole and existing == "alongside" and there:
            self.target, there = beside(self.doing, self.target, self.doing.other()), []
        self.facts["to"] = self.target
        if single and existing == "pass by" and there:
            self.facts["passed by"] = [base(self.target)]
            return []
        in_the_way = (
            there == [""] and (found := machine.look(self.target)) and found.kind != "folder"
        )
        goes_whole = whole and (existing in ("put aside", "stop") or not there)
        if single or in_the_way or goes_whole:
            out = [Move("out", self.target, room.fresh(ASIDE))] if there else []
            return [
                *out,
                *missing_folders(machine, self.target),
                Move("into", source, self.target),
            ]
        aside = room.fresh(ASIDE)
        gone = there if existing == "put aside" else []
        out = [Move("out", join(self.target, p), join(aside, p)) for p in gone]
        folders = missing_folders(machine, join(self.target, "x"))
        return [*out, *folders, *self._merged(Path(machine.host(staged)), staged, aside, set(gone))]

    def _only(self, staged: str) -> str:
        """Return where the one file of a single-file item lies ready."""
        (entry,) = self.doing.packed.of(self.step.item)
        return join(staged, entry.path)

    def _stopped(self) -> Halted:
        return Halted(
            "something is there already", where=self.target, why="the recipe says to stop then",
            todo="Move it away, then walk again.",
        )  # fmt: skip

    def _merged(self, top: Path, staged: str, aside: str, gone: set[str]) -> Iterator[Move]:
        """Give the moves of each staged name; a folder that is not there yet goes whole."""
        machine, existing = self.doing.machine, self.step.text("existing")
        waiting = [""]
        while waiting:
            folder = waiting.pop()
            for name in sorted(os.listdir(top / folder)):
                path = f"{folder}/{name}" if folder else name
                source, target = join(staged, path), join(self.target, path)
                is_folder = (top / path).is_dir() and not (top / path).is_symlink()
                there = None if path in gone else machine.look(target)
                if there is None:
                    yield Move("into", source, target)
                elif is_folder and there.kind == "folder":
                    waiting.append(path)
                elif existing == "pass by":
                    self._list("passed by").append(path)
                elif existing == "alongside":
                    target = beside(self.doing, target, self.doing.other())
                    self._list("beside").append(target)
                    yield Move("into", source, target)
                else:
                    yield Move("out", target, join(aside, path))
                    yield Move("into", source, target)

    def _list(self, name: str) -> list[object]:
        listed = self.facts[name]
        assert isinstance(listed, list)
        return listed

    def _appeared(self, path: str, room: Room) -> str:
        """Write down that what appeared at ``path`` meanwhile is put aside, and return where."""
        if self.step.text("existing") == "stop":
            raise self._stopped()
        away = room.fresh(ASIDE)
        move = Move("out", path, away)
        self.doing.record("appeared", step=self.step.id, moves=[move.told()], times={})
        return away

    def _put_aside(self, moves: list[Move], aside: str) -> Facts:
        """Return where what was there before is kept, and what had appeared meanwhile."""
        later = [r for r in self.doing.records("appeared") if r["step"] == self.step.id]
        appeared = [move for r in later for move in moves_of(r)]
        out = [move for move in [*moves, *appeared] if move.kind == "out"]
        tops = (move.target[len(aside) + 1 :].split("/")[0] for move in out)
        kept = dict.fromkeys(join(aside, top) for top in tops)
        return {"put aside": list(kept), "appeared": [move.source for move in appeared]}


def _there(machine: Machine, target: str, selection: Selection, *, whole: bool) -> Iterator[str]:
    """Give what of the item is at ``target`` already: itself, or names below it that it takes."""
    entry = machine.look(target)
    if entry is None:
        return
    if whole or entry.kind != "folder":
        yield ""
        return
    yield from [e.path for e in selection.walk(machine, target) if e.kind != "folder"]
