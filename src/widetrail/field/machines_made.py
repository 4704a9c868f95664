"""Machines made of a field report, on which nothing has contents and programs end as they did."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path, PurePosixPath
from typing import Any

import yaml

from widetrail.field.answers_told import AnswersTold
from widetrail.field.calls_told import CallsTold
from widetrail.field.field_file import FieldFile, Structure
from widetrail.field.outcomes_told import StepTold
from widetrail.finding.stores import Store, StoreKind, file_with, in_file, one_value
from widetrail.formats.registry_writing import write_registry
from widetrail.machine import FolderMachine
from widetrail.machine.machine_file import DESKTOP_SETTINGS, REGISTRY
from widetrail.machine.machine_file import FILE as MACHINE_FILE
from widetrail.machine.paths import is_within, join
from widetrail.machine.platforms import PLATFORMS, Platform
from widetrail.machine.roots import default_home, standard_roots
from widetrail.planning import Plan, PlannedItem
from widetrail.recipe import Loaded, Station
from widetrail.recipe.by_platform import on_platform
from widetrail.recipe.text_types import is_command
from widetrail.rehearsing.stage import MACHINES

_STAND_IN = Path(__file__).with_name("stand_in.py")
"""What plays programs: by its path, so that nothing else is loaded each time."""

_WAS_THERE = "was-there"
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
        self._folder = folder
        self.answers = AnswersTold(plan, self._recipes, steps, report.releases)
        self._told = CallsTold(self.answers)

    def machine(self, station: Station) -> FolderMachine:
        """Build one."""
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
            "administrator": "yes" if self.answers.had("administrator", station) else "no",
            "network": "no" if self.answers.had("network", station) is False else "yes",
            "programs": [self._program(path, name, station) for path, name in programs.items()],
        }
        for disk in own["disks"].values():
            (folder / disk["folder"]).mkdir(parents=True)
        (folder / MACHINE_FILE).write_text(yaml.safe_dump(own, allow_unicode=True), "utf-8")
        if "registry" in PLATFORMS[platform].stores:
            (folder / REGISTRY).write_bytes(write_registry([]))
        if "dconf" in PLATFORMS[platform].stores:
            (folder / DESKTOP_SETTINGS).touch()
        machine = FolderMachine(folder)
        for root in ("home", "documents", "config", "data", "state", "temp"):
            machine.host(machine.root(root)).mkdir(parents=True, exist_ok=True)
        for path in (*programs, *self._signs(machine, roots)):
            _put(machine, path, 0)
        if station != "between":
            self._fill(machine, station)
        self.answers.record(machine, station)
        for name in programs.values():
            recipe, _, program = name.partition(".")
            calls = [*self._told.of(recipe, program, machine, station)]
            text = json.dumps(calls, ensure_ascii=False, indent=1)
            self._calls(name, station).write_text(text, encoding="utf-8")
        return machine

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
                path = item.path_at(station)
                if path[1:2] == ":" and path[0].isascii() and path[0].isalpha():
                    letters.setdefault(path[0], f"disks/{path[0]}")
        yield from ((name, {"folder": folder}) for name, folder in letters.items())

    def _programs(self, platform: Platform, roots: Mapping[str, str]) -> Iterator[tuple[str, str]]:
        """Give the path of each program of the recipes, with its name there."""
        for loaded in self._recipes.values():
            for name, choice in loaded.recipe.application.programs.items():
                template = on_platform(choice, platform) or ""
                searched = (*(PLATFORMS[platform].searched or ()), "/usr/bin")[0]
                path = join(searched, template) if is_command(template) else None
                if path := path or _filled(template, roots):
                    yield path, f"{loaded.id}.{name}"

    def _program(self, path: str, name: str, station: Station) -> dict[str, Any]:
        """Return a program of a machine that plays the calls of the real one."""
        calls = str(self._calls(name, station).resolve())
        start = ["python", "-P", str(_STAND_IN), calls]
        return {"path": path, "start": start, "paths": "machine"}

    def _calls(self, name: str, station: Station) -> Path:
        return self._folder / MACHINES / f"field-{station}.{name}.calls.json"

    def _signs(self, machine: FolderMachine, roots: Mapping[str, str]) -> Iterator[str]:
        """Give the path of the first sign of each recipe that is a file or folder; make the first
        that is a key."""
        platform = machine.platform
        for loaded in self._recipes.values():
            for case in loaded.recipe.recognise:
                where = case.sign.where
                if case.sign.registry is not None and "registry" in machine.rules.stores:
                    _put_value(machine, "registry", case.sign.registry)
                    break
                path = _filled(on_platform(where, platform) if where else None, roots)
                if path:
                    yield path if case.sign.file is not None else join(path, _WAS_THERE)
                    break

    def _fill(self, machine: FolderMachine, station: Station) -> None:
        """Put what the report tells into the places of the items."""
        report = self._report
        for item in self._plan.placed:
            if item.store:
                at = item.old_path if station == "old" else item.new_path if item.occupied else ""
                if at:
                    _put_value(machine, item.store, at)
            elif station == "old":
                told = report.packed.get(item.id)
                told = report.there.get(item.id) if told is None and report.here == "old" else told
                _lay_out(machine, item, item.old_path, told or Structure())
            elif item.occupied and item.new_path:
                at = item.new_path if item.single else join(item.new_path, _WAS_THERE)
                _put(machine, at, 1)
        for item in self._plan.placed:
            at = item.path_at(station)
            if at and (station == "old" or not item.registered):
                for wanted in self._held(item):
                    _put(machine, join(at, wanted), 0)

    def _held(self, item: PlannedItem) -> Iterator[str]:
        """Give a name for each that a place must hold to be one of several."""
        loaded = self._recipes[item.recipe]
        if item.instance:
            for place in loaded.recipe.places.get(loaded.recipe.items[item.item].from_, ()):
                yield from (re.sub(r"[*?]+", _WAS_THERE, wanted) for wanted in place.contains)

    def _platform(self, station: Station) -> Platform:
        """Return the platform of a station: that of old, where nobody saw the other one."""
        known = self._plan.station(station).facts.get("platform", "")
        return known or self._plan.station("old").facts["platform"]


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


def _put_value(machine: FolderMachine, kind: StoreKind, place: str) -> None:
    """Put a value into a store that is there then."""
    value = one_value(kind, _WAS_THERE)
    if in_file(kind):
        _put(machine, place, 0)
        machine.host(place).write_bytes(file_with(kind, b"", value))
    else:
        Store(machine, kind, place).change(value)


def _filled(template: str | None, roots: Mapping[str, str]) -> str | None:
    """Return a path whose root is filled in; ``None`` for one that cannot be, or has a glob."""
    root, found, below = (template or "").removeprefix("{").partition("}")
    if not found or root not in roots or set(below) & set("*?[{"):
        return None
    return f"{roots[root]}{below}"
