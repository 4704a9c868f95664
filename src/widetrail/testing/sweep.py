"""Stopping a rehearsal at every effect: what is lost, what is left over, and does it go on.

Each leg is walked once while every state between two effects is kept: as a kill leaves it, and as
a power cut does (``power_loss``). States that are the same are judged once. From each the walk goes
on, and must end as the unbroken one did; then it is undone and settled, and the machine must be as
it was before. Where the system refuses an effect, what was there must be there still, and the walk
must go on once it is mended.
"""

from __future__ import annotations

import copy
import os
import random
import shutil
import tempfile
import time
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import contextmanager, suppress
from dataclasses import field, replace
from datetime import datetime
from pathlib import Path

from widetrail.errors import WideTrailError
from widetrail.lazily import dataclass
from widetrail.machine import Effect, Effects
from widetrail.planning import PlannedLeg
from widetrail.recipe import Station
from widetrail.rehearsing import Rehearsal
from widetrail.rehearsing.batch import Job, rehearsal_of
from widetrail.rehearsing.fault_injection import Stopped
from widetrail.rehearsing.maker import licence_files, serving_copy
from widetrail.rehearsing.stage import fast_folder, machines_near
from widetrail.rehearsing.stage_hands import StageHands
from widetrail.steps import act_of
from widetrail.testing.comparing import (
    NodeFact,
    differences,
    fact_of,
    first_difference,
    is_beside,
    is_in,
    is_own,
    names_of_new,
    parcel_told,
)
from widetrail.testing.power_loss import (
    Tree,
    read_tree,
    write_tree,
)
from widetrail.testing.recorded_stops import ERROR_NUMBERS, Recording, Stop, Watching, stopping
from widetrail.testing.stage import MAKER, PARCEL, Repeating, Stage, places_changed, seats_trouble
from widetrail.walking import Run


@dataclass(frozen=True)
class Trouble:
    """Something that was lost, left over or came out otherwise, and where it was stopped."""

    stop: str
    what: str


@dataclass
class Swept:
    """The figures of a sweep: stops that are possible and those tried, states that differ, faults
    survived, and troubles."""

    rehearsal: str
    possible: int = 0
    stops: int = 0
    states: int = 0
    within: int = 0
    faults: int = 0
    asked: int = 0
    modes: Counter[str] = field(default_factory=Counter)
    troubles: list[Trouble] = field(default_factory=list)

    @property
    def passed(self) -> bool:
        """Whether nothing was lost or left over."""
        return not self.troubles


@dataclass(frozen=True)
class _Expected:
    """What an unbroken leg comes to: the trees of both machines, the parcel, and after undoing."""

    machines: Mapping[Station, dict[str, NodeFact]]
    parcel: tuple[object, ...]
    undone: dict[str, NodeFact]
    exact: bool = True

    @property
    def any_order(self) -> _Expected:
        """The same where items were done in another order, so that programs wrote otherwise."""
        return replace(self, exact=False)


def sweep(
    rehearsal: Rehearsal,
    now: datetime,
    machines: Path | None = None,
    *,
    bounded: bool = True,
    seed: int = 1,
    enough: Callable[[Trouble], bool] = lambda trouble: False,
) -> Swept:
    """Stop every leg of a rehearsal at its effects and judge what comes of each stop.

    Where it is ``bounded``, one stop is tried for each kind of effect, step and mode, and one
    fault for each kind of effect and step; else every state that differs, and every fault. It ends
    with a trouble that is ``enough``.
    """
    swept = Swept(rehearsal.title)
    dice = random.Random(seed)
    with tempfile.TemporaryDirectory(prefix="widetrail-stops-", dir=fast_folder()) as folder:
        source = machines or machines_near(rehearsal.path)
        here = Path(folder) / "here"
        here.mkdir()
        with serving_copy(rehearsal.file.maker, source, here / MAKER) as service:
            stage = Stage(here, rehearsal, source, now, service)
            sweeping = _Sweeping(stage, swept, Path(folder), dice, enough, bounded=bounded)
            with suppress(_Enough):
                for leg in stage.plan.legs:
                    sweeping.leg(leg)
    return swept


class _Enough(Exception):
    """The sweep was told to end."""


class _Sweeping:
    """The sweep of one rehearsal."""

    def __init__(
        self,
        stage: Stage,
        swept: Swept,
        folder: Path,
        dice: random.Random,
        told: Callable[[Trouble], bool],
        *,
        bounded: bool,
    ) -> None:
        self._stage, self._swept, self._folder = stage, swept, folder
        self._dice, self._told, self._bounded = dice, told, bounded
        self._begun = time.time_ns()
        self._first = {s: self._seen(stage.here, s) for s in stage.sides}
        self._acts = any(not isinstance(act, str) for act in stage.rehearsal.file.hands.values())

    def leg(self, leg: PlannedLeg) -> None:
        """Walk one leg unbroken, then from every stop; the stage is at its end afterwards."""
        stage, before = self._stage, read_tree(self._stage.here)
        hands = copy.deepcopy(stage.hands)
        watching = Watching()
        effects = Recording(stage, leg, watching)
        done = stage.walk(leg, stage.here, stage.hands, effects, watching)
        if done is None or done.failed or done.waits or done.troubles:
            self._trouble(f"leg {leg.number}", f"it does not end well unbroken: {done}")
            return
        expected = self._expected(leg)
        self._swept.possible += len(effects.stops)
        tried: dict[str, Stop] = {}
        for stop in self._chosen(effects.stops):
            self._swept.stops += 1
            self._swept.modes[stop.mode.partition(",")[0]] += 1
            if stop.state not in tried:
                tried[stop.state] = stop
                self._judge(stop, effects.trees[stop.state], leg, expected, hands)
        self._swept.states += len(tried)
        self._faults(leg, effects.stops, before, expected, hands)

    def _chosen(self, stops: Iterable[Stop]) -> list[Stop]:
        if not self._bounded:
            return list(stops)
        first: dict[tuple[str, str, str], Stop] = {}
        for stop in stops:
            first.setdefault((stop.kind, stop.step.partition(":")[2], stop.mode), stop)
        return list(first.values())

    def _trouble(self, where: str, what: str) -> None:
        trouble = Trouble(where, what)
        self._swept.troubles.append(trouble)
        if self._told(trouble):
            raise _Enough

    # Judging one stop

    def _judge(
        self, stop: Stop, tree: Tree, leg: PlannedLeg, expected: _Expected, hands: StageHands
    ) -> None:
        where = f"leg {stop.leg}, before {stop.kind} {stop.number} ({stop.step}), {stop.mode}"
        with self._copy(tree) as here:
            try:
                for problem in self._go_on(here, leg, expected, copy.deepcopy(hands)):
                    self._trouble(where, problem)
            except WideTrailError as error:
                self._trouble(where, f"it does not go on: {error}")

    @contextmanager
    def _copy(self, tree: Tree) -> Iterator[Path]:
        here = Path(tempfile.mkdtemp(dir=self._folder, prefix="stop-"))
        try:
            write_tree(here, tree)
            yield here
        finally:
            shutil.rmtree(here, ignore_errors=True)

    def _go_on(
        self, here: Path, leg: PlannedLeg, expected: _Expected, hands: StageHands
    ) -> Iterator[str]:
        """Walk again from a state, at times stopped once more, then undo; tell what is wrong."""
        if self._dice.random() < 0.2:
            self._swept.within += 1
            with suppress(Stopped):
                self._stage.walk(leg, here, copy.deepcopy(hands), stopping(self._dice))
        done = self._stage.walk(leg, here, hands)
        if isinstance(hands, Repeating):
            self._swept.asked += hands.asked
        if problem := seats_trouble(self._stage, here):
            yield problem
        if done is not None and (done.failed or done.waits or done.troubles):
            bad = [s.outcome for s in (*done.failed, *done.waits)]
            if self._stage.serials and all(act_of(s.step).of_seats for s in done.bad):
                self._swept.asked += 1  # the ledger tells what a person must do
                return
            yield f"walked again it does not end well: {bad or done.troubles}"
            return
        yield from self._compare(here, expected)
        yield from self._left_over(here, leg.station)
        yield from self._undo(here, leg.station, expected)

    def _compare(self, here: Path, expected: _Expected) -> Iterator[str]:
        for station, wanted in expected.machines.items():
            found, what = self._seen(here, station), f"{station}, walked again"
            if expected.exact:
                yield from differences(what, wanted, found)
            else:
                yield from differences(what, names_of_new(wanted), names_of_new(found))
        if (parcel := parcel_told(self._stage.parcel(here, Effects()))) != expected.parcel:
            yield f"the parcel tells otherwise: {first_difference(expected.parcel, parcel)}"

    def _left_over(self, here: Path, station: Station) -> Iterator[str]:
        top = here / self._stage.sides[station]
        for path in top.rglob("*"):
            below = path.relative_to(top)
            if PARCEL in below.parts:  # what is left of a parcel that was detached
                continue
            if path.name in ("staging", "made") and is_own(below.as_posix()):
                yield f"left over: {path.relative_to(here)}"

    def _undo(self, here: Path, station: Station, expected: _Expected) -> Iterator[str]:
        if self._dice.random() < 0.2:
            self._swept.within += 1
            with suppress(Stopped):
                Run(self._stage.machine(station, stopping(self._dice), here)).undo(self._stage.now)
        run = Run(self._stage.machine(station, None, here))
        if not run.undone:
            run.undo(self._stage.now)
        if run.unfinished:  # a seat is on its way
            return
        run.settle()
        yield from differences(f"{station}, undone", expected.undone, self._seen(here, station))
        top = here / self._stage.sides[station]
        own = [p for p in top.rglob("*") if is_own(p.relative_to(top).as_posix())]
        yield from (f"left over after settling: {path.relative_to(here)}" for path in own)

    # What is expected

    def _expected(self, leg: PlannedLeg) -> _Expected:
        """Return what the unbroken leg came to, and judge undoing it."""
        stage = self._stage
        machines = {station: self._seen(stage.here, station) for station in stage.sides}
        with self._copy(read_tree(stage.here)) as here:
            run = Run(stage.machine(leg.station, None, here))
            run.undo(stage.now)
            if not run.unfinished:
                run.settle()
            undone = self._seen(here, leg.station)
        before = self._first[leg.station]
        own = set(self._of_licences(leg.station))
        own |= {above.as_posix() for path in own for above in Path(path).parents}
        before, undone_here = (
            {p: fact for p, fact in tree.items() if p not in own} for tree in (before, undone)
        )
        for problem in differences(f"{leg.station}, undone unbroken", before, undone_here):
            if not self._acts:  # what a person did stays
                self._trouble(f"leg {leg.number}", problem)
        return _Expected(machines, parcel_told(stage.parcel(stage.here, Effects())), undone)

    def _seen(self, here: Path, station: Station) -> dict[str, NodeFact]:
        """Return what a person has on a machine: all but the tool's own, old times exactly."""
        found = {}
        for path, node in read_tree(here / self._stage.sides[station]).items():
            if not is_own(path):
                found[path] = fact_of(node, self._begun)
        return found

    # Faults

    def _faults(
        self,
        leg: PlannedLeg,
        stops: list[Stop],
        before: Tree,
        expected: _Expected,
        hands: StageHands,
    ) -> None:
        """Have the system refuse effects of the leg, one at a time."""
        numbers: dict[tuple[str, str], int] = {}
        for stop in stops:
            step = stop.step.partition(":")[2] if self._bounded else stop.step
            numbers.setdefault((stop.kind, step), stop.number)
        for at, number in enumerate(numbers.values()):
            codes = (
                ERROR_NUMBERS if not self._bounded else (ERROR_NUMBERS[at % len(ERROR_NUMBERS)],)
            )
            for code in codes:
                self._swept.faults += 1
                self._fault(leg, number, code, before, expected, copy.deepcopy(hands))

    def _fault(
        self,
        leg: PlannedLeg,
        number: int,
        code: int,
        before: Tree,
        expected: _Expected,
        hands: StageHands,
    ) -> None:
        where = f"leg {leg.number}, {os.strerror(code)} at effect {number}"
        with self._copy(before) as here:

            def refuse(effect: Effect) -> None:
                if effect.number == number:
                    raise OSError(code, os.strerror(code))

            try:
                told = str(self._stage.walk(leg, here, copy.deepcopy(hands), Effects(refuse)))
            except WideTrailError as error:
                told = str(error)
            for problem in self._survived(here, leg, told, code, expected):
                self._trouble(where, problem)
            try:
                for problem in self._go_on(here, leg, expected.any_order, hands):
                    self._trouble(where, problem)
            except WideTrailError as error:
                self._trouble(where, f"it does not go on once it is mended: {error}")

    def _survived(
        self, here: Path, leg: PlannedLeg, told: str, code: int, expected: _Expected
    ) -> Iterator[str]:
        """Tell what a refused effect cost: old untouched, each place on new as before or after."""
        if os.strerror(code) not in told and "done" not in told:
            yield f"the reason is not told: {told}"
        before = self._first["old"]
        if leg.station != "old":
            before = expected.machines["old"]
        allowed = [
            p
            for item in self._stage.plan.items
            for p in places_changed(self._stage, item.id, "old")
        ]
        allowed += self._of_licences("old")
        found = self._seen(here, "old")
        changed = {p for p in before.keys() | found.keys() if before.get(p) != found.get(p)}
        if lost := sorted(p for p in changed if not any(p.startswith(a) for a in allowed)):
            yield f"old was touched: {', '.join(lost[:3])}"
        if leg.station == "new":
            yield from self._whole(here, expected)

    def _whole(self, here: Path, expected: _Expected) -> Iterator[str]:
        before, after, now = self._first["new"], expected.machines["new"], self._seen(here, "new")
        items = self._stage.plan.items
        places = [p for item in items for p in places_changed(self._stage, item.id, "new")]
        for place in dict.fromkeys(places):
            inner = [p for p in places if p.startswith(f"{place}/")]
            apart = (*inner, *self._of_licences("new"))
            trees = [
                {p: f for p, f in tree.items() if is_in(p, place) and not is_beside(p, apart)}
                for tree in (before, after, now)
            ]
            if trees[2] not in trees[:2]:
                yield f"{place} is neither as before nor as after"

    def _of_licences(self, station: Station) -> list[str]:
        """Return the files that hold licences on a station, below its folder: they change with a
        seat, and what was done with one stays done."""
        machine = self._stage.machine(station)
        hosts = map(machine.host, licence_files(machine, self._stage.recipes))
        return [host.relative_to(machine.folder).as_posix() for host in hosts]


def sweep_job(job: Job) -> Swept:
    """Stop one job's rehearsal at its effects, within bounds; see ``sweep``."""
    return sweep(rehearsal_of(job), job.now, job.machines)
