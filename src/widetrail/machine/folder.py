"""The folder machine: a computer whose disks are folders.

``machine.yaml`` in the folder says what computer it is; see ``docs/folder-machine.md`` for the
file, and for the environment that programs started on it are given.
"""

from __future__ import annotations

import json
import os
import shutil
import tempfile
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import replace
from functools import cached_property
from pathlib import Path
from typing import Any

from widetrail.errors import MachineUnusable
from widetrail.formats import Unreadable, digest
from widetrail.formats.outside import SafePath, link_target, status_of
from widetrail.formats.texts import decode
from widetrail.machine import paths
from widetrail.machine.disk_folders import DiskFolders
from widetrail.machine.effects import Effects
from widetrail.machine.folder_stores import FolderStores
from widetrail.machine.host import HostMachine, copy_plain, entry_of
from widetrail.machine.host_programs import (
    environment_here,
    host_command,
    in_machine_paths,
    insist_not_here,
)
from widetrail.machine.interface import Channels, Completed, Entry, Machine, Room
from widetrail.machine.isolated import why_not_isolated
from widetrail.machine.machine_file import (
    ANSWERS,
    CONTENTS,
    DESKTOP_SETTINGS,
    FILE,
    REGISTRY,
    Program,
    environments_of,
    machine_file_of,
)
from widetrail.machine.own_folders import OWN_STATE, own_state
from widetrail.machine.process_start import Start
from widetrail.machine.processes import run_at_terminal
from widetrail.machine.registries import Registry
from widetrail.machine.roots import (
    SHELL_FOLDERS,
    default_home,
    redirected_by_shell,
    redirected_by_user_dirs,
    redirected_by_xdg,
    standard_roots,
)
from widetrail.machine.windows_told import installed_program, services_folders


class FolderMachine(HostMachine):
    """A machine whose disks are folders; see ``Machine`` for the contract."""

    def __init__(self, folder: Path, effects: Effects | None = None) -> None:
        """Open the machine in ``folder``.

        Raises:
            MachineUnusable: The folder or a disk of it is not there.
            DocumentUnusable: ``machine.yaml`` has findings.
        """
        self.folder = SafePath(folder.resolve())
        self.file = machine_file_of(folder)
        if (self.folder / CONTENTS).is_file():
            raise MachineUnusable(
                "is stored by content, to be rehearsed on",
                where=str(folder),
                todo="Bring its files back: widetrail machine unshare.",
            )
        self.name, self.platform = self.file.machine, self.file.platform
        self.system, self.user = self.file.system, self.file.user
        self.identity = self.file.identity or f"{self.name}:{self.platform}:{self.user}"
        self.given: dict[str, str] = {}
        """Variables that programs are given beside those of ``machine.yaml``."""

        self.effects = effects or Effects()
        self.administrator, self.network = self.file.administrator, self.file.network != "no"
        self._home = self.file.home or default_home(self.platform, self.system, self.user)
        self._disks = DiskFolders(self.folder, self.platform, self.file.disks)

    @cached_property
    def read_only(self) -> bool:
        """Whether nothing may be changed, since its file says so or the system does."""
        disk = self._disks.at[self._disks.of(self._home)[0]]
        as_now = os.access in os.supports_effective_ids
        return self.file.read_only or not os.access(disk, os.W_OK, effective_ids=as_now)

    @property
    def answers(self) -> Mapping[str, Any]:
        file = self.folder / ANSWERS
        told: dict[str, Any] = json.loads(file.read_bytes()) if file.is_file() else {}
        return told

    def record(self, answers: Mapping[str, Any]) -> None:
        """Have readings tell what is recorded from now on, beside what was recorded before."""
        told = json.dumps({**self.answers, **answers}, ensure_ascii=False, indent=1)
        (self.folder / ANSWERS).write_text(told, encoding="utf-8")

    @cached_property
    def _apart(self) -> tuple[str, Path] | None:
        """What of the machine is the tool's own, and where on this computer it lies instead, where
        nothing on the machine may be changed."""
        if not self.read_only:
            return None
        name = f"{Path(self.name).name}-{digest(self.identity.encode())[:12]}"
        return paths.join(self.root("state"), OWN_STATE), own_state() / "machines" / name

    def _key(self, text: str) -> str:
        return paths.key(text, self.platform)

    def root(self, name: str) -> str:
        return self._roots[name]

    @cached_property
    def _roots(self) -> dict[str, str]:
        standard = standard_roots(self.platform, self.system, self._home)
        if "registry" in self.rules.stores:
            found = self._redirected_by_registry()
        elif self.rules.follows_xdg:
            standard |= redirected_by_xdg(self.file.environment)
            found = self._redirected_by_user_dirs(standard["config"])
        else:
            found = {}
        return {**standard, **found, **self.file.redirected}

    def _redirected_by_registry(self) -> dict[str, str]:
        try:
            key = self.registry.key(SHELL_FOLDERS)
        except Unreadable:
            return {}
        variables = {"USERPROFILE": self._home, **self.file.environment}
        return {} if key is None else redirected_by_shell(key, variables)

    def _redirected_by_user_dirs(self, config: str) -> dict[str, str]:
        path = paths.join(config, "user-dirs.dirs")
        try:
            there = self.look(path) is not None
            return redirected_by_user_dirs(decode(self.read(path))[0], self._home) if there else {}
        except MachineUnusable:
            return {}

    def variables(self) -> Mapping[str, str]:
        known = self.rules.account_variables(self.user, self._roots)
        return {**known, **self.file.environment}

    def command(self, name: str) -> str | None:
        """Return where a command's program is: Linux has all installed ones on its search path,
        elsewhere those are that lie in a folder of the system."""
        found = {paths.base(p.path).removesuffix(".exe"): p.path for p in self.file.programs}
        path = found.get(name)
        folders = self.rules.searched
        if path is not None and folders is not None:
            within = (paths.is_within(path, folder, self.platform) for folder in folders)
            path = path if any(within) else None
        if path is None and "registry" in self.rules.stores:
            return installed_program(self, name)
        return path

    def synced(self, path: str) -> str:
        for folder, service in self._services:
            if paths.is_within(path, folder, self.platform):
                return service
        return ""

    @cached_property
    def _services(self) -> tuple[tuple[str, str], ...]:
        """The folders that services keep in step, each with its service."""
        known = tuple((synced.folder, synced.service) for synced in self.file.synced)
        return (*known, *services_folders(self.registry))

    def shares(self) -> tuple[tuple[str, str], ...]:
        known = [(share.folder, share.share) for share in self.file.shares]
        return (*known, *self._services)

    @property
    def _stores(self) -> FolderStores:
        return FolderStores(self.folder, self.rules, self._home, self.effects, self.read)

    @property
    def registry(self) -> Registry:
        return self._stores.registry

    def edit_desktop(self, changes: Mapping[str, str | None]) -> None:
        self._stores.edit_desktop(changes)

    def desktop_settings(self) -> bytes:
        return self._stores.desktop_settings()

    @contextmanager
    def scratch(self, copies: Sequence[str]) -> Iterator[Machine]:
        with tempfile.TemporaryDirectory(prefix="widetrail-scratch-") as folder:
            top = Path(folder)
            for name in (FILE, REGISTRY, DESKTOP_SETTINGS):
                copy_plain(self.folder / name, top / name)
            for disk in self.file.disks.values():
                (top / disk.folder).mkdir(parents=True, exist_ok=True)
            twin = FolderMachine(top, self.effects)
            for root in ("home", "config", "data", "temp"):
                twin.host(self.root(root)).mkdir(parents=True, exist_ok=True)
            programs = [paths.parent(p.path) for p in self.file.programs]
            for path in dict.fromkeys([*programs, *copies]):
                copy_plain(self.host(path), twin.host(path))
            yield twin

    def look(self, path: str) -> Entry | None:
        at = self._disks.as_written(path) if OWN_STATE not in path else ""
        try:
            return entry_of(paths.base(path), status_of(at), lambda: link_target(at))
        except (OSError, ValueError):  # it is not there, not so spelled, or behind a link
            return super().look(path)

    def host(self, path: str) -> SafePath:
        if OWN_STATE in path and (below := self._below_own(path)) is not None:
            return below
        return self._disks.host(path)

    def _below_own(self, path: str) -> SafePath | None:
        """Return where a path of the tool's own lies on this computer, where it does."""
        if self._apart is None or not paths.is_within(path, self._apart[0], self.platform):
            return None
        names = path[len(self._apart[0]) :].strip("/").split("/")
        if {".", ".."} & set(names):
            raise MachineUnusable("a path must not contain `..`", where=path)
        return SafePath(self._apart[1].joinpath(*filter(None, names)))

    def disks(self) -> tuple[str, ...]:
        return tuple(mount or "/" for mount in sorted(self._disks.at))

    def room(self, path: str) -> Room:
        if OWN_STATE in path and (below := self._below_own(path)) is not None:
            there = next(folder for folder in (below, *below.parents) if folder.is_dir())
            return Room("this computer", shutil.disk_usage(there).free)
        mount, disk = self._disks.of(path)
        free = shutil.disk_usage(self._disks.at[mount]).free
        return Room(mount or "/", free if disk.free is None else min(free, disk.free))

    def _program(self, path: str) -> Program | None:
        wanted = self._key(path)
        return next((p for p in self.file.programs if self._key(p.path) == wanted), None)

    def running(self, program: str) -> list[str]:
        lines = [
            "machine.yaml says it is running"
            for name in self.file.running
            if self._key(name) == self._key(program)
        ]
        for pid, environment in environments_of(f"FOLDER_MACHINE={self.folder}"):
            named = environment.get("FOLDER_MACHINE_PROGRAM", "")
            if self._key(named) == self._key(program):
                lines.append(f"process {pid}")
        return lines

    @cached_property
    def not_isolated(self) -> str:
        """Why programs are not started in isolation; an empty text where they are."""
        return why_not_isolated(self.file)

    @contextmanager
    def _prepared(self, start: Start, *, stays: bool = False) -> Iterator[Start]:
        if self.not_isolated:
            yield start
            return
        from widetrail.machine import isolation
        from widetrail.machine.loopback import ports_of

        name = paths.base(self.name) or self.platform
        cell = isolation.Cell(
            name,
            self.user,
            self.root("home"),
            self._disks.at,
            read_only=self.read_only,
            ports=ports_of(self.file.environment) if self.network else (),
            outside=self.file.network == "outside",
        )
        with cell.enclosing(start, stays=stays) as enclosed:
            yield enclosed

    def _command(self, program: str) -> tuple[list[str], dict[str, str], str]:
        installed = self._program(program)
        if installed is None:
            why = f"{FILE} of {self.name} does not list it"
            raise MachineUnusable("is not installed", where=program, why=why)
        first = installed.start[0]
        if self.not_isolated or not first.startswith("/") or self.look(first) is None:
            first = host_command(first)
        return [first, *installed.start[1:]], self.environment(program), self.root("home")

    def start(
        self,
        program: str,
        arguments: Sequence[str],
        seconds: float = 60,
        channels: Channels = Channels(),  # noqa: B008 - it is frozen
    ) -> Completed:
        given = [self._argument(program, text) for text in arguments]
        env = {name: self._argument(program, text) for name, text in channels.env.items()}
        done = super().start(program, given, seconds, replace(channels, env=env))
        given_host_paths = self.not_isolated and self._paths_of(program) == "host"
        return in_machine_paths(done, self._disks.at) if given_host_paths else done

    def attend(self, program: str, arguments: Sequence[str]) -> int:
        """Run a program, or the shell where none is named, at the terminal of this process, and
        return its exit status: only in isolation.

        Raises:
            MachineUnusable: It is not installed.
        """
        shell = ["/bin/sh"], self.environment("/bin/sh"), self.root("home")
        command, environment, home = self._command(program) if program else shell
        env = {**environment, "TERM": os.environ.get("TERM", "dumb")}
        wanted = Start([*command, *arguments], env, self.host(home), program or "/bin/sh")
        with self._prepared(wanted, stays=True) as prepared:
            return run_at_terminal(prepared)

    def launch(self, program: str, arguments: Sequence[str]) -> None:
        super().launch(program, [self._argument(program, text) for text in arguments])

    def _paths_of(self, program: str) -> str:
        installed = self._program(program)
        return installed.paths if installed is not None else ""

    def _argument(self, program: str, text: str) -> str:
        """Return an argument as a program is to be given it.

        Raises:
            MachineUnusable: It names something of this computer itself, and nothing tells whether
                the program would take it for that.
        """
        if not text.startswith("/") or self.rules.drive_letters or not self.not_isolated:
            return text
        kind = self._paths_of(program)
        if kind == "host":
            return str(self.host(text))
        if not kind:
            insist_not_here(text, program)
        return text

    def environment(self, program: str) -> dict[str, str]:
        """Return the whole environment of a program started here.

        ``FOLDER_MACHINE…`` say where the disks are. In isolation every path is the machine's own,
        else the usual variables point into the folder.
        """
        told = {
            "FOLDER_MACHINE": str(self.folder),
            "FOLDER_MACHINE_PLATFORM": self.platform,
            "FOLDER_MACHINE_USER": self.user,
            "FOLDER_MACHINE_DISKS": json.dumps(self._disks.at, sort_keys=True),
            "FOLDER_MACHINE_PROGRAM": program,
        }
        given = {**self.file.environment, **self.given}
        if not self.not_isolated:
            told["FOLDER_MACHINE_DISKS"] = json.dumps({mount: mount for mount in self._disks.at})
            from widetrail.machine import isolation

            own = isolation.environment(self.root("home"), self.user, self.file.redirected)
            return {**own, **told, **given}
        here = {name: str(self.host(path)) for name, path in self._roots.items()}
        return environment_here(self.rules, {**here, "user": self.user}, {**told, **given})
