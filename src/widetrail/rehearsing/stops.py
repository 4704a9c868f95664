"""Stopping a rehearsal at every effect: what is lost, what is left over, and does it go on.

Each leg is walked once while every state between two effects is kept: as a kill leaves it, and as
a power cut does (``durability``). States that are the same are judged once. From each the walk goes
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
from collections.abc import Iterable, Iterator, Mapping
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field, replace
from datetime import datetime
from pathlib import Path
from typing import Any

from widetrail.errors import WideTrailError
from widetrail.formats.canonical import digest
from widetrail.licence.seat import words_of
from widetrail.licence.service import Service
from widetrail.machine import Effects, FolderMachine, medium_of
from widetrail.machine.effects import Effect
from widetrail.machine.own import OWN_STATE
from widetrail.machine.paths import join
from widetrail.parcel import Parcel, set_out
from widetrail.planning import Plan, PlannedLeg, make_plan
from widetrail.recipe import Station
from widetrail.rehearsing.durability import (
    PROGRAM_WRITES,
    Durable,
    Live,
    Node,
    Tree,
    read_tree,
    write_tree,
)
from widetrail.rehearsing.happening import ERRORS, Stopped
from widetrail.rehearsing.maker import (
    licence_files,
    serials_on,
    serving_copy,
    words_on,
)
from widetrail.rehearsing.rehearsal import Rehearsal
from widetrail.rehearsing.runner import StageHands, choices_of
from widetrail.rehearsing.stage import RUN, fast_folder, machines_near, prepared_copy
from widetrail.steps import Asked, Step, act_of, state_of
from widetrail.walking import Company, LegDone, Patience, Run, Visit
from widetrail.walking.patience import Silent
from widetrail.walking.seats import seat_as_told

ERROR_NUMBERS = tuple(ERRORS.values())
PARCEL, MAKER = "parcel", "maker"
KILLED = "killed"


@dataclass(frozen=True, slots=True)
class Stop:
    """One place to stop at: before the effect of that number in a leg, in one mode.

    ``state`` names the tree that was there then; ``step`` is what was being done.
    """

    leg: int
    number: int
    kind: str
    step: str
    mode: str
    state: str


@dataclass(frozen=True, slots=True)
class Trouble:
    """Something that was lost, left over or came out otherwise, and where it was stopped."""

    stop: str
    what: str


@dataclass(slots=True)
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


class _Repeating(StageHands):
    """A person who looks, and says of a run whose end is not known that it is to be repeated."""

    asked = 0

    def answer(self, asked: Asked) -> str | None:
        if "repeat" in asked.choices or asked.choices == ("done",):
            self.asked += 1
            return "repeat" if "repeat" in asked.choices else "done"
        return super().answer(asked)


class _Watching(Silent):
    """Knows which step is being done."""

    step = ""

    def begins(self, step: Step, words: str, number: int, total: int) -> None:
        self.step = f"{step.item}:{step.kind}"


class _Recording(Effects):
    """Effects that keep the state before each, in every mode."""

    def __init__(self, stage: Stage, leg: PlannedLeg, watching: _Watching) -> None:
        super().__init__()
        self._stage, self._leg, self._watching = stage, leg, watching
        self._live = Live(stage.here)
        self._running = stage.volumes_of(leg.station)
        volumes = stage.volumes()
        elsewhere = [MAKER] if stage.service is not None else []
        self._durable = {w: Durable(self._live, volumes, w, elsewhere) for w in PROGRAM_WRITES}
        self._wrote = ""
        self.stops: list[Stop] = []
        self.trees: dict[str, Tree] = {}

    @contextmanager
    def _effect(self, kind: str, path: Path | str) -> Iterator[None]:
        self._keep(kind)
        with super()._effect(kind, path):
            yield
        self._live.look()
        below = os.path.relpath(path, self._stage.here) if kind != "start" else ""
        below = "" if below == os.curdir else below
        for durable in self._durable.values():
            durable.after(kind, below, self._running)
        self._wrote = below if kind == "write" else ""

    def _keep(self, kind: str) -> None:
        states = {KILLED: dict(self._live.tree)}
        for writes, durable in self._durable.items():
            states[f"power, programs' writes {writes}"] = durable.tree()
            if self._wrote:
                torn = durable.tree(self._wrote)
                states[f"power, programs' writes {writes}, last write torn"] = torn
        for mode, tree in states.items():
            state = _digest(tree)
            self.trees.setdefault(state, tree)
            self.stops.append(
                Stop(self._leg.number, self.count + 1, kind, self._watching.step, mode, state)
            )


def _digest(tree: Tree) -> str:
    told = (f"{p!a} {n.kind} {n.mode} {n.mtime} {digest(n.data)}" for p, n in sorted(tree.items()))
    return digest("\n".join(told).encode())


class Stage:
    """Copies of a rehearsal's machines with a parcel set out between them."""

    def __init__(
        self,
        here: Path,
        rehearsal: Rehearsal,
        machines: Path,
        now: datetime,
        service: Service | None = None,
    ) -> None:
        """Lay the stage in ``here``, which holds nothing but what ``service`` keeps."""
        self.here, self.now, self.rehearsal, self.service = here, now, rehearsal, service
        file = rehearsal.file
        self.sides: dict[Station, str] = {"old": file.old.machine, "new": file.new.machine}
        sides = [file.old, file.new]
        if file.between is not None:
            self.sides["between"] = file.between.machine
            sides.append(file.between)
        self.recipes = rehearsal.recipes()
        for side in sides:
            source, target = machines / side.machine, self.here / side.machine
            prepared_copy(source, target, side, self.recipes, service)
        old, new = self.machine("old"), self.machine("new")
        choices = choices_of(file, self.recipes)
        medium = medium_of(self.here)
        sealed = file.seal()
        closed = sealed is not None
        self.plan: Plan = make_plan(self.recipes, old, new, medium, now, choices, sealed=closed)
        self._seal = sealed[0] if sealed is not None else None
        parcel = self.here / PARCEL
        set_out(parcel, self.plan, self.recipes, RUN, now, old.effects, sealed=sealed)
        self.serials = serials_on(old, self.recipes)
        self.hands = _Repeating(file.all_hands)

    def machine(
        self, station: Station, effects: Effects | None = None, here: Path | None = None
    ) -> FolderMachine:
        """Return the machine of a station, here or in a copy of the stage."""
        return FolderMachine((here or self.here) / self.sides[station], effects)

    def parcel(self, here: Path, effects: Effects) -> Parcel:
        """Return the parcel, here or in a copy of the stage, open where it is sealed."""
        folder = here / PARCEL
        if not folder.exists():  # it was detached, and what is left of it lies on new
            new = self.machine("new", effects, here)
            folder = new.host(join(new.root("state"), OWN_STATE, RUN, "parcel"))
        parcel = Parcel(folder, effects)
        parcel.seal = self._seal  # taking the passphrase each time would take seconds
        return parcel

    def volumes_of(self, station: Station) -> list[str]:
        """Return the folders of a station's machine that are a volume each."""
        machine, name = self.machine(station), self.sides[station]
        return [f"{name}/{disk.folder}" for disk in machine.file.disks.values()]

    def volumes(self) -> list[str]:
        """Return every folder that is a volume: disks, the medium, and what else there is."""
        disks = [v for station in self.sides for v in self.volumes_of(station)]
        return [*disks, PARCEL, *([MAKER] if self.service is not None else []), ""]

    def walk(
        self,
        leg: PlannedLeg,
        here: Path,
        hands: StageHands,
        effects: Effects | None = None,
        watching: Silent | None = None,
    ) -> LegDone | None:
        """Walk ``leg`` in a copy of the stage; ``None`` where it was at its end already."""
        machine = self.machine(leg.station, effects, here)
        self.serve(here)
        hands.take_away = lambda: self._take_away(here, machine.effects)
        company = Company(hands, watching or Silent(), Patience(longest=20))
        parcel = self.parcel(here, machine.effects)
        visit = Visit(parcel, machine, station=leg.station, company=company)
        if not visit.due_here:
            visit.after_done(self.now)
            return None
        return visit.walk(self.now)

    def serve(self, here: Path) -> None:
        """Have the service keep what it keeps in a copy of the stage from now on."""
        if self.service is not None:
            self.service.folder = here / MAKER

    def _take_away(self, here: Path, effects: Effects) -> None:
        shutil.rmtree(here / PARCEL)
        effects.sync_folder(here)


@dataclass(frozen=True, slots=True)
class _Expected:
    """What an unbroken leg comes to: the trees of both machines, the parcel, and after undoing."""

    machines: Mapping[Station, dict[str, Any]]
    parcel: Any
    undone: dict[str, Any]
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
) -> Swept:
    """Stop every leg of a rehearsal at its effects and judge what comes of each stop.

    Where it is ``bounded``, one stop is tried for each kind of effect, step and mode, and one
    fault for each kind of effect and step; else every state that differs, and every fault.
    """
    swept = Swept(rehearsal.title)
    dice = random.Random(seed)
    with tempfile.TemporaryDirectory(prefix="widetrail-stops-", dir=fast_folder()) as folder:
        source = machines or machines_near(rehearsal.path)
        here = Path(folder) / "here"
        here.mkdir()
        with serving_copy(rehearsal.file.maker, source, here / MAKER) as service:
            stage = Stage(here, rehearsal, source, now, service)
            sweeping = _Sweeping(stage, swept, Path(folder), dice, bounded=bounded)
            for leg in stage.plan.legs:
                sweeping.leg(leg)
    return swept


class _Sweeping:
    """The sweep of one rehearsal."""

    def __init__(
        self, stage: Stage, swept: Swept, folder: Path, dice: random.Random, *, bounded: bool
    ) -> None:
        self._stage, self._swept, self._folder = stage, swept, folder
        self._dice, self._bounded = dice, bounded
        self._begun = time.time_ns()
        self._first = {s: self._seen(stage.here, s) for s in stage.sides}
        self._acts = any(not isinstance(act, str) for act in stage.rehearsal.file.hands.values())

    def leg(self, leg: PlannedLeg) -> None:
        """Walk one leg unbroken, then from every stop; the stage is at its end afterwards."""
        stage, before = self._stage, read_tree(self._stage.here)
        hands = copy.deepcopy(stage.hands)
        watching = _Watching()
        effects = _Recording(stage, leg, watching)
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
        self._swept.troubles.append(Trouble(where, what))

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
                self._stage.walk(leg, here, copy.deepcopy(hands), _stopping(self._dice))
        done = self._stage.walk(leg, here, hands)
        if isinstance(hands, _Repeating):
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
            found = self._seen(here, station)
            if not expected.exact:
                wanted, found = _names_of_new(wanted), _names_of_new(found)
            yield from _differences(f"{station}, walked again", wanted, found)
        if (parcel := _parcel(self._stage.parcel(here, Effects()))) != expected.parcel:
            yield f"the parcel tells otherwise: {_first_of(expected.parcel, parcel)}"

    def _left_over(self, here: Path, station: Station) -> Iterator[str]:
        top = here / self._stage.sides[station]
        for path in top.rglob("*"):
            below = path.relative_to(top)
            if PARCEL in below.parts:  # what is left of a parcel that was detached
                continue
            if path.name in ("staging", "made") and _is_own(below.as_posix()):
                yield f"left over: {path.relative_to(here)}"

    def _undo(self, here: Path, station: Station, expected: _Expected) -> Iterator[str]:
        if self._dice.random() < 0.2:
            self._swept.within += 1
            with suppress(Stopped):
                Run(self._stage.machine(station, _stopping(self._dice), here)).undo(self._stage.now)
        run = Run(self._stage.machine(station, None, here))
        if not run.undone:
            run.undo(self._stage.now)
        if run.unfinished:  # a seat is on its way
            return
        run.settle()
        yield from _differences(f"{station}, undone", expected.undone, self._seen(here, station))
        top = here / self._stage.sides[station]
        own = [p for p in top.rglob("*") if _is_own(p.relative_to(top).as_posix())]
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
        for problem in _differences(f"{leg.station}, undone unbroken", before, undone_here):
            if not self._acts:  # what a person did stays
                self._trouble(f"leg {leg.number}", problem)
        return _Expected(machines, _parcel(stage.parcel(stage.here, Effects())), undone)

    def _seen(self, here: Path, station: Station) -> dict[str, Any]:
        """Return what a person has on a machine: all but the tool's own, old times exactly."""
        found = {}
        for path, node in read_tree(here / self._stage.sides[station]).items():
            if not _is_own(path):
                found[path] = _fact(node, self._begun)
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
            p for item in self._stage.plan.items for p in _places(self._stage, item.id, "old")
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
        places = [p for item in items for p in _places(self._stage, item.id, "new")]
        for place in dict.fromkeys(places):
            inner = [p for p in places if p.startswith(f"{place}/")]
            apart = (*inner, *self._of_licences("new"))
            trees = [
                {p: f for p, f in tree.items() if _is_in(p, place) and not _is_beside(p, apart)}
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


def _is_in(path: str, place: str) -> bool:
    return path == place or path.startswith(f"{place}/")


def _is_beside(path: str, apart: Iterable[str]) -> bool:
    """Return whether a path belongs to something else, or only leads there."""
    return any(_is_in(path, other) or _is_in(other, path) for other in apart)


def seats_trouble(stage: Stage, here: Path) -> str:
    """Return what is wrong with where the seats are: two machines have one, or nobody has it and
    nothing says what a person must do."""
    if stage.service is None:
        return ""
    stage.serve(here)
    stations: tuple[Station, ...] = ("old", "new")
    words = {s: words_on(stage.machine(s, None, here), stage.recipes) for s in stations}
    for item, serial in stage.serials.items():
        active = [s for s in stations if words[s][item] == "active"]
        holders = stage.service.holders(serial)
        if len(active) > 1 or len(holders) > 1:
            return f"{item} is active on {' and '.join(active)}, held by {' and '.join(holders)}"
        machines = [stage.machine(s, None, here) for s in stage.sides]
        seat = seat_as_told(stage.parcel(here, Effects()), machines, item)
        if not active and seat.act is None and seat.stage not in ("released", "renounced"):
            return f"{item} is active nowhere, and the ledger says: {words_of(seat)}"
    return ""


def _places(stage: Stage, item: str, station: Station) -> Iterator[str]:
    """Give the places, below its machine's folder, that an item's copies change on a station."""
    machine = stage.machine(station)
    for step in stage.plan.steps:
        comes = station == "old" or act_of(step).places
        if step.item == item and step.station == station and comes:
            for path in step.changes:
                with suppress(WideTrailError):
                    yield machine.host(path).relative_to(machine.folder).as_posix()


def _stopping(dice: random.Random) -> Effects:
    """Return effects that are stopped at a number thrown by ``dice``, and do nothing after it."""
    number = dice.randint(1, 60)

    def gate(effect: Effect) -> None:
        if effect.number >= number:
            raise Stopped

    return Effects(gate)


def _is_own(path: str) -> bool:
    """Return whether a path below a machine's folder is the tool's own."""
    parts = path.split("/")
    return ".widetrail" in parts or "widetrail" in parts


def _fact(node: Node, begun: int) -> Any:
    """Return what must be the same of a node: times only of files that nobody wrote just now."""
    exact = node.kind == "file" and node.mtime < begun
    return (node.kind, node.mode, digest(node.data), node.mtime if exact else 0)


def _names_of_new(seen: dict[str, Any]) -> dict[str, Any]:
    """Return what was seen, of files that were written just now only that they are there."""
    return {p: fact if fact[0] != "file" or fact[3] else "written" for p, fact in seen.items()}


def _differences(where: str, wanted: dict[str, Any], found: dict[str, Any]) -> Iterator[str]:
    names = sorted(p for p in wanted.keys() | found.keys() if wanted.get(p) != found.get(p))
    if names:
        first = names[0]
        what = "lost" if first not in found else "new" if first not in wanted else "another"
        yield f"{where}: {len(names)} names differ; {first} is {what}"


def _parcel(parcel: Parcel) -> Any:
    """Return what a parcel tells that must be the same, however it came to be."""
    cargo = [
        (e.item, e.path, e.kind, e.size, e.mtime, e.mode, e.target, e.sha256)
        for e in parcel.reader("linux").entries
    ]
    told = parcel.outcomes.items()
    outcomes = {step: (state_of(outcome), outcome.facts.lasting()) for step, outcome in told}
    return sorted(cargo), sorted(p.name for p in parcel.folder.rglob("made/*/*/*")), outcomes


def _first_of(wanted: Any, found: Any) -> str:
    for one, other in zip(wanted, found, strict=True):
        if one != other:
            return f"{str(one)[:300]} and {str(other)[:300]}"
    return ""
