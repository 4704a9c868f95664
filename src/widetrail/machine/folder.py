"""The folder machine: a computer whose disks are folders.

``machine.yaml`` in the folder says what computer it is; see ``docs/folder-machine.md`` for the
file, and for the environment that programs started on it are given.
"""

from __future__ import annotations

import json
import os
import shutil
import stat
import subprocess
import sys
import tempfile
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Annotated, BinaryIO

from pydantic import AfterValidator, BeforeValidator, Field

from widetrail.errors import MachineUnusable, WentWrong
from widetrail.formats.checked import Model, YesNo, flaw, load
from widetrail.formats.interface import Platform
from widetrail.formats.quantities import parse_size
from widetrail.machine import paths
from widetrail.machine.effects import Effects
from widetrail.machine.interface import Completed, Entry, EntryKind, Room
from widetrail.machine.roots import default_home, standard_roots

READ_MOST = 64 * 1024 * 1024
FILE = "machine.yaml"


def _below(text: str) -> str:
    if not text or text.startswith(("/", "\\")) or ":" in text or ".." in text.split("/"):
        raise flaw("disk-folder", f'"{text}" must be a folder below the machine\'s own')
    return text


Size = Annotated[int, BeforeValidator(parse_size)]


class Disk(Model):
    """One volume: the folder that holds it, how large it is and how much of it is free."""

    folder: Annotated[str, AfterValidator(_below)]
    size: Size | None = None
    free: Size | None = None
    format: str = ""


class Program(Model):
    """An installed program: its path, and the command that plays it on this system."""

    path: str
    start: tuple[str, ...] = Field(min_length=1)


class MachineFile(Model):
    """What ``machine.yaml`` holds."""

    machine: str
    identity: str = ""
    platform: Platform
    system: str
    user: str
    home: str = ""
    redirected: dict[str, str] = Field(default_factory=dict)
    disks: dict[str, Disk] = Field(min_length=1)
    programs: tuple[Program, ...] = ()
    running: tuple[str, ...] = ()
    administrator: YesNo = False
    network: YesNo = True


class FolderMachine:
    """A machine whose disks are folders; see ``Machine`` for the contract."""

    def __init__(self, folder: Path, effects: Effects | None = None) -> None:
        """Open the machine in ``folder``.

        Raises:
            MachineUnusable: The folder or a disk of it is not there.
            DocumentUnusable: ``machine.yaml`` has findings.
        """
        self.folder = folder.resolve()
        if not (self.folder / FILE).is_file():
            raise MachineUnusable(
                "is no folder machine",
                where=str(folder),
                why=f"it holds no {FILE}" if folder.is_dir() else "there is no such folder",
                todo=f"Name a folder that holds {FILE}.",
            )
        self.file = load(MachineFile, self.folder / FILE)
        self.name, self.platform = self.file.machine, self.file.platform
        self.system, self.user = self.file.system, self.file.user
        self.identity = self.file.identity or f"{self.name}:{self.platform}:{self.user}"
        self.effects = effects or Effects()
        home = self.file.home or default_home(self.platform, self.system, self.user)
        self._roots = {
            **standard_roots(self.platform, self.system, home),
            **self.file.redirected,
        }
        self._disks = {self._mount(name): disk for name, disk in self.file.disks.items()}
        for name, disk in self._disks.items():
            if not (self.folder / disk.folder).is_dir():
                raise MachineUnusable(
                    "the folder of a disk is not there",
                    where=str(self.folder / disk.folder),
                    why=f"{FILE} gives it to {name or '/'}",
                )

    def _mount(self, name: str) -> str:
        return f"{name[0].upper()}:" if self.platform == "windows" else name.rstrip("/")

    def _key(self, text: str) -> str:
        return paths.key(text, self.platform)

    def root(self, name: str) -> str:
        return self._roots[name]

    def facts(self) -> Mapping[str, str]:
        return {"platform": self.platform, "system": self.system, "user": self.user}

    def _disk_of(self, path: str) -> tuple[str, Disk]:
        mounts = [m for m in self._disks if paths.is_within(path, m or "/", self.platform)]
        if not mounts:
            anchor = path.split("/")[0] or "/"
            raise MachineUnusable("there is no such disk", where=path, why=f"{anchor} is not here")
        mount = max(mounts, key=len)
        return mount, self._disks[mount]

    def host(self, path: str) -> Path:
        mount, disk = self._disk_of(path)
        at = self.folder / disk.folder
        segments = [s for s in path[len(mount) :].split("/") if s]
        for number, segment in enumerate(segments):
            if segment in (".", ".."):
                raise MachineUnusable("a path may not climb", where=path)
            if number and at.is_symlink():
                raise MachineUnusable("leads through a link", where=path, why=f"{at.name} is one")
            at /= self._spelled(at, segment)
        return at

    def _spelled(self, folder: Path, name: str) -> str:
        """Return how the folder itself spells ``name``, on volumes where spelling is free."""
        if self.platform == "linux" or os.path.lexists(folder / name):
            return name
        try:
            listed = sorted(os.listdir(folder))
        except OSError:
            return name
        return next((n for n in listed if self._key(n) == self._key(name)), name)

    def look(self, path: str) -> Entry | None:
        try:
            return _entry(self.host(path), paths.base(path))
        except (FileNotFoundError, NotADirectoryError):
            return None
        except OSError as error:
            raise _refused(path, error) from error

    def walk(self, path: str) -> Iterator[Entry]:
        yield from self._below(self.host(path), path, "")

    def _below(self, folder: Path, path: str, prefix: str) -> Iterator[Entry]:
        try:
            names = sorted(os.listdir(folder))
        except OSError as error:
            raise _refused(paths.join(path, prefix), error) from error
        for name in names:
            inner = f"{prefix}{name}"
            entry = _entry(folder / name, inner)
            yield entry
            if entry.kind == "folder":
                yield from self._below(folder / name, path, f"{inner}/")

    def open(self, path: str) -> BinaryIO:
        try:
            flags = os.O_RDONLY | getattr(os, "O_NOFOLLOW", 0) | getattr(os, "O_NONBLOCK", 0)
            handle = os.open(self.host(path), flags | getattr(os, "O_BINARY", 0))
            if not stat.S_ISREG(os.fstat(handle).st_mode):
                os.close(handle)
                raise MachineUnusable("is no regular file", where=path)
            return os.fdopen(handle, "rb")
        except OSError as error:
            raise _refused(path, error) from error

    def read(self, path: str, most: int = READ_MOST) -> bytes:
        with self.open(path) as file:
            data = file.read(most + 1)
        if len(data) > most:
            raise MachineUnusable("is too large to be read at once", where=path)
        return data

    def room(self, path: str) -> Room:
        mount, disk = self._disk_of(path)
        free = shutil.disk_usage(self.folder / disk.folder).free
        return Room(mount or "/", free if disk.free is None else min(free, disk.free))

    def _program(self, path: str) -> Program | None:
        wanted = self._key(path)
        return next((p for p in self.file.programs if self._key(p.path) == wanted), None)

    def running(self, program: str) -> list[str]:
        import psutil

        lines = [
            "machine.yaml says it is running"
            for name in self.file.running
            if self._key(name) == self._key(program)
        ]
        for process in psutil.process_iter():
            try:
                environment = process.environ()
            except (psutil.Error, OSError):
                continue
            mine = environment.get("FOLDER_MACHINE") == str(self.folder)
            if mine and self._key(environment.get("FOLDER_MACHINE_PROGRAM", "")) == self._key(
                program
            ):
                lines.append(f"process {process.pid}")
        return lines

    def start(self, program: str, arguments: Sequence[str], seconds: float = 60) -> Completed:
        installed = self._program(program)
        if installed is None:
            raise MachineUnusable(
                "is not installed",
                where=program,
                why=f"{FILE} of {self.name} does not list it",
            )
        command = [_host_command(installed.start[0]), *installed.start[1:], *arguments]
        with tempfile.TemporaryDirectory(prefix="widetrail-") as folder:
            try:
                done = self.effects.run(
                    command, env=self.environment(program), folder=Path(folder),
                    seconds=seconds, shown=program,
                )  # fmt: skip
            except subprocess.TimeoutExpired as error:
                raise WentWrong(
                    "did not end", where=program, why=f"waited {seconds:.0f} seconds"
                ) from error
        return Completed(
            done.returncode,
            done.stdout.decode("utf-8", "replace"),
            done.stderr.decode("utf-8", "replace"),
        )

    def environment(self, program: str) -> dict[str, str]:
        """Return the whole environment of a program started here.

        The usual variables point into the folder; ``FOLDER_MACHINE…`` say where the disks are.
        """
        drives = {mount: str(self.folder / d.folder) for mount, d in self._disks.items()}
        here = {name: str(self.host(path)) for name, path in self._roots.items()}
        common = {
            "PATH": os.pathsep.join([str(Path(sys.executable).parent), os.defpath]),
            "LANG": "C.UTF-8",
            "PYTHONUTF8": "1",
            "HOME": here["home"],
            "FOLDER_MACHINE": str(self.folder),
            "FOLDER_MACHINE_PLATFORM": self.platform,
            "FOLDER_MACHINE_USER": self.user,
            "FOLDER_MACHINE_DISKS": json.dumps(drives, sort_keys=True),
            "FOLDER_MACHINE_PROGRAM": program,
        }
        if self.platform == "windows":
            common |= {
                "USERPROFILE": here["home"],
                "USERNAME": self.user,
                "APPDATA": here["config"],
                "LOCALAPPDATA": here["data"],
                "PROGRAMDATA": here["shared"],
                "TEMP": here["temp"],
                "TMP": here["temp"],
            }
        else:
            common |= {"USER": self.user, "LOGNAME": self.user}
        if self.platform == "linux":
            common |= {
                "XDG_CONFIG_HOME": here["config"],
                "XDG_DATA_HOME": here["data"],
                "XDG_CACHE_HOME": here["cache"],
                "XDG_STATE_HOME": here["state"],
            }
        return common


def _host_command(name: str) -> str:
    beside = Path(sys.executable).parent / name
    found = str(beside) if beside.is_file() else shutil.which(name)
    if found is None:
        raise MachineUnusable(
            "there is no such command", where=name, todo="Install what provides it."
        )
    return found


def _entry(host: Path, path: str) -> Entry:
    status = host.lstat()
    kind = _kind(status.st_mode)
    return Entry(
        path=path,
        kind=kind,
        size=status.st_size if kind == "file" else 0,
        mtime=status.st_mtime_ns,
        mode=stat.S_IMODE(status.st_mode),
        target=str(host.readlink()) if kind == "link" else "",
    )


def _kind(mode: int) -> EntryKind:
    if stat.S_ISREG(mode):
        return "file"
    if stat.S_ISDIR(mode):
        return "folder"
    return "link" if stat.S_ISLNK(mode) else "other"


def _refused(path: str, error: OSError) -> MachineUnusable:
    return MachineUnusable("cannot be read", where=path, why=error.strerror or str(error))
