"""SQLite databases, asked one query that only reads.

The file is opened from a copy that the caller made (with its journal), so nothing beside the
program's own file can appear; an authorizer allows reading only, and work is bounded.
"""

from __future__ import annotations

import sqlite3
import time
from collections.abc import Mapping
from contextlib import closing

from widetrail.formats.interface import Located, Unreadable

SECONDS = 20.0
ROWS = 100_000

_ALLOWED = {
    sqlite3.SQLITE_SELECT, sqlite3.SQLITE_READ, sqlite3.SQLITE_FUNCTION, sqlite3.SQLITE_RECURSIVE,
}  # fmt: skip


def query_sqlite(
    copy: str, query: str, parameters: Mapping[str, str], by_column: bool = False
) -> Located:
    """Run ``query`` on the database file ``copy``; parameters are bound as ``:name``.

    ``by_column`` asks for a list of mappings from column to value.

    Returns the single value of a result of one row and one column; a list of values for one
    column; a list of lists otherwise. Time and rows are bounded by ``SECONDS`` and ``ROWS``.

    Raises:
        Unreadable: It is no database, the query is not a reading one, or a bound was reached.
    """
    end = time.monotonic() + SECONDS
    try:
        with closing(sqlite3.connect(copy)) as connection:
            connection.text_factory = lambda data: data.decode("utf-8", "replace")
            connection.set_authorizer(_only_reads)
            connection.set_progress_handler(lambda: int(time.monotonic() > end), 10_000)
            cursor = connection.execute(query, dict(parameters))
            rows = cursor.fetchmany(ROWS + 1)
            names = [column[0] for column in cursor.description or ()]
    except (sqlite3.Error, sqlite3.Warning) as error:
        raise Unreadable(f"cannot be asked: {error}") from error
    if len(rows) > ROWS:
        raise Unreadable(f"gives more than {ROWS} rows")
    if by_column:
        return Located([dict(zip(names, map(_plain, row), strict=True)) for row in rows])
    if len(names) == 1:
        values = [_plain(row[0]) for row in rows]
        return Located(values[0] if len(values) == 1 else list(values))
    return Located([[_plain(cell) for cell in row] for row in rows])


def _plain(value: object) -> str | int | float | None:
    if isinstance(value, bytes):
        return value.hex()
    return value if isinstance(value, int | float | str) else None


def _only_reads(action: int, *_: object) -> int:
    return sqlite3.SQLITE_OK if action in _ALLOWED else sqlite3.SQLITE_DENY
