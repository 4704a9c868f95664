"""Where a text that was typed into a program is found again."""

from __future__ import annotations

import html
import json
import sqlite3
import unicodedata
from collections.abc import Iterator
from contextlib import closing, contextmanager, suppress
from urllib.parse import quote

from widetrail.errors import MachineUnusable
from widetrail.finding.readings import copied_database
from widetrail.finding.selection import is_database
from widetrail.formats.companions import SQLITE
from widetrail.machine import Machine
from widetrail.machine.paths import base
from widetrail.tracing.parts import data_of, value_parts

TABLES_MOST = 500
"""Tables of a database that are looked through."""


def _spellings(marker: str) -> tuple[bytes, ...]:
    """Return the bytes by which programs write a text."""
    found: dict[bytes, None] = {}
    for form in ("NFC", "NFD"):
        text = unicodedata.normalize(form, marker)
        for told in _told(text):
            found.setdefault(told.encode("utf-8", "surrogateescape"))
        for wide in ("utf-16-le", "utf-16-be"):
            found.setdefault(text.encode(wide, "surrogatepass"))
    return tuple(spelling for spelling in found if spelling)


def _told(text: str) -> Iterator[str]:
    yield text
    yield json.dumps(text)[1:-1]
    yield json.dumps(text, ensure_ascii=False)[1:-1]
    yield quote(text)
    yield html.escape(text)


def find_marker(machine: Machine, path: str, marker: str) -> str:
    """Return where a marker stands in a file, in words, or an empty text."""
    if not marker:
        return ""
    if marker in base(path):
        return "its name"
    data = data_of(machine, path)
    at = min((n for s in _spellings(marker) if (n := data.find(s)) >= 0), default=-1)
    if at < 0:
        return ""
    if data.startswith(SQLITE):
        return _column(machine, path, marker) or f"byte {at}"
    for part, text in value_parts(machine, path).items():
        if marker in text:
            return f"value {part.at}"
    if b"\0" in data[:4096]:
        return f"byte {at}"
    line = data.count(b"\n", 0, at) + 1
    return f"line {line}"


def _column(machine: Machine, path: str, marker: str) -> str:
    """Return the column of a database that holds a marker."""
    with opened(machine, path) as connection:
        for table, column in columns(connection):
            query = (
                f"select 1 from {quoted_name(table)} where instr({quoted_name(column)}, ?) limit 1"
            )
            try:
                if connection.execute(query, (marker,)).fetchone():
                    return f"column {table}.{column}"
            except sqlite3.Error:
                continue
    return ""


@contextmanager
def opened(machine: Machine, path: str) -> Iterator[sqlite3.Connection]:
    """Lend a database of the machine, read in a copy; an empty one where it cannot be read."""
    try:
        with copied_database(machine, path) as copy, closing(sqlite3.connect(copy)) as connection:
            yield connection
    except MachineUnusable:
        with closing(sqlite3.connect(":memory:")) as nothing:
            yield nothing


def columns(connection: sqlite3.Connection) -> Iterator[tuple[str, str]]:
    """Give the columns of a database, each with its table."""
    try:
        tables = connection.execute(
            "select name from sqlite_master where type = 'table' order by name limit ?",
            (TABLES_MOST,),
        ).fetchall()
        for (table,) in tables:
            for row in connection.execute(f"pragma table_info({quoted_name(table)})"):
                yield table, row[1]
    except sqlite3.Error:
        return


def quoted_name(name: str) -> str:
    """Return a name as SQL has it."""
    quoted = name.replace('"', '""')
    return f'"{quoted}"'


def row_counts(machine: Machine, path: str) -> dict[str, int]:
    """Return the number of rows of each table of a database; none of another file."""
    found: dict[str, int] = {}
    if not is_database(machine, path):
        return found
    with opened(machine, path) as connection:
        for table in dict.fromkeys(table for table, _ in columns(connection)):
            with suppress(sqlite3.Error):
                query = f"select count(*) from {quoted_name(table)}"
                found[table] = connection.execute(query).fetchone()[0]
    return found
