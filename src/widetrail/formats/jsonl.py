"""JSON Lines: an object a line."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path

from widetrail.formats.form import Form
from widetrail.formats.record import (
    CHUNK,
    Broken,
    Declared,
    Fields,
    Folder,
    Lost,
    Piece,
    Record,
    RecordKind,
)
from widetrail.formats.rows import made_row, row_fields, row_name, row_record


class JsonLines:
    """Rows in a file, each an object on a line of its own."""

    kind: RecordKind = "row"
    in_folder = False
    by_folder = False
    options: tuple[str, ...] = ()

    def habits(self, store: Path, declared: Declared) -> Declared:
        """Return what is declared: there is nothing else to know."""
        return declared

    def pieces(self, store: Path, declared: Declared) -> Iterator[Piece]:
        """Give a file line by line."""
        glue = b""
        if store.exists():
            with store.open("rb") as file:
                for number, line in enumerate(file, start=1):
                    yield Piece(line, _record(line, number, declared) if line.strip() else None)
                    glue = b"" if line.endswith(b"\n") else b"\n"
        yield Piece(b"", None, (), glue)

    def written(self, record: Record, declared: Declared) -> tuple[bytes, tuple[Lost, ...]]:
        """Return a row as a line."""
        return record.data + b"\n", ()

    def path(self, record: Record, folder: Folder, number: int, declared: Declared) -> str:
        """Return no path: all are in one file."""
        return ""

    def marks(self, name: str) -> tuple[bytes, bytes]:
        """Return nothing: no folder stands within it."""
        return b"", b""

    def fields(self, record: Record, declared: Declared) -> Fields:
        """Return what a row says."""
        return row_fields(record, declared)

    def made(self, fields: Fields, declared: Declared) -> tuple[Record, tuple[Lost, ...]]:
        """Return a row that says ``fields``."""
        return made_row(fields, declared)

    def name(self, record: Record) -> str:
        """Return the first text of a row."""
        return row_name(record)


def _record(line: bytes, number: int, declared: Declared) -> Record:
    if len(line) > 64 * CHUNK:
        raise Broken(f"holds a line that is too long (line {number})")
    try:
        row = json.loads(line.decode("utf-8-sig"))
    except (ValueError, RecursionError) as error:
        raise Broken(f"holds what is no object in line {number}") from error
    if not isinstance(row, dict):
        raise Broken(f"holds what is no object in line {number}")
    return row_record(row, declared)


JSONL = Form("jsonl", "none", is_reading=False, records=JsonLines())
