"""The file of a history: its tables, opened, made and brought up from the layouts before."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator, Mapping
from contextlib import closing, contextmanager
from pathlib import Path

from widetrail.errors import InputUnusable

_ID, _LAYOUT = 0x57544831, 3
"""What tells a file of SQLite to be a history, and the layout of its tables; of the layouts before
it (1, 2) columns and tables are missing."""

TABLES: Mapping[str, Mapping[str, str]] = {
    "batch": {
        "id": "text primary key",
        "begun": "text not null",
        "ended": "text not null default ''",
        "wanted": "integer not null",
    },
    "run": {
        "id": "text primary key",
        "ended": "text not null",
        "recipe": "text not null",
        "rehearsal": "text not null",
        "case_name": "text not null",
        "passed": "integer not null",
        "seconds": "real not null",
        "engine": "text not null",
        "recipe_digest": "text not null",
        "rehearsal_digest": "text not null",
        "machines_digest": "text not null default ''",
        "programs_digest": "text not null default ''",
        "engine_digest": "text not null default ''",
        "batch": "text not null default ''",
        "reached": "text not null default ''",
        "told": "text not null default ''",
    },
    "reached": {"id": "text primary key", "branches": "text not null"},
    "judged": {
        "id": "text primary key",
        "ended": "text not null",
        "recipe": "text not null",
        "recipe_digest": "text not null",
        "seconds": "real not null",
        "mutants": "integer not null",
        "detected": "integer not null",
        "unreached": "integer not null",
        "explained": "integer not null",
    },
    "covered": {
        "id": "text primary key",
        "ended": "text not null",
        "recipe": "text not null",
        "recipe_digest": "text not null",
        "wanted": "integer not null",
        "reached": "integer not null",
    },
    "quarantine": {
        "id": "text primary key",
        "recipe": "text not null",
        "rehearsal": "text not null",
        "case_name": "text not null",
        "since": "text not null",
        "until": "text not null",
        "why": "text not null",
        "kind": "text not null",
        "tried": "text not null",
    },
}
_INDEX = "create index if not exists run_of on run (recipe, rehearsal, case_name, ended)"


@contextmanager
def open_tables(path: Path | None, *, add: bool) -> Iterator[sqlite3.Connection]:
    """Open the history at ``path``, or an empty one that is kept nowhere.

    To ``add`` to it, it is made where it is not there, and one of a layout before gets this one's.
    What is only read is brought up in memory.

    Raises:
        InputUnusable: It is not there, or is no history.
    """
    if path is not None and not add and not path.is_file():
        raise InputUnusable("there is no history of rehearsals", where=str(path))
    mode = "rwc" if add else "ro"
    address = "file::memory:" if path is None else f"{path.absolute().as_uri()}?mode={mode}"
    try:
        with (
            closing(sqlite3.connect(address, uri=True, timeout=60)) as file,
            closing(_in_memory(file) if not add and _is_before(file) else file) as base,
        ):
            if _is_before(base) or (add and _is_empty(base)):
                _bring_up(base)
            elif _marks(base) != (_ID, _LAYOUT):
                what = "is no history of rehearsals that this version reads"
                raise InputUnusable(what, where=str(path))
            yield base
    except sqlite3.Error as error:
        why = str(error)
        raise InputUnusable("is no history of rehearsals", where=str(path), why=why) from error


def _marks(base: sqlite3.Connection) -> tuple[int, int]:
    names = ("application_id", "user_version")
    id, layout = (base.execute(f"pragma {name}").fetchone()[0] for name in names)
    return id, layout


def _is_before(base: sqlite3.Connection) -> bool:
    id, layout = _marks(base)
    return id == _ID and 0 < layout < _LAYOUT


def _is_empty(base: sqlite3.Connection) -> bool:
    count = base.execute("select count(*) from sqlite_master").fetchone()[0]
    return count == 0 and not any(_marks(base))


def _in_memory(file: sqlite3.Connection) -> sqlite3.Connection:
    memory = sqlite3.connect(":memory:")
    file.backup(memory)
    return memory


def _bring_up(base: sqlite3.Connection) -> None:
    """Make the tables what they are in this layout; another process may have done so by then."""
    base.execute("begin immediate")
    with base:
        for statement in list(_missing(base)):
            base.execute(statement)


def _missing(base: sqlite3.Connection) -> Iterator[str]:
    for table, columns in TABLES.items():
        there = {row[1] for row in base.execute(f"pragma table_info({table})")}
        if not there:
            told = ", ".join(f"{name} {kind}" for name, kind in columns.items())
            yield f"create table {table} ({told}) without rowid"
            continue
        for name, kind in columns.items():
            if name not in there:
                yield f"alter table {table} add column {name} {kind}"
    yield _INDEX
    yield f"pragma application_id = {_ID}"
    yield f"pragma user_version = {_LAYOUT}"
