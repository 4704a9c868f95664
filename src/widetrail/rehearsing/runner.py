"""Rehearsing: the whole trail on copies of two machines, with the real engine.

The machines of the rehearsal are never changed: they are copied first. While one station works,
the other one is out of reach, and before the last look the parcel is too.
"""

from __future__ import annotations

import re
import shutil
import tempfile
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from pathlib import Path
from typing import Any

import yaml

from widetrail.errors import InputUnusable, Obstructed, WideTrailError
from widetrail.finding import Finder
from widetrail.formats.canonical import digest
from widetrail.licence.seat import Word
from widetrail.licence.service import Service
from widetrail.machine import Completed, Effects, FolderMachine, medium_of
from widetrail.machine.folder import FILE as MACHINE_FILE
from widetrail.parcel import Parcel, set_out
from widetrail.planning import Choices, Plan, make_plan, read_choices
from widetrail.recipe import Loaded, Station
from widetrail.recipe.templates import plain
from widetrail.rehearsing.maker import (
    address_of,
    licence_files,
    serials_on,
    serving_copy,
    words_on,
)
from widetrail.rehearsing.rehearsal import (
    Rehearsal,
    RehearsalFile,
    SameButFor,
    Screen,
    Side,
)
from widetrail.steps import Failed, Task, Waits
from widetrail.steps.leaving import DETACH
from widetrail.walking import (
    Answers,
    Company,
    ItemReport,
    LegDone,
    Patience,
    Report,
    Visit,
    make_report,
)

MACHINES = "machines"


@dataclass(frozen=True, slots=True)
class Difference:
    """One thing that came out otherwise than expected."""

    what: str
    expected: str
    found: str


@dataclass(frozen=True, slots=True)
class Rehearsed:
    """A rehearsal that was run: its differences, and what the program printed on both sides."""

    file: str
    title: str
    differences: tuple[Difference, ...]
    old_screen: str = ""
    new_screen: str = ""

    @property
    def passed(self) -> bool:
        """Whether everything was as expected."""
        return not self.differences


def rehearse(rehearsal: Rehearsal, now: datetime, machines: Path | None = None) -> Rehearsed:
    """Run one rehearsal on copies of its machines.

    ``machines`` is the folder that holds them; without it, a folder of that name is looked for
    beside the rehearsal and in the folders above it. The copies are removed at the end.

    Raises:
        InputUnusable: The recipe or a machine is not there.
        DocumentUnusable: The recipe has findings.
    """
    file = rehearsal.file
    recipes = rehearsal.recipes()
    source = machines or machines_near(rehearsal.path)
    with tempfile.TemporaryDirectory(prefix="widetrail-rehearsal-") as folder:
        try:
            with serving_copy(file.maker, source, Path(folder) / "maker") as service:
                return _Stage(Path(folder), rehearsal, source, recipes, service).run(now)
        except WideTrailError as error:
            found = Difference("the trail", "to be walked to its end", _all_of(error))
            return Rehearsed(str(rehearsal.path), file.rehearsal, (found,))


def _all_of(error: WideTrailError) -> str:
    obstacles = error.obstacles if isinstance(error, Obstructed) else ()
    return "; ".join(map(str, [error, *obstacles]))


PARCEL = "parcel"
LONGEST = 60.0
"""Seconds that a rehearsal waits for one thing, at most."""


class StageHands(Answers):
    """Answers written beforehand; who says that the medium is gone has it taken away."""

    take_away: Callable[[], None] = staticmethod(lambda: None)

    def act(self, task: Task, play: Callable[[Sequence[str]], None]) -> bool:
        """Do a task as ``Answers`` does, and take the medium away where that is what it asks."""
        done = super().act(task, play)
        if done and task.name == DETACH:
            self.take_away()
        return done


class _Stage:
    """The copies of a rehearsal's machines, and moving them in and out of reach."""

    def __init__(
        self, folder: Path, rehearsal: Rehearsal, machines: Path, recipes: Sequence[Loaded],
        service: Service | None,
    ) -> None:  # fmt: skip
        self._here, self._away = folder / "here", folder / "away"
        self._here.mkdir()
        self._away.mkdir()
        self._rehearsal, self._file, self._recipes = rehearsal, rehearsal.file, recipes
        self._source, self._service = machines, service
        between = [self._file.between] if self._file.between is not None else []
        self._sides = [self._file.old, self._file.new, *between]
        for side in self._sides:
            self._copy(side)

    def _copy(self, side: Side) -> None:
        source = self._source / side.machine
        if not source.is_dir():
            raise InputUnusable(
                "there is no such machine", where=str(source), todo="Name one that is there."
            )
        target = self._here / side.machine
        if target.exists():
            raise InputUnusable("two stations are one machine", where=str(source))
        prepared_copy(source, target, side, self._recipes, self._service)

    def _open(self, side: Side) -> FolderMachine:
        return FolderMachine(self._here / side.machine)

    def _only(self, *names: str) -> None:
        """Leave only these within reach."""
        for name in [*(side.machine for side in self._sides), PARCEL]:
            here, away = self._here / name, self._away / name
            if name in names and away.exists():
                away.rename(here)
            elif name not in names and here.exists():
                here.rename(away)

    def run(self, now: datetime) -> Rehearsed:
        file, recipes, loaded = self._file, self._recipes, self._recipes[0]
        old, new = self._open(file.old), self._open(file.new)
        before, old_screen = _contents(old), _screen(old, loaded)
        serials = serials_on(old, recipes)
        choices, medium, sealed = choices_of(file, recipes), medium_of(self._here), file.seal()
        plan = make_plan(recipes, old, new, medium, now, choices, sealed=sealed is not None)
        folder = self._here / PARCEL
        set_out(folder, plan, recipes, "rehearsal", now, old.effects, sealed=sealed)
        parcel, differences = self._walk(folder, plan, now)
        report = make_report(parcel)
        self._only(file.old.machine)
        allowed = [*_allowed(old, plan), *_below(old, licence_files(old, recipes))]
        changed = _changes(before, _contents(old), allowed)
        there = {"old": words_on(self._open(file.old), recipes)}
        self._only(file.new.machine)
        new_screen = _screen(self._open(file.new), loaded)
        there["new"] = words_on(self._open(file.new), recipes)
        differences.extend(_judge(self._rehearsal, loaded, report))
        differences.extend(self._judge_seats(plan, there, serials))
        if changed:
            differences.append(Difference("old", "nothing changed", ", ".join(changed[:5])))
        if file.expect.screen is not None:
            differences.extend(_judge_screen(file.expect.screen, old_screen, new_screen))
        title = str(self._rehearsal.path), file.rehearsal
        return Rehearsed(*title, tuple(differences), old_screen, new_screen)

    def _walk(self, folder: Path, plan: Plan, now: datetime) -> tuple[Parcel, list[Difference]]:
        """Walk every leg, each with only its own machine within reach; return what went wrong.

        The parcel that was walked last comes first: one that was detached lies on new.
        """
        hands, patience = StageHands(self._file.all_hands), Patience(longest=LONGEST)
        hands.take_away = self._take_away
        company = Company(hands, patience=patience)
        parcel = Parcel(folder, Effects())
        sides = {"old": self._file.old, "new": self._file.new, "between": self._file.between}
        station: Station | None = plan.legs[0].station
        before: tuple[Any, ...] = ()
        while station is not None:
            side = sides[station]
            if side is None:
                return parcel, [Difference("the trail", "a machine between", "none is named")]
            self._only(side.machine, PARCEL)
            machine = self._open(side)
            seal, parcel = parcel.seal, Parcel(parcel.folder, machine.effects)
            parcel.seal = seal if seal is not None and seal.is_open else parcel.seal
            visit = Visit(parcel, machine, station=station, company=company)
            done = visit.walk(now)
            parcel = visit.parcel
            if wrong := _went_wrong(done):
                return parcel, wrong
            reached = (station, len(parcel.legs_done), parcel.outcomes)
            station = visit.next_station() if reached != before else None
            before = reached
        return parcel, []

    def _judge_seats(
        self, plan: Plan, words: dict[str, dict[str, Word]], serials: dict[str, str]
    ) -> Iterator[Difference]:
        """Tell where a licence is not held by new alone, as the programs and the service say."""
        moved = [item.id for item in plan.items if item.kind == "licence"]
        for item in moved:
            for station, wanted in (("old", "not"), ("new", "active")):
                if (found := words[station][item]) != wanted:
                    yield Difference(f"{item} on {station}", wanted, found)
            if self._service is not None:
                holders = self._service.holders(serials[item])
                if holders != (self._file.new.machine,):
                    told = ", ".join(holders) or "nobody"
                    yield Difference(f"{item}: who holds it", self._file.new.machine, told)

    def _take_away(self) -> None:
        (self._here / PARCEL).rename(self._away / PARCEL)


def choices_of(file: RehearsalFile, recipes: Sequence[Loaded]) -> Choices:
    """Return what a rehearsal chooses of the items of its recipes."""
    outside = [f"{item}={verdict}" for item, verdict in file.outside.items()]
    chosen = read_choices(recipes, file.only, file.without, outside=outside)
    parts = {
        f"{recipes[0].id}.{item}.{part}": tuple(map(str, values))
        for item, named in file.choose.items()
        for part, values in named.items()
    }
    return replace(
        chosen, parts={**chosen.parts, **parts}, release_after=file.release_after or "verifying"
    )


def prepared_copy(
    source: Path, folder: Path, side: Side, recipes: Sequence[Loaded],
    service: Service | None = None,
) -> None:  # fmt: skip
    """Copy a machine and make the copy what a rehearsal's side says.

    Its programs are told where ``service`` is, where the machine has a network.

    Raises:
        InputUnusable: A command that prepares it is none, or fails.
    """
    shutil.copytree(source, folder, symlinks=True)
    file = folder / MACHINE_FILE
    own: dict[str, Any] = yaml.load(file.read_bytes(), yaml.BaseLoader)
    merged = {**own, **_plain(side.with_)}
    if address := address_of(service, network=merged.get("network") != "no"):
        merged["environment"] = {**merged.get("environment", {}), **address}
    if merged != own:
        file.write_text(yaml.safe_dump(merged, allow_unicode=True), encoding="utf-8")
    machine = FolderMachine(folder)
    for path, text in side.files.items():
        host = machine.host(path)
        host.parent.mkdir(parents=True, exist_ok=True)
        host.write_text(text, encoding="utf-8")
    _prepare(FolderMachine(folder), recipes, side)


def _plain(value: Any) -> Any:
    if isinstance(value, dict):
        return {str(key): _plain(inner) for key, inner in value.items()}
    return [_plain(v) for v in value] if isinstance(value, list) else str(value)


def _went_wrong(done: LegDone) -> list[Difference]:
    """Return the steps of a leg that wait or failed, and what went wrong at its end."""
    wrong = [
        Difference(step.step.id, "done", step.outcome.reason)
        for step in done.steps
        if isinstance(step.outcome, Failed | Waits)
    ]
    at_end = [Difference("the end of the leg", "well", trouble) for trouble in done.troubles]
    return [*wrong, *at_end] if done.waits or done.troubles else []


def show_screen(machine: FolderMachine, loaded: Loaded) -> Completed:
    """Start the application's ``screen`` command on ``machine`` and return what it printed.

    Raises:
        InputUnusable: The recipe names no screen, or the program is not installed.
    """
    application = loaded.recipe.application
    if not application.screen:
        raise InputUnusable("the recipe names no screen", where=loaded.file)
    name, *arguments = application.screen
    return machine.start(Finder(machine, loaded).programs()[name], arguments)


def _screen(machine: FolderMachine, loaded: Loaded) -> str:
    done = show_screen(machine, loaded)
    return done.output if done.status == 0 else f"status {done.status}: {done.errors}"


def machines_near(rehearsal: Path) -> Path:
    """Return the folder of machines beside a rehearsal, or above it.

    Raises:
        InputUnusable: There is none.
    """
    for folder in rehearsal.resolve().parents:
        if (folder / MACHINES).is_dir():
            return folder / MACHINES
    raise InputUnusable(
        "its machines are not there", where=str(rehearsal),
        why=f"no folder {MACHINES} lies beside it or above it",
        todo="Name the folder that holds them with --machines.",
    )  # fmt: skip


def _prepare(machine: FolderMachine, recipes: Sequence[Loaded], side: Side) -> None:
    programs: dict[str, str] = {}
    for loaded in recipes if side.prepare else ():
        programs |= Finder(machine, loaded).programs()
    for name, *arguments in side.prepare:
        if name not in programs:
            known, of = ", ".join(programs), " or ".join(loaded.id for loaded in recipes)
            raise InputUnusable(f'"{name}" is no program of {of}', why=f"known: {known}")
        done = machine.start(programs[name], arguments)
        if done.status != 0:
            raise InputUnusable(
                f"preparing {machine.name} failed", where=" ".join([name, *arguments]),
                why=f"it ended with {done.status}: {done.errors.strip()}",
            )  # fmt: skip


def _contents(machine: FolderMachine) -> dict[str, str]:
    """Return a digest for each of the person's files: all but the tool's own state."""
    own = machine.host(machine.root("state")) / "widetrail"
    found = {}
    for path in sorted(machine.folder.rglob("*")):
        if path.is_symlink() or own in path.parents or path == own:
            continue
        name = path.relative_to(machine.folder).as_posix()
        found[name] = digest(path.read_bytes()) if path.is_file() else "folder"
    return found


def _changes(before: dict[str, str], after: dict[str, str], allowed: Sequence[Path]) -> list[str]:
    """Return the names that differ, but for those at or below a path that may change."""
    differing = (n for n in before.keys() | after.keys() if before.get(n) != after.get(n))
    return sorted(n for n in differing if not any(Path(n).is_relative_to(a) for a in allowed))


def _allowed(old: FolderMachine, plan: Plan) -> list[Path]:
    """Return where the plan says that something changes on old: by commands, and by retiring."""
    mine = [step for step in plan.steps if step.station == "old"]
    told = [path for step in mine for path in step.changes]
    told += [step.text("to") for step in mine if step.kind == "retire"]
    return _below(old, map(plain, told))


def _below(machine: FolderMachine, paths: Iterable[str]) -> list[Path]:
    return [machine.host(path).relative_to(machine.folder) for path in paths]


def _judge(rehearsal: Rehearsal, loaded: Loaded, report: Report) -> Sequence[Difference]:
    found: list[Difference] = []
    own = f"{loaded.id}."
    items = {item.id.removeprefix(own): item for item in report.items}
    for name, expected in rehearsal.file.expect.items.items():
        item = items.get(name)
        if item is None:
            found.append(Difference(name, "an item of the recipe", f"{loaded.id} has no such item"))
            continue
        if expected.route is not None and item.route != expected.route:
            found.append(Difference(f"{name}.route", expected.route, item.route))
        if expected.losses is not None and {loss.what for loss in item.losses} != set(
            expected.losses
        ):
            losses = ", ".join(loss.what for loss in item.losses)
            found.append(Difference(f"{name}.losses", ", ".join(expected.losses), losses))
        for check, value in expected.checks.items():
            found.extend(_judge_check(name, item, check, value))
    for name, item in items.items():
        if item.state != "carried":
            why = "; ".join([item.state, *(step.reason for step in item.steps)])
            found.append(Difference(name, "carried", why))
        for line in item.checks:
            if line.verdict != "holds":
                found.append(Difference(f"{name}.checks.{line.name}", str(line.old), str(line.new)))
            elif line.new == 0 and line.name not in _expected_checks(rehearsal, name):
                wanted = "something, or 0 said in expect"
                found.append(Difference(f"{name}.checks.{line.name}", wanted, "0 = 0"))
    return found


def _expected_checks(rehearsal: Rehearsal, item: str) -> set[str]:
    expected = rehearsal.file.expect.items.get(item)
    return set(expected.checks) if expected is not None else set()


def _judge_check(name: str, item: ItemReport, check: str, value: object) -> list[Difference]:
    line = next((c for c in item.checks if c.name == check), None)
    what = f"{name}.checks.{check}"
    if line is None:
        return [Difference(what, str(value), "the recipe has no such check")]
    new = tuple(line.new) if isinstance(line.new, list) else line.new
    same = new == value or (not isinstance(new, tuple) and str(new) == str(value))
    return [] if same else [Difference(what, str(value), str(line.new))]


def _judge_screen(expected: Screen, old: str, new: str) -> list[Difference]:
    """Compare what was printed on both sides; what is the same and empty is no proof."""
    but_for = expected.same_but_for if isinstance(expected, SameButFor) else ()
    one, other = _lines(old, but_for), _lines(new, but_for)
    if not one:
        return [Difference("screen", "something to compare", "nothing was printed on old")]
    for (number, a), (_, b) in zip(one, other, strict=False):
        if a != b:
            return [Difference(f"screen, line {number}", a, b)]
    if len(one) != len(other):
        return [Difference("screen", f"{len(one)} lines", f"{len(other)} lines")]
    return []


def _lines(screen: str, but_for: Sequence[str]) -> list[tuple[int, str]]:
    lines = enumerate(screen.splitlines(), start=1)
    return [(n, line) for n, line in lines if not any(re.search(e, line) for e in but_for)]
