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
    Lost,
    Piece,
    Record,
)
from widetrail.formats.rows import Rows, row_record


class JsonLines(Rows):
    """Rows in a file, each an object on a line of its own."""

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


def _record(line: bytes, number: int, declared: Declared) -> Record:
    if len(line) > 64 * CHUNK:
        raise Broken(f"holds a line that is too long (line {number})")
    try:
        row = json.loads(line.decode("utf-8-sig"))
    except (ValueError, RecursionError) as error:
        raise Broken(f"has something in line {number} that is not an object") from error
    if not isinstance(row, dict):
        raise Broken(f"has something in line {number} that is not an object")
    return row_record(row, declared)


JSONL = Form("jsonl", "none", is_reading=False, records=JsonLines())
