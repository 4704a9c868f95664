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

_Status = list[int | str]
"""Size, time of change of the contents and of the status, and number on the volume."""


class Scan:
    """The status of each file that was read for the cargo, and when that was."""

    def __init__(self, machine: Machine, path: str) -> None:
        """Go on with what is in the file ``path`` of ``machine``."""
        self._effects, self._path = machine.effects, machine.host(path)
        self._known = _read(_bytes(self._path))
        self._new: list[tuple[str, str, _Status, int]] = []

    def is_same(self, item: str, entry: Entry) -> bool:
        """Return whether a file is surely the one that was read.

        Its status is as it was, and it was read long enough after its last change for another one
        to show in its times.
        """
        status, at = self._known.get((item, entry.path), (None, 0))
        known = status == _status(entry) and bool(entry.number)  # what has none was made just now
        return known and at - max(entry.mtime, entry.changed) > APART

    def note(self, item: str, entry: Entry) -> None:
        """Take note of the status that a file had before it is read."""
        told = (item, entry.path, _status(entry), time.time_ns())
        self._new.append(told)
        self._known[told[:2]] = told[2:]

    def keep(self) -> None:
        """Write down what was noted since."""
        if self._new:
            with self._effects.append(self._path) as file:
                file.write(b"%b\n" % json.dumps(self._new).encode())
                file.sync()
            self._new = []


def _bytes(path: SafePath) -> bytes:
    try:
        return read_outside(path, JOURNAL_MOST)
    except OSError:  # what is not known is read again
        return b""


def _status(entry: Entry) -> _Status:
    return [entry.size, entry.mtime, entry.changed, entry.number]


def _read(data: bytes) -> dict[tuple[str, str], tuple[_Status, int]]:
    known: dict[tuple[str, str], tuple[_Status, int]] = {}
    for line in data.split(b"\n"):
        try:
            known |= {(item, path): (status, at + 0) for item, path, status, at in json.loads(line)}
        except (ValueError, TypeError, RecursionError):  # torn, or after what was torn
            continue
    return known
