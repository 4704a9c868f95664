"""Machines made of a field report, on which nothing has contents and programs end as they did."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path, PurePosixPath
from typing import Any

import yaml

from widetrail.errors import InputUnusable
from widetrail.field.field_file import FieldFile, Structure
from widetrail.field.outcomes_told import StepTold
from widetrail.finding import find_application
from widetrail.machine import FolderMachine
from widetrail.machine.machine_file import FILE as MACHINE_FILE
from widetrail.machine.paths import is_within, join
from widetrail.machine.platforms import PLATFORMS, Platform
from widetrail.machine.roots import default_home, standard_roots
from widetrail.planning import Plan, PlannedItem
from widetrail.recipe import Loaded, Reading, Station
from widetrail.recipe.by_platform import on_platform
from widetrail.rehearsing.stage import MACHINES, write_where_read
from widetrail.steps.run_step import RunStep

_WAS_THERE = "was-there.txt"
"""What lies in a place on new that was occupied, where the report does not tell what did."""


class MachinesMade:
    """Builds the machines of a report."""

    def __init__(
        self,
        report: FieldFile,
        plan: Plan,
        recipes: Sequence[Loaded],
        steps: Mapping[str, StepTold],
        folder: Path,
    ) -> None:
        self._report, self._plan = report, plan
        self._recipes = {loaded.id: loaded for loaded in recipes}
        self._steps, self._folder = steps, folder

    def machine(self, station: Station) -> list[str]:
        """Build one; return what could not be."""
        told = self._plan.station(station)
        platform = self._platform(station)
        system, user = told.facts.get("system", ""), told.facts.get("user", "someone")
        system = system or PLATFORMS[platform].sample.system
        home = told.roots.get("home") or default_home(platform, system, user)
        usual = standard_roots(platform, system, home)
        moved = {n: p for n, p in told.roots.items() if n in usual and p != usual[n]}
        roots = {**usual, **moved}
        if station == "new":
            moved |= self._moved_on_new(platform, usual)
            roots |= moved
        folder = self._folder / MACHINES / f"field-{station}"
        programs = dict(self._programs(platform, roots))
        own: dict[str, Any] = {
            "machine": folder.name,
            "platform": platform,
            "system": system,
            "user": user,
            "home": home,
            "redirected": moved,
            "disks": dict(self._disks(platform, station)),
            "programs": [self._program(path, name) for path, name in programs.items()],
        }
        for disk in own["disks"].values():
            (folder / disk["folder"]).mkdir(parents=True)
        (folder / MACHINE_FILE).write_text(yaml.safe_dump(own, allow_unicode=True), "utf-8")
        machine = FolderMachine(folder)
        for root in ("home", "documents", "config", "data", "state", "temp"):
            machine.host(machine.root(root)).mkdir(parents=True, exist_ok=True)
        for path in (*programs, *self._signs(platform, roots)):
            _put(machine, path, 0)
        self._fill(machine, station)
        return [*self._tell_releases(folder, station), *self._tell_places(folder, station, roots)]

    def _moved_on_new(self, platform: Platform, usual: Mapping[str, str]) -> dict[str, str]:
        """Return the roots that must lie elsewhere on new, by where its places were found."""
        found: dict[str, str] = {}
        for item in self._plan.placed:
            loaded = self._recipes[item.recipe]
            for place in loaded.recipe.places.get(loaded.recipe.items[item.item].from_, ()):
                template = on_platform(place.folder or place.file or "", platform) or ""
                root, _, below = template.removeprefix("{").partition("}/")
                end = f"/{below}"
                if root in usual and item.new_path.endswith(end):
                    at = item.new_path[: -len(end)]
                    if at != usual[root]:
                        found[root] = at
        return found

    def _disks(self, platform: Platform, station: Station) -> Iterator[tuple[str, dict[str, str]]]:
        rules = PLATFORMS[platform]
        letters = dict(rules.sample.disks)
        if rules.drive_letters:
            for item in self._plan.placed:
                path = item.old_path if station == "old" else item.new_path
                if path[1:2] == ":" and path[0].isascii() and path[0].isalpha():
                    letters.setdefault(path[0], f"disks/{path[0]}")
        yield from ((name, {"folder": folder}) for name, folder in letters.items())

    def _programs(self, platform: Platform, roots: Mapping[str, str]) -> Iterator[tuple[str, str]]:
        """Give the path of each program of the recipes, with its name there."""
        for loaded in self._recipes.values():
            for name, choice in loaded.recipe.application.programs.items():
                if path := _filled(on_platform(choice, platform), roots):
                    yield path, f"{loaded.id}.{name}"

    def _program(self, path: str, name: str) -> dict[str, Any]:
        """Return a program of a machine that plays the calls of the real one."""
        recipe, _, called = name.partition(".")
        calls = self._folder / MACHINES / f"{name}.calls.json"
        calls.parent.mkdir(parents=True, exist_ok=True)
        played = [
            {"arguments": step.command[1:], "status": told.status, "makes": _made(step, told)}
            for step in self._plan.steps
            if isinstance(step, RunStep)
            and step.item.startswith(f"{recipe}.")
            and step.command[0] == called
            and (told := self._steps.get(step.id)) is not None
        ]
        calls.write_text(json.dumps(played, ensure_ascii=False), encoding="utf-8")
        start = ["python", "-P", "-m", "widetrail.field.stand_in", str(calls.resolve())]
        return {"path": path, "start": start, "paths": "host"}

    def _signs(self, platform: Platform, roots: Mapping[str, str]) -> Iterator[str]:
        """Give the path of the first sign of each recipe that is a file or folder."""
        for loaded in self._recipes.values():
            for case in loaded.recipe.recognise:
                where = case.sign.where
                path = _filled(on_platform(where, platform) if where else None, roots)
                if path:
                    yield path if case.sign.file is not None else join(path, _WAS_THERE)
                    break

    def _fill(self, machine: FolderMachine, station: Station) -> None:
        """Put what the report tells into the places of the items."""
        report = self._report
        for item in self._plan.placed:
            if "\\" in item.old_path or "\\" in item.new_path:
                continue
            if station == "old":
                told = report.packed.get(item.id)
                told = report.there.get(item.id) if told is None and report.here == "old" else told
                _lay_out(machine, item, item.old_path, told or Structure())
            elif item.occupied and item.new_path:
                at = item.new_path if item.single else join(item.new_path, _WAS_THERE)
                _put(machine, at, 1)

    def _tell_releases(self, folder: Path, station: Station) -> Iterator[str]:
        """Write the releases where recipes read them; give what could not be."""
        for planned in self._plan.recipes if station == "old" else ():
            loaded = self._recipes[planned.id]
            here = find_application(FolderMachine(folder), loaded).installation
            case = loaded.recipe.recognise[here.case] if here is not None else None
            for what, value in planned.old.items():
                reading: Reading | None = getattr(case, what, None)
                if reading is None:
                    yield f"{what} of {loaded.id}"
                elif why := _told_so(folder, loaded, f"{what} of {loaded.id}", reading, value):
                    yield why

    def _tell_places(
        self, folder: Path, station: Station, roots: Mapping[str, str]
    ) -> Iterator[str]:
        """Have the programs' settings tell the places that lay elsewhere; give what could not be
        told."""
        for planned in self._plan.recipes:
            loaded = self._recipes[planned.id]
            items = [i for i in self._plan.placed if i.recipe == planned.id and not i.instance]
            at = {loaded.recipe.items[i.item].from_: i.new_path for i in items}
            for name, path in (planned.places if station == "old" else at).items():
                for case in loaded.recipe.places.get(name, ()):
                    usual = on_platform(case.folder or case.file or "", self._platform(station))
                    reading = case.set_in
                    if reading is None or not path or path == _filled(usual, roots):
                        continue
                    if why := _told_so(folder, loaded, f"place {name}", reading, path):
                        yield why
                    break

    def _platform(self, station: Station) -> Platform:
        """Return the platform of a station: that of old, where nobody saw the other one."""
        known = self._plan.station(station).facts.get("platform", "")
        return known or self._plan.station("old").facts["platform"]


_EMPTY = (None, b"", b"{}\n", b"<r/>\n")
"""What a settings file is begun with, where there is none: nothing, or an empty document."""


def _told_so(folder: Path, loaded: Loaded, what: str, reading: Reading, value: str) -> str:
    """Write a value where a recipe reads it, into a file that is begun anew where there is none;
    return why that cannot be."""
    machine, why = FolderMachine(folder), ""
    finder = find_application(machine, loaded)
    path = finder.choice(reading.file_read) if reading.file_read is not None else None
    for begun in _EMPTY:
        if begun is not None and path is not None:
            machine.host(path).parent.mkdir(parents=True, exist_ok=True)
            machine.host(path).write_bytes(begun)
        try:
            write_where_read(machine, finder, what, reading, value)
            return ""
        except InputUnusable as error:
            why = why or str(error)
    return why


def _lay_out(machine: FolderMachine, item: PlannedItem, place: str, told: Structure) -> None:
    if item.single:
        _put(machine, place, item.size)
        return
    machine.host(place).mkdir(parents=True, exist_ok=True)
    for one in told.names:
        path = join(place, one.path) if one.path else place
        if not is_within(path, place, machine.platform) or ".." in PurePosixPath(one.path).parts:
            continue
        if one.kind == "folder":
            machine.host(path).mkdir(parents=True, exist_ok=True)
        elif one.kind == "file":
            _put(machine, path, one.size)


def _put(machine: FolderMachine, path: str, size: int) -> None:
    """Put a file of a size at a path, in which no byte is written."""
    host = machine.host(path)
    host.parent.mkdir(parents=True, exist_ok=True)
    if not host.exists():
        with host.open("wb") as file:
            file.truncate(size)


def _filled(template: str | None, roots: Mapping[str, str]) -> str | None:
    """Return a path whose root is filled in; ``None`` for one that cannot be, or has a glob."""
    root, found, below = (template or "").removeprefix("{").partition("}")
    if not found or root not in roots or set(below) & set("*?[{"):
        return None
    return f"{roots[root]}{below}"


def _made(step: RunStep, told: StepTold) -> dict[str, int]:
    """Return the files that a call made, by the numbers of its arguments."""
    return {
        str(number): 1
        for number, argument in enumerate(step.command[1:])
        if argument.startswith("{parcel}/") and told.made
    }
