"""The objects of a list in JSON as records; every other byte of the document is kept."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path

from widetrail.formats.interface import Raw, Unreadable
from widetrail.formats.record import (
    Broken,
    Declared,
    Lost,
    Piece,
    Record,
)
from widetrail.formats.rows import Rows, row_record

MOST = 256 * 1024 * 1024
"""Bytes of a document, at most: it is held whole."""

Spans = Callable[[bytes, str], tuple[list[tuple[int, int, Raw]], int]]
"""Told a document and where a list is in it; returns where each of its members begins and ends,
with what it is, and where the list ends."""


class JsonObjects(Rows):
    """Rows in a list of a document; ``at`` is the pointer to the list."""

    def __init__(self, spans: Spans) -> None:
        self._spans = spans

    def written(self, record: Record, declared: Declared) -> tuple[bytes, tuple[Lost, ...]]:
        """Return a row as the object that it is; what is between two stands for itself."""
        return record.data, ()

    def pieces(self, store: Path, declared: Declared) -> Iterator[Piece]:
        """Give a document object by object."""
        if not store.exists():
            if declared.at:
                raise Broken("is not there, and nothing says what is around the list")
            yield Piece(b"[\n")
            yield Piece(b"\n]\n", None, (), between=b",\n")
            return
        if store.stat().st_size > MOST:
            raise Broken(f"holds more than {MOST} bytes")
        data = store.read_bytes()
        try:
            spans, end = self._spans(data, declared.at)
        except Unreadable as error:
            raise Broken(str(error)) from error
        done = 0
        for begin, after, value in spans:
            if not isinstance(value, dict):
                raise Broken("has something in its list that is not an object")
            yield Piece(data[done:begin])
            yield Piece(data[begin:after], row_record(value, declared))
            done = after
        glue = b",\n" if spans else b""
        yield Piece(data[done:end] if not spans else b"", None)
        yield Piece(data[end if not spans else done :], None, (), glue, between=b",\n")
