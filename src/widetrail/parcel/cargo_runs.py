"""The entries of a cargo in bounded memory: a run of them for each item, in a database.

The database has no name, belongs to this process, and goes to the disk where it grows.
"""

from __future__ import annotations

import marshal
from collections.abc import Iterable, Iterator, Mapping
from itertools import pairwise
from typing import TYPE_CHECKING

from widetrail.machine.paths import key
from widetrail.machine.platforms import PLAINEST
from widetrail.spill import AT_ONCE, add_rows, nameless_database, spilling
from widetrail.steps import CargoEntry

if TYPE_CHECKING:
    from widetrail.formats.interface import Platform

_AS_IT_IS = 2
"""The version of ``marshal`` that gives equal bytes for equal values."""


class CargoRuns:
    """Where the runs of a cargo lie; it goes away with the last of them."""

    def __init__(self, platform: Platform = PLAINEST) -> None:
        """Paths are the same name where they are on the usual volumes of ``platform``."""
        self.platform, self._count = platform, 0
        self.sql = nameless_database(self)

    def run(self, item: str, entries: Iterable[CargoEntry] = ()) -> Run:
        """Return a new run of an item's entries, which holds some already."""
        self._count += 1
        run = Run(self, item, f"run{self._count}")
        for entry in entries:
            run.add(entry)
        return run


class Run:
    """Entries of one item, in the order in which they came."""

    def __init__(self, runs: CargoRuns, item: str, table: str) -> None:
        self.item, self.database, self._table = item, runs, table
        self.names = self.files = self.size = 0
        """How many entries there are, how many of them are files or names of files, and bytes."""
        self._waiting: list[tuple[bytes, bytes]] = []
        self._is_indexed = False
        self._sql = runs.sql
        self._sql.execute(f"create table {table} (at integer primary key, name blob, row blob)")

    def add(self, entry: CargoEntry) -> None:
        """Add an entry at the end."""
        self._tell(entry, 1)
        self._waiting.append((self._name(entry.path), _row(entry)))
        if len(self._waiting) >= AT_ONCE:
            self._flush()

    def put(self, entry: CargoEntry) -> None:
        """Put an entry where one of its name stands, or at the end."""
        was = self.get(entry.path)
        if was is None:
            self.add(entry)
        else:
            self._tell(was, -1)
            self._tell(entry, 1)
            told = (_row(entry), self._name(entry.path))
            self._sql.execute(f"update {self._table} set row = ? where name = ?", told)

    def __iter__(self) -> Iterator[CargoEntry]:
        return self.after(0)

    def after(self, count: int) -> Iterator[CargoEntry]:
        """Give the entries after the first ``count``."""
        self._flush()
        query = f"select row from {self._table} where at > ? order by at"
        for (row,) in self._sql.execute(query, (count,)):
            yield CargoEntry(self.item, *marshal.loads(row))

    def _tell(self, entry: CargoEntry, count: int) -> None:
        self.names += count
        if entry.kind in ("file", "hard"):
            self.files += count
            self.size += count * entry.size

    def get(self, path: str) -> CargoEntry | None:
        """Return the first entry of that name, or ``None``."""
        self._flush()
        self._index()
        wanted = (self._name(path),)
        query = f"select row from {self._table} where name = ? order by at limit 1"
        found = self._sql.execute(query, wanted).fetchone()
        return CargoEntry(self.item, *marshal.loads(found[0])) if found is not None else None

    def doubled(self) -> CargoEntry | None:
        """Return an entry of whose name there is another, or ``None``."""
        self._flush()
        self._index()
        query = f"select row from {self._table} group by name having count(*) > 1 limit 1"
        found = self._sql.execute(query).fetchone()
        return CargoEntry(self.item, *marshal.loads(found[0])) if found is not None else None

    def with_(self, other: Run) -> Run:
        """Return a run in which entries of another stand in the place of those of their names, and
        its further ones at the end."""
        merged = self.database.run(self.item, (other.get(e.path) or e for e in self))
        for entry in other:
            if self.get(entry.path) is None:
                merged.add(entry)
        return merged

    def changes(self, before: Run) -> tuple[int, int, int]:
        """Return how many names came, are others, and went since a run of the same database.

        The place itself, whose time tells of each of them, is not counted.
        """
        self._flush()
        before._flush()
        came = self._without("select name", before)
        other = self._without("select name, row", before) - came
        return came, other, before._without("select name", self)

    def _without(self, what: str, other: Run) -> int:
        query = f"""select count(*) from ({what} from {self._table} where name <> x''
            except {what} from {other._table})"""
        (count,) = self._sql.execute(query).fetchone()
        return int(count)

    def _name(self, path: str) -> bytes:
        return key(path, self.database.platform).encode("utf-8", "surrogatepass")

    def _index(self) -> None:
        if not self._is_indexed:
            with spilling():
                self._sql.execute(f"create index names_{self._table} on {self._table} (name)")
            self._is_indexed = True

    def _flush(self) -> None:
        if self._waiting:
            insert = f"insert into {self._table} (name, row) values (?, ?)"
            add_rows(self._sql, insert, self._waiting)
            self._waiting.clear()


def _row(entry: CargoEntry) -> bytes:
    return marshal.dumps(entry[1:], _AS_IT_IS)


def in_order(runs: Mapping[str, Run]) -> Iterator[CargoEntry]:
    """Give the entries of all runs, item by item."""
    for run in runs.values():
        yield from run


def shared_bytes(runs: Mapping[str, Run]) -> str:
    """Return what is wrong where two files claim the same bytes, or an empty text.

    So the cargo is never more than the segments hold. Mostly files lie one after the other as the
    entries tell them; where they do not, a database sorts them.
    """
    ends = dict[str, int]()
    for segment, offset, size, _ in _pieces(runs):
        if offset < ends.get(segment, 0):
            return _shared_where_sorted(runs)
        ends[segment] = offset + size
    return ""


def _pieces(runs: Mapping[str, Run]) -> Iterator[tuple[str, int, int, str]]:
    for entry in in_order(runs):
        if entry.kind == "file" and entry.size:
            for segment, offset, size in entry.in_pieces:
                if size:
                    yield segment, offset, size, entry.path


def _shared_where_sorted(runs: Mapping[str, Run]) -> str:
    database = CargoRuns()
    sql = database.sql
    sql.execute("create table piece (segment text, begin integer, size integer, path text)")
    add_rows(sql, "insert into piece values (?, ?, ?, ?)", _pieces(runs))
    rows = sql.execute("select segment, begin, begin + size, path from piece order by 1, 2, 3")
    for one, other in pairwise(rows):
        if one[0] == other[0] and one[2] > other[1]:
            return f"{one[3]!r} and {other[3]!r} claim the same bytes"
    return ""
