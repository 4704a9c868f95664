"""SQLite databases: asked one query that only reads, and texts of a column changed.

The file is opened from a copy that the caller made (with its journal), so nothing beside the
program's own file can appear; an authorizer allows reading only, and work is bounded.
"""

from __future__ import annotations

import re
import sqlite3
import time
from collections.abc import Callable, Mapping, Sequence
from contextlib import closing

from widetrail.formats.flaws import flaw
from widetrail.formats.form import Database, Form
from widetrail.formats.interface import Located, Spot, Unreadable, Unwritable
from widetrail.formats.sqlite_records import SqliteRows
from widetrail.formats.texts import texts_in_bytes

SECONDS = 20.0
ROWS = 100_000

_ALLOWED = {
    sqlite3.SQLITE_SELECT,
    sqlite3.SQLITE_READ,
    sqlite3.SQLITE_FUNCTION,
    sqlite3.SQLITE_RECURSIVE,
}


def query_sqlite(
    copy: str, query: str, parameters: Mapping[str, str], by_column: bool = False
) -> Located:
    """Run ``query`` on the database file ``copy``; parameters are bound as ``:name``.

    ``by_column`` asks for a list of mappings from column to value.

    Returns the single value of a result of one row and one column; a list of values for one
    column; a list of lists otherwise. Time and rows are bounded by ``SECONDS`` and ``ROWS``.

    Raises:
        Unreadable: It is not a database, the query is not a reading one, or a bound was reached.
    """
    columns, rows = _asked(copy, query, parameters)
    if by_column:
        return Located([dict(zip(columns, map(_plain, row), strict=True)) for row in rows])
    if len(columns) == 1:
        values = [_plain(row[0]) for row in rows]
        return Located(values[0] if len(values) == 1 else list(values))
    return Located([[_plain(cell) for cell in row] for row in rows])


Row = tuple[object, ...]


def _asked(copy: str, query: str, parameters: Mapping[str, str]) -> tuple[list[str], list[Row]]:
    """Return the names of the columns and the rows; as ``query_sqlite``."""
    end = time.monotonic() + SECONDS
    try:
        with closing(sqlite3.connect(copy)) as connection:
            connection.text_factory = lambda data: data.decode("utf-8", "replace")
            connection.set_authorizer(_only_reads)
            connection.set_progress_handler(lambda: int(time.monotonic() > end), 10_000)
            cursor = connection.execute(query, dict(parameters))
            rows = cursor.fetchmany(ROWS + 1)
            columns = [column[0] for column in cursor.description or ()]
    except (sqlite3.Error, sqlite3.Warning) as error:
        raise Unreadable(f"cannot be queried: {error}") from error
    if len(rows) > ROWS:
        raise Unreadable(f"has more than {ROWS} rows")
    return columns, rows


def _plain(value: object) -> str | int | float | None:
    if isinstance(value, bytes):
        return value.hex()
    return value if isinstance(value, int | float | str) else None


def _only_reads(action: int, *_: object) -> int:
    return sqlite3.SQLITE_OK if action in _ALLOWED else sqlite3.SQLITE_DENY


# Texts in columns: listed, changed, searched


def list_column(copy: str, at: str) -> list[Spot]:
    """Return each text of the column ``at`` (``table.column``) once, in order.

    Raises:
        Unreadable: It is not a database, or has no such column.
    """
    table, column = _named(at)
    query = f"select distinct {column} from {table} where {_HOLDS_TEXT.format(column)}"
    texts = {text for row in _asked(copy, query, {})[1] if (text := _as_text(row[0])) is not None}
    return [Spot(text, text) for text in sorted(texts)]


_HOLDS_TEXT = "typeof({0}) in ('text', 'blob')"


def _as_text(value: object) -> str | None:
    """Return a cell's text; bytes are one where they are valid UTF-8 with nothing beyond it."""
    if isinstance(value, bytes):
        try:
            text = value.decode("utf-8")
        except UnicodeDecodeError:
            return None
        return text if text.isprintable() else None
    return value if isinstance(value, str) else None


def put_column(copy: str, at: str, changes: Mapping[str, str]) -> int:
    """Change texts of a column in the database file ``copy``, in one transaction; return how many.

    Raises:
        Unreadable: It is not a database, or has no such column.
        Unwritable: The database refuses a value; nothing was changed.
    """
    table, column = _named(at)
    return _update(
        copy,
        at,
        f"update {table} set {column} = moved({column})"
        f" where {_HOLDS_TEXT.format(column)} and moved({column}) is not null",
        lambda value: _changed(value, changes),
    )


def _changed(value: object, changes: Mapping[str, str]) -> str | bytes | None:
    """Return what a cell becomes, of its own type; ``None`` where it stays."""
    text = _as_text(value)
    told = changes.get(text) if text is not None else None
    return told.encode() if told is not None and isinstance(value, bytes) else told


def put_cell(copy: str, at: str, where: Mapping[str, str], value: str) -> None:
    """Set a column of the one row in which each column of ``where`` has that value.

    Raises:
        Unreadable: It is not a database, or has no such column.
        Unwritable: There is not one such row, or the database refuses; nothing was changed.
    """
    table, column = _named(at)
    rows = " and ".join(f"{_quoted(name)} = :v{n}" for n, name in enumerate(where))
    given = {f"v{n}": text for n, text in enumerate(where.values())}
    count = query_sqlite(copy, f"select count(*) from {table} where {rows}", given).value
    if count != 1:
        raise Unwritable(f"has {count} such rows for {at}, and one was expected")
    query = f"update {table} set {column} = :value where {rows}"
    _update(copy, at, query, parameters={**given, "value": value})


def _update(
    copy: str,
    at: str,
    query: str,
    moved: Callable[[object], str | bytes | None] = lambda value: None,
    parameters: Mapping[str, str] | None = None,
) -> int:
    """Run one update in a transaction; return how many rows it changed."""
    end = time.monotonic() + SECONDS
    try:
        with closing(sqlite3.connect(copy, isolation_level=None)) as connection:
            connection.execute("pragma trusted_schema = off")
            connection.set_authorizer(_stays_inside)
            connection.set_progress_handler(lambda: int(time.monotonic() > end), 10_000)
            connection.create_function("moved", 1, moved, deterministic=True)
            connection.execute("begin immediate")
            changed = connection.execute(query, dict(parameters or {})).rowcount
            connection.execute("commit")
        return changed
    except sqlite3.IntegrityError as error:
        raise Unwritable(f"refuses a value in {at}: {error}") from error
    except (sqlite3.Error, sqlite3.Warning) as error:
        raise Unreadable(f"cannot be changed in {at}: {error}") from error


def run_statements(path: str, statements: Sequence[str]) -> None:
    """Run statements on the database ``path``, which is made where it is not there.

    None of them reaches another file.

    Raises:
        Unwritable: One fails, takes too long, or is not allowed.
    """
    end = time.monotonic() + SECONDS
    try:
        with closing(sqlite3.connect(path)) as connection, connection:
            connection.set_authorizer(_stays_inside)
            connection.set_progress_handler(lambda: int(time.monotonic() > end), 10_000)
            for statement in statements:
                connection.execute(statement)
    except (sqlite3.Error, sqlite3.Warning, ValueError) as error:
        raise Unwritable(f"cannot be changed: {error}") from error


def texts_in(copy: str, pattern: str, most: int) -> list[Spot]:
    """Return up to ``most`` texts of any table that ``pattern`` matches, each with its column.

    Bytes are searched for texts in UTF-8 and UTF-16.

    Raises:
        Unreadable: It is not a database.
    """
    expression = re.compile(pattern)
    found: list[Spot] = []
    names = query_sqlite(copy, "select name from sqlite_master where type = 'table'", {}).value
    listed = names if isinstance(names, list) else [names]
    for table in (_quoted(str(name)) for name in listed if name is not None):
        columns, rows = _asked(copy, f"select * from {table} limit {ROWS}", {})
        for row in rows:
            for column, value in zip(columns, row, strict=True):
                texts = texts_in_bytes(value) if isinstance(value, bytes) else [value]
                match = next((t for t in texts if isinstance(t, str) and expression.search(t)), "")
                if match and len(found) < most:
                    found.append(Spot(f"{table.strip(chr(34))}.{column}", match))
    return found


def _named(at: str) -> tuple[str, str]:
    table, dot, column = at.rpartition(".")
    if not dot or not table or not column:
        raise Unreadable(f'cannot be queried for "{at}", which is not a table.column')
    return _quoted(table), _quoted(column)


def _quoted(name: str) -> str:
    escaped = name.replace('"', '""')
    return f'"{escaped}"'


def _stays_inside(action: int, *_: object) -> int:
    outside = (sqlite3.SQLITE_ATTACH, sqlite3.SQLITE_DETACH)
    return sqlite3.SQLITE_DENY if action in outside else sqlite3.SQLITE_OK


_COLUMN = re.compile(r"[^.\s]+\.[^.\s]+")


def check_paths_at(at: str) -> str:
    """Return the name of a column.

    Raises:
        PydanticCustomError: It is none.
    """
    if not _COLUMN.fullmatch(at):
        raise flaw("paths-at", f'"{at}" is not a column', "Write it like attachment.path")
    return at


SQLITE = Form(
    "sqlite",
    "query",
    by_recipe=True,
    database=Database(query_sqlite, list_column, put_column, put_cell),
    check_paths_at=check_paths_at,
    records=SqliteRows(),
)
