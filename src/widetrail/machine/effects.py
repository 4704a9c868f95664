"""The one seam through which anything is changed.

Every change of a disk, of a medium or of the set of running programs is an effect with a number.
A gate sees each effect before it happens and may raise; that is how a test stops the work
anywhere. Paths here are those of the machine that Wide Trail runs on.
"""

from __future__ import annotations

import ctypes
import errno
import os
import stat
import subprocess
import sys
import threading
from collections.abc import Callable, Iterable, Mapping
from contextlib import AbstractContextManager
from pathlib import Path
from types import TracebackType

from widetrail.closing import Closing
from widetrail.formats import outside
from widetrail.formats.outside import SafePath, StrPath
from widetrail.lazily import dataclass
from widetrail.machine.effect_failed import EffectFailed
from widetrail.machine.process_start import Start
from widetrail.machine.processes import Began, Ran, run_to_end
from widetrail.machine.same_status import PERMISSIONS, is_shut, make_same, writable

_NEW = os.O_WRONLY | os.O_CREAT


@dataclass(frozen=True)
class Effect:
    """One change: its number within the run (from 1), its kind and the path it touches."""

    number: int
    kind: str
    path: str


Gate = Callable[[Effect], None]


_UNSEEN = frozenset({"append", "cut", "sync", "sync folder", "barrier"})
"""The kinds of changes that nobody sees who looks for what programs keep."""


class Effects:
    """Does and counts changes. One object serves one run of a command.

    Every method raises ``EffectFailed`` where the system refuses or the gate raises ``OSError``,
    and whatever else the gate raises.
    """

    def __init__(self, gate: Gate | None = None) -> None:
        self._gate = gate
        self.count = 0
        self.seen_through = 0
        """Another when a change begins and again when it is over, unless it is one of the tool's
        own journal: what was looked at before may be otherwise from then on."""

    def _effect(
        self, kind: str, path: StrPath, *, own: bool = False
    ) -> AbstractContextManager[None]:
        return _Change(self, kind, path, own=own or kind in _UNSEEN)

    def _next(self, kind: str, path: StrPath) -> None:
        """Count a change that is about to happen, and let the gate see it."""
        self.count += 1
        if self._gate is not None:
            self._gate(Effect(self.count, kind, str(path)))

    def make_folder(self, path: StrPath, mode: int = 0o777, *, named: bool = False) -> None:
        """Make one folder; its parent must be there and it must not."""
        with self._effect("make folder", path):
            outside.make_folder(path, mode, named=named)

    def make_folders(self, path: Path, mode: int = 0o777, *, named: bool = False) -> list[Path]:
        """Make a folder and those above it that are missing, one effect each; return them.

        ``named`` tells that a person named it, or that it is the tool's own on this computer, so
        that it may lie behind links.
        """
        missing: list[Path] = []
        at: Path = SafePath(path)
        while not at.exists():
            missing.append(at)
            at = at.parent
        for folder in reversed(missing):
            self.make_folder(folder, mode, named=named)
        return missing[::-1]

    def keep_folders(self, path: Path, mode: int = 0o777) -> list[Path]:
        """As ``make_folders``, and make their names durable."""
        made = self.make_folders(path, mode)
        for folder in made:
            self.sync_folder(folder.parent)
        return made

    def keep_private(self, path: Path) -> list[Path]:
        """As ``keep_folders``, for what nobody but the account may read."""
        return self.keep_folders(path, 0o700)

    def create(self, path: StrPath, mode: int = 0o666) -> Writing:
        """Begin a new file; one that is there already is never touched."""
        with self._effect("create", path):
            return Writing(self, path, outside.open_at(path, _NEW | os.O_EXCL, mode))

    def append(self, path: Path) -> Writing:
        """Go on at the end of a file of the tool's own, making it where it is missing."""
        with self._effect("append", path):
            handle = outside.open_at(path, _NEW | os.O_APPEND, 0o600)
            return Writing(self, path, handle, own=True)

    def storing(self, path: str) -> AbstractContextManager[None]:
        """Lend the moment in which one entry of a store of the system's own is changed."""
        return self._effect("store", path)

    def put(self, path: Path, data: bytes | Iterable[bytes], mode: int = 0o666) -> None:
        """Write a whole new file, of some pieces perhaps, and make it and its name durable."""
        with self.create(path, mode) as file:
            for piece in (data,) if isinstance(data, bytes) else data:
                file.write(piece)
            file.sync()
        self.sync_folder(path.parent)

    def cut(self, path: Path, size: int) -> None:
        """Cut a file of the tool's own to its first ``size`` bytes."""
        with self._effect("cut", path):
            outside.cut(path, size)

    def make_link(self, path: StrPath, target: str, mtime_ns: int | None = None) -> None:
        """Make a symbolic link, with a time of change of its own where the system has that."""
        with self._effect("make link", path):
            outside.make_link(path, target, mtime_ns)

    def make_hard_link(self, path: StrPath, to: StrPath) -> None:
        """Give the file at ``to`` another name."""
        with self._effect("make hard link", path):
            outside.make_hard_link(path, to)

    def set_attributes(self, path: StrPath, attributes: Mapping[str, bytes]) -> bool:
        """Set extended attributes of the user's own; return whether the volume has them."""
        with self._effect("set attributes", path):
            try:
                return outside.set_attributes(path, attributes)
            except OSError as error:
                if error.errno not in (errno.ENOTSUP, errno.EPERM, errno.E2BIG, errno.ENOSPC):
                    raise
                return False

    def make_same(self, path: StrPath, to: StrPath) -> None:
        """Give a copy at ``to`` what it lacks of the status of the file or folder at ``path``.

        That is its owner, who else may use it (POSIX ACLs), its special bits and its times; both
        are on this machine. A pipe is made where there is none yet.
        """
        with self._effect("set status", to):
            make_same(path, to)

    def set_mode(self, path: Path, mode: int) -> None:
        """Set permission bits alone."""
        with self._effect("set status", path):
            outside.set_mode(path, mode)

    def rename(self, path: Path, to: Path) -> None:
        """Rename within a volume; what is at ``to`` already is never replaced.

        A folder of the account's own that may not be written to is made so for the moment of it.
        """
        with self._effect("rename", to), writable(path, path.parent, to.parent) as mode:
            outside.rename(path, to)
            if mode is not None:
                outside.set_mode(to, mode)

    def replace(self, path: Path, to: Path) -> None:
        """Rename within a volume over what is at ``to``, which must be the tool's to change."""
        with self._effect("replace", to), writable(None, path.parent, to.parent):
            outside.replace(path, to)

    def remove_file(self, path: Path) -> None:
        """Remove one file or link."""
        with self._effect("remove", path), writable(None, path.parent):
            outside.remove_file(path)

    def remove_folder(self, path: Path) -> None:
        """Remove one empty folder."""
        with self._effect("remove folder", path), writable(None, path.parent):
            outside.remove_folder(path)

    def remove_tree(self, path: Path) -> None:
        """Remove a folder of the tool's own with all in it, one effect each; links unfollowed."""
        if is_shut(path):
            self.set_mode(path, 0o700)
        if outside.LISTS_HANDLES:
            handle = outside.open_folder(path)
            try:
                self._remove_below(str(path), handle)
            finally:
                os.close(handle)
        else:
            for inner in sorted(SafePath(path).iterdir()):
                if inner.is_dir():
                    self.remove_tree(inner)
                else:
                    self.remove_file(inner)
        self.remove_folder(path)

    def _remove_below(self, folder: str, handle: int) -> None:
        """Remove all that is in an open folder of the tool's own."""
        for name, is_folder in outside.listed_in(handle):
            path = f"{folder}/{name}"
            if not is_folder:
                with self._effect("remove", path):
                    outside.remove_file(name, handle)
                continue
            if is_shut(Path(path)):
                self.set_mode(Path(path), 0o700)
            below = outside.open_folder(name, handle)
            try:
                self._remove_below(path, below)
            finally:
                os.close(below)
            with self._effect("remove folder", path):
                outside.remove_folder(name, handle)

    def run(
        self,
        start: Start,
        *,
        seconds: float,
        stdin: bytes = b"",
        output: Writing | None = None,
        began: Began | None = None,
    ) -> Ran:
        """Run a program to its end, without a shell.

        It is given ``stdin`` through a pipe. What it prints goes to ``output``, if that is given.
        With ``began`` it stands behind a gate: that is told its process number and start time
        before the program itself runs, and if it raises the program never runs; what the program
        leaves running is told in the answer, and ended.

        Raises:
            Stopped: It did not end within ``seconds``, printed more than ``PRINTED_MOST`` bytes,
                or used more than its limits.
        """
        with self._effect("start", Path(start.shown)):
            handle = output.handle if output is not None else None
            return run_to_end(start, seconds, stdin=stdin, output=handle, began=began)

    def launch(self, start: Start) -> None:
        """Start a program for a person; it goes on by itself."""
        with self._effect("start", Path(start.shown)):
            process = subprocess.Popen(
                list(start.command),
                env=dict(start.env),
                cwd=start.folder,
                stdin=subprocess.DEVNULL,
                stdout=subprocess.DEVNULL,
                stderr=subprocess.DEVNULL,
                start_new_session=True,
                pass_fds=start.handles,
            )
            threading.Thread(target=process.wait, daemon=True).start()

    def set_status(self, path: StrPath, mode: int, mtime_ns: int) -> None:
        """Set permission bits (never set-user-id or set-group-id) and the time of change."""
        with self._effect("set status", path):
            outside.set_mode(path, stat.S_IMODE(mode) & PERMISSIONS)
            outside.set_times(path, mtime_ns)

    def sync_folder(self, path: Path) -> None:
        """Make the names in a folder durable, where the system can."""
        with self._effect("sync folder", path):
            outside.flush_folder(path)

    def barrier(self, path: Path) -> None:
        """Make all that was written at and below ``path`` durable, with its volume where the system
        can."""
        with self._effect("barrier", path):
            if sys.platform == "win32":  # no volume can be opened there without rights
                outside.flush_files(path)
                return
            handle = outside.open_at(path, os.O_RDONLY)
            try:
                libc = ctypes.CDLL(None, use_errno=True)
                if hasattr(libc, "syncfs"):
                    if libc.syncfs(handle) != 0:
                        raise OSError(ctypes.get_errno(), os.strerror(ctypes.get_errno()))
                else:
                    os.sync()
                    outside.flush(handle)
            finally:
                os.close(handle)


class _Change:
    """One change while it is made; what the system or the gate refuses becomes ``EffectFailed``."""

    __slots__ = ("_effects", "_kind", "_own", "_path")

    def __init__(self, effects: Effects, kind: str, path: StrPath, *, own: bool) -> None:
        self._effects, self._kind, self._path, self._own = effects, kind, path, own

    def __enter__(self) -> None:
        self._effects.seen_through += not self._own
        try:
            self._effects._next(self._kind, self._path)
        except OSError as error:
            raise EffectFailed(self._kind, self._path, error) from error

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self._effects.seen_through += not self._own
        if isinstance(error, OSError):
            raise EffectFailed(self._kind, self._path, error) from error


class Writing(Closing):
    """A file being written through the seam; close it, or use it in ``with``."""

    def __init__(self, effects: Effects, path: StrPath, handle: int, *, own: bool = False) -> None:
        """``own`` tells that it is a file of the tool's own, where nobody looks for anything."""
        self._effects, self._path, self._handle, self._own = effects, path, handle, own

    @property
    def handle(self) -> int:
        """The open file, for a program that writes to it itself."""
        return self._handle

    def write(self, data: bytes | memoryview) -> None:
        """Write all of ``data``."""
        with self._effects._effect("write", self._path, own=self._own):
            view = memoryview(data)
            while view:
                view = view[os.write(self._handle, view) :]

    def skip(self, size: int) -> None:
        """Leave a hole of ``size`` bytes, which read as zeros."""
        with self._effects._effect("write", self._path):
            end = os.lseek(self._handle, size, os.SEEK_CUR)
            os.ftruncate(self._handle, end)

    def set_status(self, mode: int, mtime_ns: int) -> None:
        """As ``Effects.set_status``, without looking the file up again."""
        with self._effects._effect("set status", self._path):
            by_handle = os.chmod in os.supports_fd and os.utime in os.supports_fd
            at = self._handle if by_handle else self._path
            outside.set_mode(at, stat.S_IMODE(mode) & PERMISSIONS)
            outside.set_times(at, mtime_ns)

    def sync(self) -> None:
        """Make what was written durable."""
        with self._effects._effect("sync", self._path):
            outside.flush(self._handle)

    def close(self) -> None:
        """Close the file; that alone makes nothing durable."""
        if self._handle >= 0:
            os.close(self._handle)
            self._handle = -1
