"""``publish``: an item's cargo to its place on new, staged first, then renamed into place.

What stands there is put aside by a rename of the same kind, so nothing is ever written over. The
moves are written down before the first is made; a walk that was cut off makes the rest.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from contextlib import suppress

from widetrail.errors import Halted
from widetrail.finding import Selection
from widetrail.finding.selection import is_database
from widetrail.formats.companions import BESIDE, JOURNALS, database_of
from widetrail.formats.outside import SafePath, names_in
from widetrail.machine import EffectFailed, Machine
from widetrail.machine.moves import Move, carry_out, modes_of, roll_back, times_of
from widetrail.machine.own_folders import own_below
from widetrail.machine.paths import base, join
from widetrail.recipe.decisions import MET
from widetrail.recipe.templates import braces, plain
from widetrail.steps.backup import beside, missing_folders, room_at
from widetrail.steps.contexts import OfItem
from widetrail.steps.journal_events import Appeared
from widetrail.steps.kind import Act, Touched
from widetrail.steps.outcomes import Done, Outcome, Remark, remarks
from widetrail.steps.pathways import PathsRewritten, make_paths_right
from widetrail.steps.publish_step import (
    EXISTING,
    OUTSIDE,
    Has,
    Placing,
    Published,
    PublishFacts,
    PublishStep,
    Staged,
    StagedSoFar,
    StagingBegun,
)
from widetrail.steps.run_storage import ASIDE, Room
from widetrail.steps.staging import Staging


class Publish(Act[PublishStep, Has]):
    """Stages, verifies, puts aside and publishes."""

    step = PublishStep
    facts = PublishFacts
    records = (StagingBegun, StagedSoFar, Staged, Placing, Published, PathsRewritten)
    needs_closed = True
    places = True

    def touches(self, step: PublishStep, doing: OfItem) -> Iterator[Touched]:
        place = plain(step.target) if step.elsewhere else doing.pinned(step.item)
        if place and not braces(place):
            told = step.elsewhere or doing.is_told(step.item)
            yield Touched(place, told=told, holds_cargo=True)

    def words(self, step: PublishStep) -> str:
        where = plain(step.target) or "its place"
        return f"Copy {step.item} to {where}; {EXISTING[step.existing]}"

    def do(self, step: PublishStep, doing: Has) -> Outcome:
        published = doing.recorded(Published, step.id)
        if published is not None:
            return Done(published.facts)
        return _Publishing(step, doing).do()


class _Publishing(Staging):
    """One item on its way to its place."""

    def __init__(self, step: PublishStep, doing: Has) -> None:
        self._step, self._doing = step, doing
        self._target = doing.fill(step, step.target) if step.elsewhere else doing.pinned(step.item)
        self._facts = PublishFacts()
        self._came_as: dict[str, str] = {}
        self._beside: list[str] = []
        self._passed_by: list[str] = []

    def do(self) -> Outcome:
        doing, step = self._doing, self._step
        room = room_at(doing, self._target, step.item)
        doing.await_closed(step.item)
        begun = doing.recorded(Placing, step.id)
        staged = self._staged(room)
        doing.await_closed(step.item)
        if begun is None:
            moves, modes = self._decided(staged, room)
        else:
            moves, modes, self._facts = begun.moves, begun.modes, begun.facts
        try:
            carry_out(doing.machine, moves, lambda path: self._appeared(path, room), modes)
        except Halted:
            with suppress(
                EffectFailed
            ):  # the same walk again makes them, whatever state they are in
                roll_back(doing.machine, moves)
            raise
        self._tell(remarks("open_to_others", self._opened(moves)))
        self._back_up(moves, join(room.home, ASIDE))
        doing.record(Published(step=step.id, facts=self._facts))
        room.clear(staged)
        return Done(self._facts)

    def _decided(self, staged: str, room: Room) -> tuple[tuple[Move, ...], Mapping[str, int]]:
        """Decide where all comes, make its paths right, and write the moves down."""
        doing, step = self._doing, self._step
        moves = tuple(self._planned(staged, room))
        names = {"came_as": self._came_as, "beside": tuple(self._beside)}
        self._facts = self._facts.model_copy(
            update={**names, "passed_by": tuple(self._passed_by), "to": self._target}
        )
        right = make_paths_right(
            step, doing, staged, self._target, self._came_as, single=step.single
        )
        self._facts = self._facts.model_copy(update={"paths_rewritten": right.count})
        self._tell(right.remarks)
        times, modes = times_of(doing.machine, moves), modes_of(doing.machine, moves)
        about = Placing(step=step.id, moves=moves, times=times, modes=modes, facts=self._facts)
        doing.record(about)
        return moves, modes

    def _tell(self, more: tuple[Remark, ...]) -> None:
        known = self._facts.remarks
        self._facts = self._facts.model_copy(update={"remarks": (*known, *more)})

    def _opened(self, moves: Sequence[Move]) -> list[str]:
        """Give a place that was made here the mode, times and attributes that old's has.

        One that was there keeps its own; it is returned where others may read it, who could not on
        old.
        """
        top = self._doing.packed.get(self._step.item, "")
        host = self._doing.machine.host(self._target)
        if top is None or not host.is_dir():
            return []
        effects = self._doing.machine.effects
        if Move("folder", "", self._target) in moves:
            if attributes := top.attributes_by_name:
                effects.set_attributes(host, attributes)
            effects.set_status(host, top.mode, top.mtime)
        elif host.stat().st_mode & ~top.mode & 0o007 and top.mode & 0o007 == 0:
            return [self._target]
        return []

    # Staging

    # Placing

    def _planned(self, staged: str, room: Room) -> list[Move]:
        """Return the moves that bring what is staged into place, as ``existing`` says."""
        ready = self._doing.recorded(Staged, self._step.id)
        if ready is not None:
            self._facts = ready.facts
        existing, machine, item = self._step.existing, self._doing.machine, self._step.item
        own = own_below(machine, self._target)
        shared = self._step.shared or bool(own)
        carved = (*(self._doing.carved(item) if shared else ()), *own)
        selection = Selection(self._doing.item(item), machine.platform, carved)
        single = self._step.single
        whole = (selection.whole and not shared) or single
        there = list(_there(machine, self._target, selection, whole=whole))
        if there:
            self._doing.finder(item).decide(self._doing.route(item), MET)
        if existing == "refuse" and there:
            raise self._stopped()
        if whole and existing == "alongside" and there:
            self._target, there = beside(self._doing, self._target, self._doing.other()), []
        if single and existing == "skip" and there:
            self._passed_by = [base(self._target)]
            return []
        in_the_way = (
            there == [""] and (found := machine.look(self._target)) and found.kind != "folder"
        )
        goes_whole = whole and (existing in ("back up", "refuse") or not there)
        aside = room.fresh(ASIDE)
        if single or in_the_way or goes_whole:
            out = [Move("out", self._target, aside)] if there else []
            into = [Move("into", staged, self._target)]
            if single:
                into = list(self._single(staged))
                beside_it = (m.target[len(self._target) :] for m in into[1:])
                out += [
                    Move("out", f"{self._target}{ending}", f"{aside}{ending}")
                    for ending in beside_it
                    if (found := machine.look(f"{self._target}{ending}")) and found.kind == "folder"
                ]
                out += self._journals_away(into, {m.source for m in out}, aside)
            return [*out, *missing_folders(machine, self._target), *into]
        gone = there if existing == "back up" else []
        out = [Move("out", join(self._target, p), join(aside, p)) for p in gone]
        folders = missing_folders(machine, join(self._target, "x"))
        merged = list(self._merged(machine.host(staged), staged, aside, set(gone)))
        away = {m.source for m in (*out, *merged) if m.kind == "out"}
        out += self._journals_away([m for m in merged if m.kind == "into"], away, aside)
        return [*out, *folders, *merged]

    def _single(self, staged: str) -> Iterator[Move]:
        """Give the moves of an item that is one file, and of what goes beside it by its name: its
        journals, and the folder of files that lay elsewhere."""
        first, *others = self._doing.packed.of(self._step.item)
        yield Move("into", join(staged, first.path), self._target)
        for entry in others:
            ending = entry.path.removeprefix(first.path)
            if ending in (*JOURNALS, f".{OUTSIDE}"):
                yield Move("into", join(staged, entry.path), f"{self._target}{ending}")

    def _journals_away(self, into: Sequence[Move], away: Collection[str], aside: str) -> list[Move]:
        """Return the moves that put away what lies beside a database that is replaced.

        The journals of another database would damage the one that comes.
        """
        machine, coming = self._doing.machine, {move.target for move in into}
        found, single = list[Move](), self._step.single
        for move in into:
            if not is_database(machine, move.source):
                continue
            for ending in BESIDE:
                path = f"{move.target}{ending}"
                seen_to = path in away or (path in coming and not single)
                if not seen_to and machine.look(path) is not None:
                    below = path[len(self._target) :]
                    found.append(Move("out", path, f"{aside}{below}"))
        return found

    def _stopped(self) -> Halted:
        return Halted(
            "it already exists",
            where=self._target,
            why="the recipe allows no existing files (existing: refuse)",
            todo="Move it away, then walk again.",
        )

    def _merged(self, top: SafePath, staged: str, aside: str, gone: set[str]) -> Iterator[Move]:
        """Give the moves of each staged name; a folder that is not there yet goes whole."""
        machine, existing = self._doing.machine, self._step.existing
        waiting, went = [""], dict[str, str]()
        while waiting:
            folder = waiting.pop()
            for name in sorted(names_in(top / folder)):
                path = f"{folder}/{name}" if folder else name
                source, target = join(staged, path), join(self._target, path)
                is_folder = (top / path).is_dir()
                there = None if path in gone else machine.look(target)
                database, ending = database_of(path)
                if database in went:  # a journal goes where its database goes
                    if went[database]:
                        called = f"{went[database]}{ending}"
                        self._call(path, called)
                        yield Move("into", source, called)
                elif there is None:
                    yield Move("into", source, target)
                elif is_folder and there.kind == "folder":
                    waiting.append(path)
                elif existing == "skip":
                    self._passed_by.append(path)
                    went[path] = ""
                elif existing == "alongside":
                    went[path] = beside(self._doing, target, self._doing.other())
                    self._beside.append(went[path])
                    self._call(path, went[path])
                    yield Move("into", source, went[path])
                else:
                    yield Move("out", target, join(aside, path))
                    yield Move("into", source, target)

    def _call(self, path: str, called: str) -> None:
        self._came_as[path] = called[len(self._target) :].strip("/")

    def _appeared(self, path: str, room: Room) -> str:
        """Write down that what appeared at ``path`` meanwhile is put aside, and return where."""
        if self._step.existing == "refuse":
            raise self._stopped()
        away = room.fresh(ASIDE)
        self._doing.record(Appeared(step=self._step.id, moves=(Move("out", path, away),)))
        return away

    def _back_up(self, moves: Sequence[Move], aside: str) -> None:
        """Tell where what was there before is kept, and what had appeared meanwhile."""
        later = [r for r in self._doing.records(Appeared) if r.step == self._step.id]
        appeared = [move for r in later for move in r.moves]
        out = [move for move in [*moves, *appeared] if move.kind == "out"]
        tops = (move.target[len(aside) + 1 :].split("/")[0] for move in out)
        kept = dict.fromkeys(join(aside, top) for top in tops)
        self._facts = self._facts.model_copy(update={"backed_up": tuple(kept)})
        self._tell(remarks("appeared", (move.source for move in appeared)))


def _there(machine: Machine, target: str, selection: Selection, *, whole: bool) -> Iterator[str]:
    """Give what of the item is at ``target`` already: itself, or names below it that it takes."""
    entry = machine.look(target)
    if entry is None:
        return
    if whole or entry.kind != "folder":
        yield ""
        return
    yield from [e.path for e in selection.walk(machine, target) if e.kind != "folder"]
