"""Tables as text: a line of names, then a line a row (RFC 4180, and other delimiters).

The delimiter, encoding and quoting are what the recipe declares; columns that a row of another
table has and this one lacks are added at the end.
"""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import Literal

from widetrail.formats.form import Form
from widetrail.formats.record import (
    Broken,
    Declared,
    Lost,
    Piece,
    Record,
)
from widetrail.formats.rows import SEPARATOR, Rows, row_of, row_record

csv.field_size_limit(256 * 1024 * 1024)


class Csv(Rows):
    """Rows in a file."""

    options: tuple[str, ...] = ("delimiter", "encoding", "quotes", "newline")

    def habits(self, store: Path, declared: Declared) -> Declared:
        """Return what is declared, with the columns of the table and how it ends its lines."""
        options = dict(declared.options)
        if store.exists():
            with store.open("rb") as file:
                first = file.readline(1 << 20)
                options.setdefault("newline", "\r\n" if first.endswith(b"\r\n") else "\n")
            names = next(_rows(store, declared), ([], b""))[0]
            options["columns"] = SEPARATOR.join(names)
        return replace(declared, options={"newline": "\r\n", **options})

    def pieces(self, store: Path, declared: Declared) -> Iterator[Piece]:
        """Give a table row by row."""
        glue = b""
        if store.exists():
            names: list[str] | None = None
            for row, raw in _rows(store, declared):
                glue = b"" if raw.endswith((b"\n", b"\r")) else _ended(declared)
                if names is None:
                    names = row
                    yield Piece(raw)
                elif not row:
                    yield Piece(raw)
                elif len(row) > len(names):
                    raise Broken("holds a row with more cells than the table has columns")
                else:
                    told = dict(zip(names, [*row, *[""] * (len(names) - len(row))], strict=True))
                    yield Piece(raw, row_record(told, declared))
        else:
            columns = list(declared.fields.values())
            glue = _line(columns, declared).encode(_encoding(declared)) if columns else b""
        yield Piece(b"", None, (), glue)

    def written(self, record: Record, declared: Declared) -> tuple[bytes, tuple[Lost, ...]]:
        """Return a row as a line, in the columns that the table has."""
        row = row_of(record)
        columns = declared.options.get("columns", "").split(SEPARATOR)
        if columns == [""]:
            columns = list(declared.fields.values()) or list(row)
        lost: tuple[Lost, ...] = ()
        cells = ["" if (value := row.get(name)) is None else str(value) for name in columns]
        line = _line(cells, declared)
        codec = _encoding(declared).replace("-sig", "")
        try:
            return line.encode(codec, "surrogateescape" if codec == "utf-8" else "strict"), lost
        except UnicodeEncodeError:
            return line.encode(codec, "replace"), (*lost, Lost(f"characters that {codec} has not"))


def _encoding(declared: Declared) -> str:
    return declared.options.get("encoding", "utf-8-sig")


def _ended(declared: Declared) -> bytes:
    return declared.options.get("newline", "\r\n").encode()


def _quoting(declared: Declared) -> Literal[0, 1, 3]:
    match declared.options.get("quotes"):
        case "all":
            return csv.QUOTE_ALL
        case "none":
            return csv.QUOTE_NONE
    return csv.QUOTE_MINIMAL


def _line(cells: list[str], declared: Declared) -> str:
    quoting = _quoting(declared)
    to = io.StringIO(newline="")
    writer = csv.writer(
        to,
        delimiter=declared.options.get("delimiter", ","),
        quoting=quoting,
        lineterminator=declared.options.get("newline", "\r\n"),
        escapechar="\\" if quoting == csv.QUOTE_NONE else None,
    )
    writer.writerow(cells)
    return to.getvalue()


def _rows(store: Path, declared: Declared) -> Iterator[tuple[list[str], bytes]]:
    """Give the rows of a table, each with the bytes that it is."""
    encoding = _encoding(declared)
    held: list[bytes] = []

    def lines() -> Iterator[str]:
        with store.open("rb") as file:
            for number, line in enumerate(file):
                held.append(line)
                try:
                    text = line.decode(encoding if number == 0 else encoding.replace("-sig", ""))
                except UnicodeDecodeError:
                    if not encoding.startswith("utf-8"):
                        raise Broken(f"is not {encoding} in line {number + 1}") from None
                    text = line.decode("utf-8", "surrogateescape")
                yield text

    quoting = _quoting(declared)
    try:
        for row in csv.reader(
            lines(),
            delimiter=declared.options.get("delimiter", ","),
            quoting=quoting,
            escapechar="\\" if quoting == csv.QUOTE_NONE else None,
            strict=True,
        ):
            raw = b"".join(held)
            held.clear()
            yield row, raw
    except csv.Error as error:
        raise Broken(f"cannot be read as a table: {error}") from error


CSV = Form("csv", "none", is_reading=False, records=Csv())
