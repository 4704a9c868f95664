"""The cells of a SQLite database that differ between two machines."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from contextlib import suppress
from itertools import islice

from widetrail.machine import Machine
from widetrail.tracing.markers import columns, opened, quoted_name
from widetrail.tracing.record import Part

CELLS_MOST = 200
"""Cells of one database that are told, at most."""

Cell = tuple[Part, str | None, str | None]
"""Where it is, and its text before and after; ``None`` where it is not there or has none."""


def changed_cells(before: Machine, machine: Machine, path: str) -> Iterator[Cell]:
    """Give the cells of a database that differ, row by row as the database numbers them.

    A table without numbers of rows is told by its own key, one that has neither is passed.
    """
    with opened(before, path) as was, opened(machine, path) as now:
        yield from islice(_all(was, now, path), CELLS_MOST)


def _all(was: sqlite3.Connection, now: sqlite3.Connection, path: str) -> Iterator[Cell]:
    old, new = _tables(was), _tables(now)
    for table in dict.fromkeys((*old, *new)):
        known = dict.fromkeys((*old.get(table, ()), *new.get(table, ())))
        with suppress(sqlite3.Error):
            pairs = _paired(_rows(was, table, old), _rows(now, table, new))
            for key, one, other in pairs:
                for column in known:
                    texts = one.get(column), other.get(column)
                    if texts[0] != texts[1]:
                        yield Part(path, "sqlite", f"{table}.{column}, row {key}"), *texts


def _tables(connection: sqlite3.Connection) -> dict[str, list[str]]:
    found: dict[str, list[str]] = {}
    for table, column in columns(connection):
        found.setdefault(table, []).append(column)
    return found


_Row = tuple[int | str, dict[str, str]]


def _rows(
    connection: sqlite3.Connection, table: str, tables: dict[str, list[str]]
) -> Iterator[_Row]:
    """Give the rows of a table in the order of their keys, each with the texts of its cells."""
    names = tables.get(table)
    if names is None:
        return
    try:
        connection.execute(f"select rowid from {quoted_name(table)} limit 0")
        own = "rowid"
    except sqlite3.Error:
        own = _own_key(connection, table)
    listed = ", ".join(quoted_name(name) for name in names)
    for key, *cells in connection.execute(
        f"select {own}, {listed} from {quoted_name(table)} order by 1"
    ):
        told = zip(names, cells, strict=True)
        yield key, {name: _text(cell) for name, cell in told if cell is not None}


def _own_key(connection: sqlite3.Connection, table: str) -> str:
    rows = connection.execute(f"pragma table_info({quoted_name(table)})")
    keys = [quoted_name(row[1]) for row in rows if row[5]]
    return " || ' ' || ".join(keys) or "rowid"


def _text(cell: object) -> str:
    return f"{len(cell)} bytes" if isinstance(cell, bytes) else str(cell)


def _paired(
    was: Iterator[_Row], now: Iterator[_Row]
) -> Iterator[tuple[int | str, dict[str, str], dict[str, str]]]:
    """Give the rows that differ, in pairs of one key; an empty one where a row is not there."""
    one, other = next(was, None), next(now, None)
    while one is not None or other is not None:
        if other is None or (one is not None and one[0] < other[0]):  # type: ignore[operator]
            assert one is not None
            yield one[0], one[1], {}
            one = next(was, None)
        elif one is None or other[0] < one[0]:  # type: ignore[operator]
            yield other[0], {}, other[1]
            other = next(now, None)
        else:
            if one[1] != other[1]:
                yield one[0], one[1], other[1]
            one, other = next(was, None), next(now, None)
