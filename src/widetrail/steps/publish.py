"""``publish``: an item's cargo to its place on new, staged first, then renamed into place.

What stands there is put aside by a rename of the same kind, so nothing is ever written over. The
moves are written down before the first is made; a walk that was cut off makes the rest.
"""

from __future__ import annotations

import os
from collections.abc import Collection, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass, field
from typing import cast

from widetrail.errors import Halted, WentWrong
from widetrail.finding import Selection
from widetrail.finding.selection import is_database
from widetrail.formats.companions import BESIDE, database_of
from widetrail.formats.outside import SafePath, names_in
from widetrail.machine import EffectFailed, Machine, file_digest
from widetrail.machine.moves import Move, below, carry_out, modes_of, roll_back, times_of
from widetrail.machine.own import own_below
from widetrail.machine.paths import base, join
from widetrail.recipe.arms import MET, reach
from widetrail.recipe.templates import plain
from widetrail.steps.interface import CargoEntry, Doing, Done, Facts, Outcome, Step
from widetrail.steps.pathways import make_paths_right
from widetrail.steps.room import ASIDE, STAGING, Room
from widetrail.steps.saving import beside, missing_folders, modes_in, moves_of, room_at
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
            came_as = cast(dict[str, str], self.facts["came as"])
            self.facts |= make_paths_right(step, doing, staged, self.target, came_as)
            told = [move.told() for move in moves]
            times, modes = times_of(doing.machine, moves), modes_of(doing.machine, moves)
            facts: Facts = {"times": times, "modes": modes, "facts": self.facts}
            doing.record("moves", step=step.id, moves=told, **facts)
        else:
            moves, modes = moves_of(begun), dict(modes_in(begun))
            self.facts = dict(begun["facts"])  # type: ignore[arg-type]
        try:
            carry_out(doing.machine, moves, lambda path: self._appeared(path, room), modes)
        except Halted:
            with suppress(
                EffectFailed
            ):  # the same walk again makes them, whatever state they are in
                roll_back(doing.machine, moves)
            raise
        self._make_place_same(moves)
        self.facts |= self._put_aside(moves, join(room.home, ASIDE))
        doing.record("published", step=step.id, facts=self.facts)
        room.clear(staged)
        return Done(self.facts)

    def _make_place_same(self, moves: list[Move]) -> None:
        """Give a place that was made here the mode, times and attributes that old's has.

        One that was there keeps its own; where others may read it, who could not on old, that is
        told.
        """
        top = next((e for e in self.doing.packed.of(self.step.item) if not e.path), None)
        host = self.doing.machine.host(self.target)
        if top is None or not host.is_dir():
            return
        effects = self.doing.machine.effects
        if Move("folder", "", self.target) in moves:
            if attributes := top.attributes_by_name:
                effects.set_attributes(host, attributes)
            effects.set_status(host, top.mode, top.mtime)
        elif host.stat().st_mode & ~top.mode & 0o007 and top.mode & 0o007 == 0:
            self.facts["open to others"] = [self.target]

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
        resumed = top.exists()
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

    def _verify(self, top: SafePath, shown: str, entries: tuple[CargoEntry, ...]) -> None:
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
                "what was written is not what was packed",
                where=below(shown, entry.path),
                why="its SHA-256 differs when it is read again",
                todo="Check the disk, then walk again; nothing was put in place.",
            )

    # Placing

    def _planned(self, staged: str, room: Room) -> list[Move]:
        """Return the moves that bring what is staged into place, as ``existing`` says."""
        told = self.doing.recorded("staged", self.step.id)
        self.facts = dict(told["facts"]) if told is not None else {}  # type: ignore[arg-type]
        self.facts |= {"passed by": [], "beside": [], "came as": {}}
        existing, machine, item = self.step.text("existing"), self.doing.machine, self.step.item
        own = own_below(machine, self.target)
        shared = bool(self.step.text("shared") or own)
        carved = (*(self.doing.carved(item) if shared else ()), *own)
        selection = Selection(self.doing.item(item), machine.platform, carved)
        single = bool(self.step.text("single"))
        whole = (selection.whole and not shared) or single
        there = list(_there(machine, self.target, selection, whole=whole))
        if there:
            reach(self.doing.finder(item).loaded, self.doing.route(item), MET)
        if existing == "stop" and there:
            raise self._stopped()
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
        aside = room.fresh(ASIDE)
        if single or in_the_way or goes_whole:
            out = [Move("out", self.target, aside)] if there else []
            into = [Move("into", staged, self.target)]
            if single:
                into = list(self._single(staged))
                out += self._journals_away(into, {m.source for m in out}, aside)
            return [*out, *missing_folders(machine, self.target), *into]
        gone = there if existing == "put aside" else []
        out = [Move("out", join(self.target, p), join(aside, p)) for p in gone]
        folders = missing_folders(machine, join(self.target, "x"))
        merged = list(self._merged(machine.host(staged), staged, aside, set(gone)))
        away = {m.source for m in (*out, *merged) if m.kind == "out"}
        out += self._journals_away([m for m in merged if m.kind == "into"], away, aside)
        return [*out, *folders, *merged]

    def _single(self, staged: str) -> Iterator[Move]:
        """Give the moves of an item that is one file, and of its journals, which take its name."""
        first, *journals = self.doing.packed.of(self.step.item)
        yield Move("into", join(staged, first.path), self.target)
        for entry in journals:
            ending = entry.path.removeprefix(first.path)
            yield Move("into", join(staged, entry.path), f"{self.target}{ending}")

    def _journals_away(self, into: Sequence[Move], away: Collection[str], aside: str) -> list[Move]:
        """Return the moves that put away what lies beside a database that is replaced.

        The journals of another database would damage the one that comes.
        """
        machine, coming = self.doing.machine, {move.target for move in into}
        found, single = list[Move](), bool(self.step.text("single"))
        for move in into:
            if not is_database(machine, move.source):
                continue
            for ending in BESIDE:
                path = f"{move.target}{ending}"
                seen_to = path in away or (path in coming and not single)
                if not seen_to and machine.look(path) is not None:
                    below = path[len(self.target) :]
                    found.append(Move("out", path, f"{aside}{below}"))
        return found

    def _stopped(self) -> Halted:
        return Halted(
            "something is there already",
            where=self.target,
            why="the recipe says to stop then",
            todo="Move it away, then walk again.",
        )

    def _merged(self, top: SafePath, staged: str, aside: str, gone: set[str]) -> Iterator[Move]:
        """Give the moves of each staged name; a folder that is not there yet goes whole."""
        machine, existing = self.doing.machine, self.step.text("existing")
        waiting, went = [""], dict[str, str]()
        while waiting:
            folder = waiting.pop()
            for name in sorted(names_in(top / folder)):
                path = f"{folder}/{name}" if folder else name
                source, target = join(staged, path), join(self.target, path)
                is_folder = (top / path).is_dir()
                there = None if path in gone else machine.look(target)
                database, ending = database_of(path)
                if database in went:  # a journal goes where its database goes
                    if went[database]:
                        called = f"{went[database]}{ending}"
                        self._came_as(path, called)
                        yield Move("into", source, called)
                elif there is None:
                    yield Move("into", source, target)
                elif is_folder and there.kind == "folder":
                    waiting.append(path)
                elif existing == "pass by":
                    self._list("passed by").append(path)
                    went[path] = ""
                elif existing == "alongside":
                    went[path] = beside(self.doing, target, self.doing.other())
                    self._list("beside").append(went[path])
                    self._came_as(path, went[path])
                    yield Move("into", source, went[path])
                else:
                    yield Move("out", target, join(aside, path))
                    yield Move("into", source, target)

    def _came_as(self, path: str, called: str) -> None:
        cast(dict[str, str], self.facts["came as"])[path] = called[len(self.target) :].strip("/")

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
