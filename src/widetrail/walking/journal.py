"""The station journal: the truth about what this run did at this station.

It lies on the station's own disk. Each record is a line ``LENGTH SHA256 JSON``, where the digest
covers the digest before it and the JSON, so that a torn tail is told from damage in the middle. The
first record says of which format the journal is.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping
from typing import Generic, Protocol, TypeVar

from widetrail.errors import InputUnusable
from widetrail.formats import canonical, digest
from widetrail.formats.outside import JOURNAL_MOST, SafePath, read_outside
from widetrail.formats.stored_values import why_not
from widetrail.formats.versions import CURRENT, AnotherFormat, brought_up
from widetrail.machine import Effects
from widetrail.steps import Fact
from widetrail.steps.journal_events import Record


class Line(Protocol):
    """What a journal holds."""

    def plain(self) -> Mapping[str, Fact]:
        """Return it as plain JSON values."""


L = TypeVar("L", bound=Line)
T = TypeVar("T", bound=Record)


class Journal(Generic[L]):
    """An append-only journal; every record is durable when ``add`` returns."""

    def __init__(
        self, path: SafePath, shown: str, effects: Effects, read: Callable[[int, object], L]
    ) -> None:
        """Open the journal at ``path`` (``shown`` to people), which need not be there.

        ``read`` returns the record at a place of what was written, and raises ``ValueError`` where
        that is none.

        Raises:
            InputUnusable: It is damaged before its end, or holds what is not a record.
        """
        self._path, self._effects = path, effects
        try:
            data = read_outside(path, JOURNAL_MOST) if path.exists() else b""
        except OSError as error:
            raise InputUnusable(
                "the journal of this station cannot be read",
                where=shown,
                why=error.strerror or str(error),
                todo="Nothing was changed.",
            ) from error
        self._reads = read
        self.records, self._last, self._sound = _read(data, shown, read)
        self._torn, self._size = self._sound < len(data), len(data)

    def add(self, record: L) -> None:
        """Write one record; a torn tail of an earlier run is cut first."""
        if self._torn and self._path.exists():
            self._effects.cut(self._path, self._sound)
        first = {} if self.records else {"format": CURRENT["journal"]}
        plain = record.plain()
        body = canonical({**plain, **first})
        link = _link(self._last, body)
        line = b"%d %s %s\n" % (len(body), link.encode(), body)
        new = not self._path.exists()
        self._torn = True  # until it is whole: where the system refuses, the next one cuts it off
        with self._effects.append(self._path) as file:
            file.write(line)
            file.sync()
        if new:
            self._effects.sync_folder(self._path.parent)
        self._torn, self._last, self._sound = False, link, self._sound + len(line)
        self._size = self._sound
        self.records.append(self._reads(len(self.records), plain))

    @property
    def is_current(self) -> bool:
        """Whether nobody wrote to it since it was opened here."""
        return (self._path.stat().st_size if self._path.exists() else 0) == self._size


class RunJournal(Journal[Record]):
    """The journal of a run at a station."""

    def newest(self, event: type[T], **facts: object) -> T | None:
        """Return the newest record of ``event`` with all of ``facts``."""
        told = (r for r in reversed(self.records) if isinstance(r, event))
        return next((r for r in told if _tells(r, facts)), None)

    def has(self, event: type[Record], **facts: object) -> bool:
        """Return whether a record of ``event`` with all of ``facts`` is there."""
        return self.newest(event, **facts) is not None

    def all(self, event: type[T]) -> tuple[T, ...]:
        """Return the records of ``event``, oldest first."""
        return tuple(r for r in self.records if isinstance(r, event))


def _tells(record: Record, facts: Mapping[str, object]) -> bool:
    return all(getattr(record, name) == value for name, value in facts.items())


def _link(before: str, body: bytes) -> str:
    return digest(before.encode() + body)


def _read(data: bytes, shown: str, read: Callable[[int, object], L]) -> tuple[list[L], str, int]:
    records: list[L] = []
    last, sound = "", 0
    lines = data.split(b"\n")
    for number, line in enumerate(lines):
        length, _, rest = line.partition(b" ")
        seal, _, body = rest.partition(b" ")
        whole = number < len(lines) - 1 and length == b"%d" % len(body)
        if not whole or seal.decode("ascii", "replace") != _link(last, body):
            if any(lines[number + 1 :]):
                raise InputUnusable(
                    "the journal of this station is damaged",
                    where=f"{shown}:{number + 1}",
                    why="a record before the last one does not fit its checksum",
                    todo="Keep it as it is and ask for help; nothing was changed.",
                )
            break
        last = seal.decode()
        try:
            told = json.loads(body)
            if not records:
                told = brought_up("journal", told)
            records.append(read(len(records), told))
        except AnotherFormat as error:
            raise InputUnusable(
                "the journal of this station cannot be read",
                where=shown,
                why=str(error),
                todo="Nothing was changed.",
            ) from error
        except (ValueError, RecursionError) as error:
            raise InputUnusable(
                "the journal of this station is damaged",
                where=f"{shown}:{number + 1}",
                why=why_not(error),
                todo="Keep it as it is and ask for help; nothing was changed.",
            ) from error
        sound += len(line) + 1
    return records, last, sound
