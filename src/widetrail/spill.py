"""What may be too much for memory: rows, bytes and databases that go to the disk where they grow.

The files have no name, belong to this process, and go away with what refers to them.
"""

from __future__ import annotations

import marshal
import tempfile
import weakref
from collections.abc import Callable, Collection, Iterable, Iterator
from contextlib import contextmanager
from itertools import islice
from typing import TYPE_CHECKING, Any, BinaryIO, TypeVar, cast

from widetrail.errors import Halted

if TYPE_CHECKING:
    import sqlite3

IN_MEMORY = 4 * 1024 * 1024
"""Bytes of a file that are held in memory; more lies on the disk."""

AT_ONCE = 1000
"""Rows that are written at once."""

Row = TypeVar("Row", bound=tuple[Any, ...])


@contextmanager
def spilling() -> Iterator[None]:
    """Tell in words that something could not be put on the disk for a while.

    Raises:
        Halted: The system's temporary folder has no room, or fails.
    """
    try:
        yield
    except Exception as error:
        import sqlite3

        if not isinstance(error, OSError | sqlite3.Error):
            raise
        raise Halted(
            "there is no room for what is kept for a while",
            where=tempfile.gettempdir(),
            why=getattr(error, "strerror", None) or str(error),
            todo="Free some space in the system's temporary folder, then run again.",
        ) from error


def nameless_file() -> BinaryIO:
    """Return a file to write and read that only this process has; who asks for it closes it."""
    return cast(BinaryIO, tempfile.SpooledTemporaryFile(IN_MEMORY))


def nameless_database(owner: object) -> sqlite3.Connection:
    """Return a database without a name that is closed when ``owner`` goes away."""
    import sqlite3  # most that could fill one never does

    database = sqlite3.connect("", isolation_level=None, check_same_thread=False)
    weakref.finalize(owner, database.close)
    for setting in ("journal_mode = off", "synchronous = off", "cache_size = -8000"):
        database.execute(f"pragma {setting}")
    return database


def add_rows(database: sqlite3.Connection, insert: str, rows: Iterable[tuple[Any, ...]]) -> None:
    """Add many rows to a database at once."""
    with spilling():
        database.execute("begin")
        database.executemany(insert, rows)
        database.execute("commit")


class Spilled(Collection[Row]):
    """Tuples of texts and numbers, in the order in which they came."""

    def __init__(self, make: Callable[[Iterable[Any]], Row], rows: Iterable[Row]) -> None:
        """Take all of ``rows``; ``make`` makes one of what is in it."""
        self._make, self._file, self._sizes = make, nameless_file(), list[int]()
        self._count = 0
        weakref.finalize(self, self._file.close)
        left = iter(rows)
        while some := list(map(tuple, islice(left, AT_ONCE))):
            with spilling():
                self._sizes.append(self._file.write(marshal.dumps(some)))
            self._count += len(some)

    def __len__(self) -> int:
        return self._count

    def __contains__(self, row: object) -> bool:
        return any(one == row for one in self)

    def __iter__(self) -> Iterator[Row]:
        at = 0
        for size in self._sizes:
            self._file.seek(at)
            at += size
            yield from map(self._make, marshal.loads(self._file.read(size)))
