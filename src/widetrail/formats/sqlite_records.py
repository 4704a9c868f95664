"""The rows of a table in an SQLite database as records.

A database is read and changed in a copy that the caller made, with its journal. A column that only
numbers the rows is no part of what one says, unless it is declared as their key.
"""

from __future__ import annotations

import sqlite3
from base64 import b64decode, b64encode
from collections.abc import Iterable, Iterator
from contextlib import closing
from pathlib import Path

from widetrail.formats.interface import Raw
from widetrail.formats.record import Broken, Declared, Piece, Record
from widetrail.formats.rows import SEPARATOR, Rows, row_of, row_record

_BLOB = "base64"
"""The name under which a row holds bytes."""


class SqliteRows(Rows):
    """Rows of the table ``at``."""

    options: tuple[str, ...] = ("columns",)

    def habits(self, store: Path, declared: Declared) -> Declared:
        """Return what is declared, with the columns of the table."""
        if not store.exists():
            raise Broken("is not there: a program makes its database itself")
        with _opened(store) as connection:
            columns = SEPARATOR.join(_columns(connection, declared))
        return Declared(declared.at, declared.fields, declared.key, {"columns": columns})

    def pieces(self, store: Path, declared: Declared) -> Iterator[Piece]:
        """Give the rows of a table in their order; no bytes of the file stand for one."""
        with _opened(store) as connection:
            columns = _columns(connection, declared)
            listed = ", ".join(map(_quoted, columns))
            try:
                rows = connection.execute(f"select {listed} from {_quoted(declared.at)}")
                for row in rows:
                    told = dict(zip(columns, map(_told, row), strict=True))
                    yield Piece(b"", row_record(told, declared))
            except (sqlite3.Error, sqlite3.Warning) as error:
                raise Broken(f"cannot be read: {error}") from error
        yield Piece(b"", None, (), between=b"\n")

    def apply(
        self, copy: Path, declared: Declared, added: Iterable[Record], changed: Iterable[Record]
    ) -> None:
        """Put rows into the database file ``copy``, in one transaction.

        Raises:
            Broken: The database refuses one; nothing was changed.
        """
        table = _quoted(declared.at)
        try:
            with closing(sqlite3.connect(copy)) as connection, connection:
                known = _columns(connection, declared)
                for record in added:
                    row = {n: v for n, v in row_of(record).items() if n in known}
                    names, marks = ", ".join(map(_quoted, row)), ", ".join("?" for _ in row)
                    values = list(map(_cell, row.values()))
                    connection.execute(f"insert into {table} ({names}) values ({marks})", values)
                for record in changed:
                    row = {n: v for n, v in row_of(record).items() if n in known}
                    sets = ", ".join(f"{_quoted(n)} = ?" for n in row if n not in declared.key)
                    where = " and ".join(f"{_quoted(n)} is ?" for n in declared.key)
                    values = [_cell(v) for n, v in row.items() if n not in declared.key]
                    values += [_cell(row[n]) for n in declared.key]
                    connection.execute(f"update {table} set {sets} where {where}", values)
        except (sqlite3.Error, sqlite3.Warning) as error:
            raise Broken(f"refuses a row: {error}") from error


def _opened(store: Path) -> closing[sqlite3.Connection]:
    try:
        connection = sqlite3.connect(f"{Path(store).absolute().as_uri()}?mode=ro", uri=True)
    except sqlite3.Error as error:
        raise Broken(f"cannot be opened: {error}") from error
    connection.text_factory = lambda data: data.decode("utf-8", "surrogateescape")
    return closing(connection)


def _columns(connection: sqlite3.Connection, declared: Declared) -> list[str]:
    """Return the columns of a table that say something."""
    try:
        told = connection.execute(f"pragma table_info({_quoted(declared.at)})").fetchall()
    except (sqlite3.Error, sqlite3.Warning) as error:
        raise Broken(f"is not a database: {error}") from error
    if not told:
        raise Broken(f"has no table {declared.at}")
    numbers = [name for _, name, kind, _, _, key in told if key and kind.upper() == "INTEGER"]
    alone = numbers if sum(bool(row[5]) for row in told) == 1 else []
    return [row[1] for row in told if row[1] not in alone or row[1] in declared.key]


def _quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'


def _told(value: object) -> Raw:
    if isinstance(value, bytes):
        return {_BLOB: b64encode(value).decode()}
    return value if isinstance(value, str | int | float) else None


def _cell(value: Raw) -> str | int | float | bytes | None:
    if isinstance(value, dict):
        return b64decode(str(value.get(_BLOB, "")))
    return None if isinstance(value, list) else value
