"""What a station knows of the files that it packed: their status when they were read.

It lies in the run's own folder, and never leaves the machine: numbers and times of change hold for
its volumes only. What was read by the walk before is looked up in a database, since there may be
much of it. Each line holds some files; what a later line says of a file takes the place of
what an earlier one said, and what cannot be read is as good as not there, since such a file is read
again.
"""

from __future__ import annotations

import json
import marshal
import time
from collections.abc import Iterable, Iterator
from contextlib import suppress

from widetrail.formats.outside import JOURNAL_MOST, SafePath, reading_outside
from widetrail.machine import Entry, Machine
from widetrail.spill import add_rows, nameless_database

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
        self._kept: _Kept | None = None
        self._new: dict[tuple[str, str], _Told] = {}

    def is_same(self, item: str, entry: Entry) -> bool:
        """Return whether a file is surely the one that was read.

        Its status is as it was, and it was read long enough after its last change for another one
        to show in its times.
        """
        told = self._new.get((item, entry.path)) or self._before.get(item, entry.path)
        if told is None or told[:4] != _status(entry) or not entry.number:  # or was made just now
            return False
        return told[4] - max(entry.mtime, entry.changed) > APART

    def note(self, item: str, entry: Entry) -> None:
        """Take note of the status that a file had before it is read."""
        told = (*_status(entry), time.time_ns())
        self._new[item, entry.path] = told

    @property
    def _before(self) -> _Kept:
        """What is written down; it is read when something is first asked of it."""
        if self._kept is None:
            self._kept = _Kept(_read(self._path))
        return self._kept

    def keep(self) -> None:
        """Write down what was noted since."""
        if self._new:
            with self._effects.append(self._path) as file:
                lines = [[*whose, told[:4], told[4]] for whose, told in self._new.items()]
                file.write(b"%b\n" % json.dumps(lines).encode())
                file.sync()
            if self._kept is not None:
                self._kept.add((*whose, told) for whose, told in self._new.items())
            self._new.clear()


class _Kept:
    """The newest that is known of each file, in a database of this process."""

    def __init__(self, told: Iterable[tuple[str, str, _Told]]) -> None:
        self._sql = nameless_database(self)
        self._sql.execute("create table told (name blob primary key, row blob) without rowid")
        self.add(told)

    def add(self, told: Iterable[tuple[str, str, _Told]]) -> None:
        """Take what is known of files in the place of what was."""
        rows = ((_name(item, path), marshal.dumps(row)) for item, path, row in told)
        add_rows(self._sql, "insert or replace into told values (?, ?)", rows)

    def get(self, item: str, path: str) -> _Told | None:
        """Return what is known of a file, if anything is."""
        wanted = (_name(item, path),)
        found = self._sql.execute("select row from told where name = ?", wanted).fetchone()
        told: _Told | None = marshal.loads(found[0]) if found is not None else None
        return told


def _name(item: str, path: str) -> bytes:
    return f"{item}\0{path}".encode("utf-8", "surrogatepass")


def _status(entry: Entry) -> tuple[int, int, int, str]:
    return entry.size, entry.mtime, entry.changed, entry.number


def _read(path: SafePath) -> Iterator[tuple[str, str, _Told]]:
    try:
        with reading_outside(path, JOURNAL_MOST) as file:
            for line in file:
                yield from _told_by(line)
    except OSError:  # what is not known is read again
        return


def _told_by(line: bytes) -> list[tuple[str, str, _Told]]:
    told: list[tuple[str, str, _Told]] = []
    with suppress(ValueError, TypeError, RecursionError):  # torn, or after what was torn
        for item, path, (size, mtime, changed, number), at in json.loads(line):
            row = (size + 0, mtime + 0, changed + 0, str(number), at + 0)
            told.append((str(item), str(path), row))
    return told
