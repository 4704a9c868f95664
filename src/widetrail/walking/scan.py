"""What a station knows of the files that it packed: their status when they were read.

It lies in the run's own folder, and never leaves the machine: numbers and times of change hold for
its volumes only. Each line holds some files; what a later line says of a file takes the place of
what an earlier one said, and what cannot be read is as good as not there, since such a file is read
again.
"""

from __future__ import annotations

import json
import time

from widetrail.formats.outside import JOURNAL_MOST, SafePath, read_outside
from widetrail.machine import Entry, Machine

APART = 4 * 10**9
"""Nanoseconds within which a volume may not tell two changes apart (FAT knows 2 s), twice."""

_Told = tuple[int, int, int, str, int]
"""Size, time of change of the contents and of the status, number on the volume; and when that was,
in nanoseconds since 1970."""


class Scan:
    """The status of each file that was read for the cargo, and when that was."""

    def __init__(self, machine: Machine, path: str) -> None:
        """Go on with what is in the file ``path`` of ``machine``."""
        self._effects, self._path = machine.effects, machine.host(path)
        self._known = _read(_bytes(self._path))
        self._new: list[tuple[str, str, _Told]] = []

    def is_same(self, item: str, entry: Entry) -> bool:
        """Return whether a file is surely the one that was read.

        Its status is as it was, and it was read long enough after its last change for another one
        to show in its times.
        """
        told = self._known.get(item, {}).get(entry.path)
        if told is None or told[:4] != _status(entry) or not entry.number:  # or was made just now
            return False
        return told[4] - max(entry.mtime, entry.changed) > APART

    def note(self, item: str, entry: Entry) -> None:
        """Take note of the status that a file had before it is read."""
        told = (*_status(entry), time.time_ns())
        self._new.append((item, entry.path, told))
        self._known.setdefault(item, {})[entry.path] = told

    def keep(self) -> None:
        """Write down what was noted since."""
        if self._new:
            with self._effects.append(self._path) as file:
                lines = [[item, path, told[:4], told[4]] for item, path, told in self._new]
                file.write(b"%b\n" % json.dumps(lines).encode())
                file.sync()
            self._new = []


def _bytes(path: SafePath) -> bytes:
    try:
        return read_outside(path, JOURNAL_MOST)
    except OSError:  # what is not known is read again
        return b""


def _status(entry: Entry) -> tuple[int, int, int, str]:
    return entry.size, entry.mtime, entry.changed, entry.number


def _read(data: bytes) -> dict[str, dict[str, _Told]]:
    known: dict[str, dict[str, _Told]] = {}
    for line in data.split(b"\n"):
        try:
            for item, path, (size, mtime, changed, number), at in json.loads(line):
                known.setdefault(item, {})[path] = (size, mtime, changed, number, at + 0)
        except (ValueError, TypeError, RecursionError):  # torn, or after what was torn
            continue
    return known
