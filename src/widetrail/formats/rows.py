"""Rows as records: members by name, whatever holds them."""

from __future__ import annotations

import json
from collections.abc import Mapping

from widetrail.formats.interface import Raw
from widetrail.formats.record import (
    Declared,
    Fields,
    Folder,
    InOneFile,
    Lost,
    Record,
    RecordKind,
    digest_of,
)

Row = dict[str, Raw]

SEPARATOR = "\x1f"
"""Stands between the names of columns where a store shows which it has."""


def row_record(row: Mapping[str, Raw], declared: Declared, folder: Folder = ()) -> Record:
    """Return a row as a record: its identity is what stands in the columns of ``key``.

    Columns in which nothing stands say nothing.
    """
    told = {name: value for name, value in row.items() if value not in (None, "")}
    said = json.dumps(told, ensure_ascii=False, sort_keys=True, default=str)
    key = [row.get(name) for name in declared.key]
    known = bool(key) and all(value not in (None, "") for value in key)
    identity = json.dumps(key, ensure_ascii=False, default=str) if known else ""
    data = json.dumps(row, ensure_ascii=False, default=str)
    return Record(_bytes(identity), digest_of(_bytes(said)), folder, _bytes(data))


def row_of(record: Record) -> Row:
    """Return the row that a record is."""
    row: Row = json.loads(record.data.decode("utf-8", "surrogateescape"))
    return row


def row_fields(record: Record, declared: Declared) -> Fields:
    """Return what a row says, by the names of fields where they are declared, else of columns."""
    row = row_of(record)
    if not declared.fields:
        return {name: _texts(value) for name, value in row.items()}
    named = {column: name for name, column in declared.fields.items()}
    told = {named.get(column, f"x-{column}"): _texts(value) for column, value in row.items()}
    return {name: texts for name, texts in told.items() if texts}


def made_row(fields: Fields, declared: Declared) -> tuple[Record, tuple[Lost, ...]]:
    """Return a row that says ``fields``, in the columns that are declared for them."""
    columns = declared.fields or {name: name for name in fields}
    row: Row = {
        columns[name]: values[0] for name, values in fields.items() if name in columns and values
    }
    lost = [Lost(f"its {name}") for name in fields if name not in columns and name != "moment"]
    lost += [
        Lost(f"more than one {name}")
        for name, v in fields.items()
        if name in columns and len(v) > 1
    ]
    return row_record(row, declared), tuple(lost)


def row_name(record: Record) -> str:
    """Return the first text of a row."""
    texts = (str(value) for value in row_of(record).values() if isinstance(value, str) and value)
    return next(texts, "a row without a text")[:100]


def _texts(value: Raw) -> tuple[str, ...]:
    if value is None or value == "":
        return ()
    if isinstance(value, list):
        return tuple(text for one in value for text in _texts(one))
    return (value if isinstance(value, str) else json.dumps(value, ensure_ascii=False),)


def _bytes(text: str) -> bytes:
    return text.encode("utf-8", "surrogateescape")


class Rows(InOneFile):
    """What every form of rows has in common; a row is written as the object that it is."""

    kind: RecordKind = "row"

    def fit(self, record: Record, declared: Declared) -> tuple[Record, tuple[Lost, ...]]:
        """Return a row in the columns that its table has, where those are known."""
        columns = declared.options.get("columns", "").split(SEPARATOR)
        row = row_of(record) if columns != [""] else {}
        lost = tuple(Lost(f"its {name}") for name, v in row.items() if name not in columns and v)
        if not lost:
            return record, ()
        return row_record({n: v for n, v in row.items() if n in columns}, declared), lost

    def fields(self, record: Record, declared: Declared) -> Fields:
        """Return what a row says."""
        return row_fields(record, declared)

    def made(self, fields: Fields, declared: Declared) -> tuple[Record, tuple[Lost, ...]]:
        """Return a row that says ``fields``."""
        return made_row(fields, declared)

    def name(self, record: Record) -> str:
        """Return the first text of a row."""
        return row_name(record)

    def merged(
        self, mine: Record, other: Record, declared: Declared
    ) -> tuple[Record, tuple[Lost, ...]]:
        """Return a row with what another says in columns in which it says nothing itself."""
        own, said = row_of(mine), row_of(other)
        more = {n: v for n, v in said.items() if v not in (None, "") and own.get(n) in (None, "")}
        both = {n for n, v in said.items() if v not in (None, "") and n not in more}
        lost = tuple(Lost(f"another {n} of one row") for n in sorted(both) if own[n] != said[n])
        return (row_record({**own, **more}, declared) if more else mine), lost
