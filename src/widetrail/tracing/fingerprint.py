"""Fingerprints of folders: which of their names were changed, made, removed or read since.

Only the status of each name is looked at, nothing is opened. What a file is, when it was changed
and when its status was, tell of every change that a program makes; the time of the last access
tells of reading, where the volume keeps it (``relatime`` does once it was set before the change).
"""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import suppress
from typing import Literal

from widetrail.lazily import dataclass

_DAY = 24 * 60 * 60 * 10**9

_LONG_AGO = 4000 * _DAY
"""Nanoseconds since 1970 that a name is given as its last access: reading it changes that. Volumes
round it, to a day on FAT, which begins with 1980."""

Difference = Literal["written", "created", "removed", "read"]


@dataclass(frozen=True)
class Seen:
    """A name that differs: its path as this system has it; ``folder`` tells that it is one.

    ``when`` it was changed or read last, in nanoseconds since 1970; 0 where that is not known.
    """

    path: str
    how: Difference
    folder: bool = False
    when: int = 0


class Fingerprint:
    """A fingerprint of folders; ``skipped`` are paths below them that are none of it."""

    def __init__(self, folders: tuple[str, ...], skipped: frozenset[str] = frozenset()) -> None:
        self.folders, self._skipped = folders, skipped
        self._marks: dict[str, int] = {}
        for entry in self._entries():
            if (status := _status(entry)) is not None:
                self._marks[entry.path] = _mark(status)

    @property
    def size(self) -> int:
        """How many names it has."""
        return len(self._marks)

    def _entries(self) -> Iterator[os.DirEntry[str]]:
        waiting = list(self.folders)
        while waiting:
            with suppress(OSError), os.scandir(waiting.pop()) as listed:
                for entry in listed:
                    if entry.path in self._skipped:
                        continue
                    yield entry
                    with suppress(OSError):
                        if entry.is_dir(follow_symlinks=False):
                            waiting.append(entry.path)

    def forget_reading(self) -> bool:
        """Set when each name was read last long ago, so that reading it is seen; take the
        fingerprint anew. Only for copies: this changes them.

        Return whether the volume tells of reading.
        """
        for entry in self._entries():
            status = _status(entry)
            if status is not None and not entry.is_symlink():
                with suppress(OSError):
                    os.utime(entry.path, ns=(_LONG_AGO, status.st_mtime_ns))
        tells = False
        for entry in list(self._entries()):  # folders were read by looking into them
            with suppress(OSError):
                if entry.is_dir(follow_symlinks=False):
                    status = os.stat(entry.path)  # noqa: PTH116
                    tells = tells or _was_read(status)
                    os.utime(entry.path, ns=(_LONG_AGO, status.st_mtime_ns))
        if os.name != "nt":  # there setting a time changes no other, and looking is reading
            for path in list(self._marks):  # not listed again: that is reading
                with suppress(OSError):
                    self._marks[path] = _mark(os.lstat(path))
        return tells

    def differences(self, *, reading: bool = False) -> Iterator[Seen]:
        """Give what differs now, and take it into the fingerprint; with ``reading`` also what was
        read since ``forget_reading``."""
        was, now = self._marks, dict[str, int]()
        waiting = list(self.folders)
        while waiting:
            try:
                listed = os.scandir(waiting.pop())
            except OSError:
                continue
            with listed:
                for entry in listed:
                    path = entry.path
                    if path in self._skipped or (status := _status(entry)) is None:
                        continue
                    now[path] = mark = _mark(status)
                    folder = entry.is_dir(follow_symlinks=False)
                    if folder:
                        waiting.append(path)
                    known = was.pop(path, None)
                    if known != mark:
                        how: Difference = "created" if known is None else "written"
                        yield Seen(path, how, folder, status.st_mtime_ns)
                    if reading and _was_read(status) and not entry.is_symlink():
                        yield Seen(path, "read", folder, status.st_atime_ns)
        self._marks = now
        for path in was:
            yield Seen(path, "removed")


def seconds_since(began: int, when: int) -> float | None:
    """Return the seconds between two moments in nanoseconds since 1970; ``None`` where it was
    before."""
    return round((when - began) / 1e9, 4) if when >= began else None


def _status(entry: os.DirEntry[str]) -> os.stat_result | None:
    try:
        return entry.stat(follow_symlinks=False)
    except OSError:
        return None


def _was_read(status: os.stat_result) -> bool:
    return status.st_atime_ns > _LONG_AGO + 2 * _DAY


def _mark(status: os.stat_result) -> int:
    """Return what stands for a status: two that differ have the same one time in 2⁶¹.

    Windows tells the number of a file only where it is looked at alone, not where it is listed.
    """
    number = 0 if os.name == "nt" else status.st_ino
    return hash((status.st_size, status.st_mtime_ns, status.st_ctime_ns, number))
