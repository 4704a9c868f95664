"""What folder machines and live machines have in common: files of the system Wide Trail runs on."""

from __future__ import annotations

import errno
import hashlib
import os
import shutil
import stat
import sys
import tempfile
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from functools import partial
from io import FileIO
from operator import attrgetter
from pathlib import Path
from typing import Any, BinaryIO

from widetrail.errors import MachineUnusable, WentWrong
from widetrail.formats import Unreadable, outside
from widetrail.formats.outside import SafePath
from widetrail.machine import paths
from widetrail.machine.effects import Effects
from widetrail.machine.interface import (
    Channels,
    Completed,
    Entry,
    EntryKind,
    Opened,
    printed_text,
)
from widetrail.machine.platforms import PLATFORMS, Platform, PlatformRules
from widetrail.machine.process_start import Start
from widetrail.machine.processes import Stopped
from widetrail.machine.registries import NoRegistry, Registry

READ_MOST = 64 * 1024 * 1024
"""Bytes of a file that is read at once, at most."""

DEEPEST = 200
"""Folders within folders that a walk follows, at most."""


class HostMachine(ABC):
    """A machine whose files are files of this system; see ``Machine`` for the contract."""

    name: str
    identity: str
    platform: Platform
    system: str
    user: str
    administrator: bool
    network: bool
    effects: Effects

    @property
    def rules(self) -> PlatformRules:
        return PLATFORMS[self.platform]

    @property
    def read_only(self) -> bool:
        return False

    def facts(self) -> Mapping[str, str]:
        return {"platform": self.platform, "system": self.system, "user": self.user}

    @property
    def answers(self) -> Mapping[str, Any]:
        return {}

    @property
    def registry(self) -> Registry:
        return NoRegistry()

    def desktop_settings(self) -> bytes:
        raise Unreadable("there is no settings database of the desktop")

    def edit_desktop(self, changes: Mapping[str, str | None]) -> None:
        raise Unreadable("there is no settings database of the desktop")

    @abstractmethod
    def host(self, path: str) -> SafePath:
        """Return where ``path`` lies for the system Wide Trail runs on; no link leads there."""

    def look(self, path: str) -> Entry | None:
        try:
            host = self.host(path)
            return entry_of(paths.base(path), host.lstat(), lambda: outside.link_target(host))
        except (FileNotFoundError, NotADirectoryError):
            return None
        except (OSError, ValueError) as error:
            raise refused(path, error) from error

    def walk(self, path: str, deepest: int | None = None) -> Iterator[Entry]:
        limit = DEEPEST if deepest is None else deepest
        host = outside.as_called(self.host(path))
        yield from self._below(host, None, path, "", limit, strict=deepest is None)

    def _below(
        self, folder: str, above: int | None, path: str, prefix: str, depth: int, *, strict: bool
    ) -> Iterator[Entry]:
        if depth == 0:
            if not strict:
                return
            where = paths.join(path, prefix)
            raise MachineUnusable("is nested too deep", where=where, why=f"more than {DEEPEST}")
        handle = None
        try:
            if BELOW_HANDLES:
                handle = outside.open_folder(folder, above)
            with os.scandir(folder if handle is None else handle) as listed:
                found = sorted(listed, key=attrgetter("name"), reverse=True)
        except OSError as error:
            if handle is not None:
                os.close(handle)
            raise refused(paths.join(path, prefix), error) from error
        try:
            while found:
                one = found.pop()  # it holds its status from when that was asked
                inner = f"{prefix}{one.name}"
                try:
                    entry = entry_of(inner, status_of(one), partial(_leads, one, handle))
                except FileNotFoundError:  # it went away while we looked
                    continue
                except OSError as error:
                    raise refused(paths.join(path, inner), error) from error
                yield entry
                if entry.kind == "folder":
                    there = one.path if handle is None else one.name
                    within = self._below(there, handle, path, f"{inner}/", depth - 1, strict=strict)
                    yield from within
        finally:
            if handle is not None:
                os.close(handle)

    def open(self, path: str) -> BinaryIO:
        try:
            return os.fdopen(outside.open_regular(self.host(path)), "rb")
        except (OSError, ValueError) as error:
            raise refused(path, error) from error

    @contextmanager
    def opened(self, path: str) -> Iterator[Opened]:
        if not BELOW_HANDLES:
            yield _Plain(self, path)
            return
        try:
            below = _Below(outside.open_folder(self.host(path)), path)
        except OSError as error:
            raise refused(path, error) from error
        try:
            yield below
        finally:
            below.close()

    def attributes(self, path: str) -> Mapping[str, bytes]:
        try:
            return outside.attributes_of(self.host(path))
        except OSError as error:
            raise refused(path, error) from error

    def synced(self, path: str) -> str:
        return ""  # no system tells this in one way; a recipe's own readings can

    def shares(self) -> tuple[tuple[str, str], ...]:
        return ()

    @abstractmethod
    def _command(self, program: str) -> tuple[list[str], dict[str, str], str]:
        """Return what starts the program installed at ``program``: the first arguments, its
        environment, and the folder a person would start it in.

        Raises:
            MachineUnusable: It is not installed.
        """

    def start(
        self,
        program: str,
        arguments: Sequence[str],
        seconds: float = 60,
        channels: Channels = Channels(),  # noqa: B008 - it is frozen
    ) -> Completed:
        command, environment, _ = self._command(program)
        with tempfile.TemporaryDirectory(  # on Windows a service that goes on holds it
            prefix="widetrail-", ignore_cleanup_errors=sys.platform == "win32"
        ) as folder:
            env = {**environment, **channels.env}
            wanted = Start([*command, *arguments], env, Path(folder), program)
            try:
                with self._prepared(wanted) as prepared:
                    done = self.effects.run(
                        prepared,
                        seconds=seconds,
                        stdin=channels.stdin,
                        output=channels.output,
                        began=channels.began,
                    )
            except Stopped as error:
                raise WentWrong("was stopped", where=program, why=str(error)) from error
        return Completed(
            done.status,
            printed_text(done.output, "replace"),
            printed_text(done.errors, "replace"),
            done.output,
            done.left,
        )

    def launch(self, program: str, arguments: Sequence[str]) -> None:
        command, environment, home = self._command(program)
        wanted = Start([*command, *arguments], environment, self.host(home), program)
        with self._prepared(wanted, stays=True) as prepared:
            self.effects.launch(prepared)

    @contextmanager
    def _prepared(self, start: Start, *, stays: bool = False) -> Iterator[Start]:
        """Lend a start as it is done here; what ``stays`` goes on after this process."""
        yield start

    def read(self, path: str, most: int = READ_MOST) -> bytes:
        with self.open(path) as file:
            try:
                fits = os.fstat(file.fileno()).st_size <= most
                data = outside.read_most(file, most + 1) if fits else b""
            except OSError as error:
                raise refused(path, error) from error
        if not fits or len(data) > most:
            raise MachineUnusable("is too large to be read at once", where=path)
        return data


class _Plain:
    """A folder on a system that opens files by their whole paths only."""

    def __init__(self, machine: HostMachine, path: str) -> None:
        self._machine, self._path = machine, path

    def open(self, path: str) -> BinaryIO:
        return self._machine.open(paths.join(self._path, path))

    def attributes(self, path: str) -> Mapping[str, bytes]:
        return self._machine.attributes(paths.join(self._path, path))


class _Below:
    """An opened folder; the folder below it that was used last stays open too."""

    def __init__(self, handle: int, path: str) -> None:
        self._top, self._path = handle, path
        self._folder, self._handle = "", handle
        self._kept: tuple[str, int] | None = None

    def open(self, path: str) -> BinaryIO:
        try:
            return FileIO(outside.insist_regular(self._take(path), path))
        except (OSError, ValueError) as error:
            raise refused(paths.join(self._path, path), error) from error

    def attributes(self, path: str) -> Mapping[str, bytes]:
        """See ``Opened``; the file stays open, since it is opened next as a rule."""
        try:
            handle = self._take(path)
            self._kept = path, handle
            return outside.attributes_of(handle)
        except OSError as error:
            raise refused(paths.join(self._path, path), error) from error

    def _take(self, path: str) -> int:
        """Return an open file that is the caller's from now on."""
        kept, self._kept = self._kept, None
        if kept is not None and kept[0] == path:
            return kept[1]
        if kept is not None:
            os.close(kept[1])
        folder, _, name = path.rpartition("/")
        return outside.open_any(name, self._at(folder))

    def _at(self, folder: str) -> int:
        if folder != self._folder:
            handle = self._top
            for name in filter(None, folder.split("/")):
                inner = outside.open_folder(name, handle)
                if handle != self._top:
                    os.close(handle)
                handle = inner
            self._leave()
            self._folder, self._handle = folder, handle
        return self._handle

    def _leave(self) -> None:
        if self._handle != self._top:
            os.close(self._handle)
        self._folder, self._handle = "", self._top

    def close(self) -> None:
        if self._kept is not None:
            os.close(self._kept[1])
        self._leave()
        os.close(self._top)


BELOW_HANDLES = os.scandir in os.supports_fd and os.open in os.supports_dir_fd
"""Whether names are opened and looked at below an open folder."""


def status_of(listed: os.DirEntry[str]) -> os.stat_result:
    """Return the status of a listed name itself, with all that a system can tell."""
    if sys.platform == "win32":  # what a listing tells there lacks the number and the names
        return Path(listed.path).lstat()
    return listed.stat(follow_symlinks=False)


def _leads(listed: os.DirEntry[str], above: int | None) -> str:
    return outside.link_target(listed.path if above is None else listed.name, above)


def entry_of(path: str, status: os.stat_result, target: Callable[[], str]) -> Entry:
    """Return what a status tells of what is at ``path``; ``target`` tells where a link leads."""
    mode = status.st_mode
    if not stat.S_ISREG(mode):  # as most are
        kind: EntryKind = "folder" if stat.S_ISDIR(mode) else "other"
        leads = target() if (is_link := outside.is_link(status)) else ""
        named = "link" if is_link else kind
        return Entry(path, named, 0, status.st_mtime_ns, stat.S_IMODE(mode), leads)
    size, number = status.st_size, f"{status.st_dev}:{status.st_ino}"
    return Entry(
        path,
        "file",
        size,
        status.st_mtime_ns,
        stat.S_IMODE(mode),
        "",
        number if status.st_nlink > 1 else "",
        0 <= getattr(status, "st_blocks", -1) * 512 < size - 4095,  # Windows tells none
        number,
        outside.changed_ns(status),
    )


PIECE = 64 * 1024
"""Bytes that are read by one call of the system."""


def bytes_of(path: str) -> bytes:
    """Return the bytes of a file by calls of the system alone, for who reads thousands of them."""
    handle = outside.open_at(path, os.O_RDONLY)
    try:
        return b"".join(_pieces(handle))
    finally:
        os.close(handle)


def _pieces(handle: int) -> Iterator[bytes]:
    """Give what is read to the end, whatever size a status tells (that of a file of /proc is 0)."""
    return iter(lambda: os.read(handle, PIECE), b"")


def file_digest(path: Path | str) -> str:
    """Return the SHA-256 of a file in hexadecimal, as the disk holds it.

    What the system remembers of it is dropped first, where it can be asked to (what is not durable
    yet it keeps).
    """
    found, handle = hashlib.sha256(), outside.open_regular(path)
    try:
        if sys.platform.startswith("linux"):
            os.posix_fadvise(handle, 0, 0, os.POSIX_FADV_DONTNEED)
        for piece in _pieces(handle):
            found.update(piece)
    finally:
        os.close(handle)
    return found.hexdigest()


def copy_plain(source: SafePath, target: Path) -> None:
    """Copy a file or folder into a scratch machine: regular files and folders only."""
    if source.is_file():
        target.parent.mkdir(parents=True, exist_ok=True)
        status = source.stat()
        with source.open("rb") as file, target.open("wb") as copy:
            shutil.copyfileobj(file, copy)
        target.chmod(stat.S_IMODE(status.st_mode) & 0o777)
        outside.set_times(os.path.realpath(target), status.st_mtime_ns)
    elif source.is_dir():
        target.mkdir(parents=True, exist_ok=True)
        for inner in source.iterdir():
            copy_plain(inner, target / inner.name)


def refused(path: str, error: Exception) -> MachineUnusable:
    """Return the error for a file of the machine that the system would not let be read."""
    reason = error.strerror if isinstance(error, OSError) else ""
    if isinstance(error, OSError) and error.errno == errno.EINVAL:
        return MachineUnusable(outside.NO_REGULAR_FILE, where=path)
    return MachineUnusable("cannot be read", where=path, why=reason or str(error))
