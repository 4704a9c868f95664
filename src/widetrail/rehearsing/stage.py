"""The stage of a rehearsal: copies of its machines, made what the rehearsal says they are."""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import yaml

from widetrail.errors import InputUnusable, WideTrailError
from widetrail.finding import Finder, find_application
from widetrail.finding.readings import insist_own_journal
from widetrail.finding.stores import Store, as_value, name_in
from widetrail.findings import Finding
from widetrail.formats import Unreadable, digest
from widetrail.formats.forms import FORMS
from widetrail.formats.interface import Unwritable
from widetrail.formats.parser_process import ask
from widetrail.formats.sqlite import run_statements
from widetrail.licence.service import Service
from widetrail.machine import FolderMachine
from widetrail.machine.isolated import why_not_isolated
from widetrail.machine.machine_file import FILE as MACHINE_FILE
from widetrail.machine.machine_file import machine_file_of
from widetrail.machine.own_folders import own_on
from widetrail.machine.paths import is_within, join
from widetrail.machine.platforms import PLATFORMS
from widetrail.machine.roots import default_home
from widetrail.recipe import Loaded, Reading
from widetrail.rehearsing.machine_copies import copy_machine
from widetrail.rehearsing.maker import address_of
from widetrail.rehearsing.rehearsal_file import Change, Hollow, Side
from widetrail.steps.write import written_with
from widetrail.walking import runs_on
from widetrail.walking.overlaps import journal_of
from widetrail.walking.run_folders import own_homes

MACHINES = "machines"

RUN = "rehearsal"
"""What the run of a rehearsal is called."""


def machines_near(rehearsal: Path) -> Path:
    """Return the folder of machines beside a rehearsal, or above it.

    Raises:
        InputUnusable: There is none.
    """
    for folder in rehearsal.resolve().parents:
        if (folder / MACHINES).is_dir():
            return folder / MACHINES
    raise InputUnusable(
        "its machines were not found",
        where=str(rehearsal),
        why=f"no folder {MACHINES} lies beside it or above it",
        todo="Name the folder that holds them with --machines.",
    )


def exposed(folder: Path) -> Iterator[Finding]:
    """Give a warning for a machine whose programs are to be isolated and are not.

    Raises:
        InputUnusable: There is no such machine.
    """
    file = machine_file_of(folder)
    why = why_not_isolated(file)
    if file.isolated and why and file.programs:
        message = f"its programs were not isolated: {why}"
        at = str(folder.resolve() / MACHINE_FILE)
        yield Finding(at, 1, 1, "not-isolated", "isolated", message, severity="warning")


def fast_folder() -> str | None:
    """Return a folder in memory, where the system has one; thousands of trees are made there."""
    memory = Path("/dev/shm")
    return str(memory) if memory.is_dir() and os.access(memory, os.W_OK | os.X_OK) else None


def prepared_copy(
    source: Path,
    folder: Path,
    side: Side,
    recipes: Sequence[Loaded],
    service: Service | None = None,
) -> None:
    """Copy a machine and make the copy what a rehearsal's side says.

    Its programs are told where ``service`` is, where the machine has a network.

    Raises:
        InputUnusable: There is no such machine, it cannot be what is said, or a command that
            prepares it is none, or fails.
    """
    if not source.is_dir():
        raise InputUnusable("machine not found", where=str(source), todo="Name one that is there.")
    copy_machine(source, folder)
    _forget_runs(FolderMachine(folder))
    file = folder / MACHINE_FILE
    own: dict[str, Any] = yaml.load(file.read_bytes(), yaml.CBaseLoader)
    merged = {**own, **as_plain(side.set_)}
    if side.drives:
        merged = _with_drives(merged, side.drives, str(source))
    if side.user:
        merged = _with_user(folder, merged, side.user)
    if address := address_of(service, network=merged.get("network") != "no"):
        merged["environment"] = {**merged.get("environment", {}), **address}
    if merged != own:
        told = yaml.dump(merged, Dumper=yaml.CSafeDumper, allow_unicode=True)
        file.write_text(told, encoding="utf-8")
    for what in ("release", "edition"):
        for recipe, value in getattr(side, what).items():
            loaded = _named(recipes, recipe)
            _tell(FolderMachine(folder), loaded, what, value)
    change(FolderMachine(folder), side, recipes)


def _forget_runs(machine: FolderMachine) -> None:
    """Remove what earlier runs keep on a copy of a machine: nobody goes on with them there."""
    own = own_on(machine)
    for run in runs_on(machine):
        homes = own_homes(machine, join(own, run), journal_of(machine, run).records)
        for home in homes:
            shutil.rmtree(machine.host(home), ignore_errors=True)
    shutil.rmtree(machine.host(own), ignore_errors=True)


def change(machine: FolderMachine, changed: Change, recipes: Sequence[Loaded]) -> None:
    """Do to a machine what ``changed`` says.

    Raises:
        InputUnusable: A command is none of the recipes' programs, or fails.
    """
    if not any(getattr(changed, name) for name in Change.model_fields):
        return
    for path in changed.removes:
        host = machine.host(path)
        if not os.path.lexists(host):
            raise InputUnusable("the path to be removed does not exist", where=path)
        shutil.rmtree(host) if host.is_dir() and not host.is_symlink() else host.unlink()
    for path, contents in changed.files.items():
        host = machine.host(path)
        host.parent.mkdir(parents=True, exist_ok=True)
        if isinstance(contents, Hollow):
            with host.open("wb") as hollow:
                hollow.truncate(contents.size)
        else:
            host.write_text(contents, encoding="utf-8")
    for path, statements in changed.databases.items():
        host = machine.host(path)
        host.parent.mkdir(parents=True, exist_ok=True)
        try:
            insist_own_journal(host)
            ask(run_statements, str(host), list(statements))
        except (Unreadable, Unwritable) as error:
            raise InputUnusable(
                "a database statement failed", where=path, why=str(error)
            ) from error
    for name, value in changed.values.items():
        machine = FolderMachine(machine.folder)
        finder = find_application(machine, recipes[0])
        cases = recipes[0].recipe.readings.get(name, ())
        reading = next((case for case in cases if finder.holds(case.for_)), None)
        _write_where_read(machine, finder, name, reading, value)
    if changed.answers:
        machine.record(as_plain(changed.answers))
    _prepare(FolderMachine(machine.folder), recipes, changed.prepare)


def as_plain(value: Any) -> Any:
    """Return a document's value as plain maps, lists and texts: a copy."""
    if isinstance(value, dict):
        return {str(key): as_plain(inner) for key, inner in value.items()}
    return [as_plain(v) for v in value] if isinstance(value, list) else str(value)


def _with_drives(own: Mapping[str, Any], drives: Mapping[str, str], where: str) -> dict[str, Any]:
    """Return a machine's file in which drives have other letters, or disks other mount points."""
    known, platform = dict(own["disks"]), own["platform"]
    home = own.get("home") or default_home(platform, own["system"], own["user"])
    own = {**own, "home": home}
    ends = ":" if PLATFORMS[platform].drive_letters else ""
    for old, new in drives.items():
        if old not in known or new in known:
            why = f"it has {', '.join(known)}"
            raise InputUnusable(
                f"{old} cannot be changed to {new} on this machine", where=where, why=why
            )
        known[new] = known.pop(old)

    def told(value: Any) -> Any:
        if isinstance(value, dict):
            return {key: told(inner) for key, inner in value.items()}
        if isinstance(value, list):
            return [told(inner) for inner in value]
        found = (o for o in drives if str(value).startswith(f"{o}{ends}/"))
        old = next(found, None)
        return value if old is None else f"{drives[old]}{str(value)[len(old) :]}"

    return {**{key: told(value) for key, value in own.items()}, "disks": known}


def _with_user(folder: Path, own: Mapping[str, Any], user: str) -> dict[str, Any]:
    """Return a machine's file with another account, whose home has its name."""
    platform, before = own["platform"], FolderMachine(folder)
    home = own.get("home") or default_home(platform, own["system"], own["user"])
    there = default_home(platform, own["system"], user)
    host = before.host(home)
    if host.is_dir():
        target = before.host(there)
        target.parent.mkdir(parents=True, exist_ok=True)
        host.rename(target)
    moved = {
        name: f"{there}{path[len(home) :]}" if is_within(path, home, platform) else path
        for name, path in own.get("redirected", {}).items()
    }
    return {**own, "user": user, "home": there, **({"redirected": moved} if moved else {})}


def _named(recipes: Sequence[Loaded], wanted: str) -> Loaded:
    found = [loaded for loaded in recipes if wanted in ("", loaded.id)]
    if not found:
        known = ", ".join(loaded.id for loaded in recipes)
        raise InputUnusable(f"{wanted} is not rehearsed", why=f"known: {known}")
    return found[0]


def _tell(machine: FolderMachine, loaded: Loaded, what: str, value: str) -> None:
    """Write a release or edition where the recipe reads it.

    Raises:
        InputUnusable: The program is not there, or what tells it cannot be written.
    """
    finder = find_application(machine, loaded)
    reading: Reading | None = getattr(finder.recognition, what, None)
    _write_where_read(machine, finder, f"{what} of {loaded.id}", reading, value)


def _write_where_read(
    machine: FolderMachine, finder: Finder, what: str, reading: Reading | None, value: str
) -> None:
    """Write a value where ``reading`` reads it.

    Raises:
        InputUnusable: It is read nowhere, or what is read cannot be written.
    """
    try:
        if reading is None:
            raise Unwritable("is not read from any file on this machine")
        if reading.key is not None:
            _in_registry(machine, reading, value)
            return
        if reading.settings is not None:
            machine.edit_desktop({f"{reading.settings.rstrip('/')}/{reading.at}": value})
            return
        path = finder.choice(reading.file_read)
        if path is None:
            raise Unwritable("is read from what the program prints")
        data = written_with(FORMS[reading.form], machine.read(path), reading.at or "", value)
        machine.host(path).write_bytes(data)
    except (Unreadable, Unwritable, WideTrailError) as error:
        raise InputUnusable(
            f"the {what} cannot be {value}",
            where=machine.name,
            why=str(error),
            todo="Say it with files or prepare.",
        ) from error


def _in_registry(machine: FolderMachine, reading: Reading, value: str) -> None:
    assert reading.key is not None
    store, name = (
        Store(machine, "registry", reading.key),
        name_in("registry", reading.at or ""),
    )
    store.change({name: as_value("registry", name, value, store.read().get(name))})


def _prepare(
    machine: FolderMachine, recipes: Sequence[Loaded], commands: Sequence[Sequence[str]]
) -> None:
    programs: dict[str, str] = {}
    for loaded in recipes if commands else ():
        programs |= find_application(machine, loaded).programs()
    for name, *arguments in commands:
        if name not in programs:
            known, of = ", ".join(programs), " or ".join(loaded.id for loaded in recipes)
            raise InputUnusable(f'"{name}" is not a program of {of}', why=f"known: {known}")
        done = machine.start(programs[name], arguments)
        if done.status != 0:
            raise InputUnusable(
                f"preparing {machine.name} failed",
                where=" ".join([name, *arguments]),
                why=f"it ended with {done.status}: {done.errors.strip()}",
            )


# What nothing of a rehearsal may touch

_HOMES = (
    "HOME",
    "USERPROFILE",
    "APPDATA",
    "LOCALAPPDATA",
    "XDG_CONFIG_HOME",
    "XDG_DATA_HOME",
    "XDG_CACHE_HOME",
    "XDG_STATE_HOME",
)


@contextmanager
def canary(folder: Path) -> Iterator[dict[str, str]]:
    """Have all that means the home of this account mean ``folder`` until the end of the block.

    Gives what was found otherwise at its end: paths below it with what happened to them. What is
    written there was written by something that does not ask the machine where its home is.
    """
    (folder / ".config").mkdir(parents=True)
    (folder / "kept.txt").write_text("nobody writes here\n", encoding="utf-8")
    before, kept = _listed(folder), {name: os.environ.get(name) for name in _HOMES}
    found: dict[str, str] = {}
    for name in _HOMES:
        os.environ[name] = str(folder)
    try:
        yield found
    finally:
        for name, value in kept.items():
            if value is None:
                os.environ.pop(name, None)
            else:
                os.environ[name] = value
        after = _listed(folder)
        for path in sorted(before.keys() | after.keys()):
            if before.get(path) != after.get(path):
                told = "changed" if path in before else "added"
                found[path] = told if path in after else "removed"


def _listed(folder: Path) -> dict[str, str]:
    return {
        path.relative_to(folder).as_posix(): digest(path.read_bytes()) if path.is_file() else ""
        for path in folder.rglob("*")
    }
