"""The table of an office: a move on each row, with what a person chooses of it."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import fields, replace
from pathlib import Path
from typing import Any

from widetrail.errors import InputUnusable
from widetrail.formats.documents import read_text
from widetrail.lazily import dataclass
from widetrail.planning.choice_words import ChoiceWords

COLUMNS = {
    "who": "whose computers they are",
    "old": "the machine folder of the old computer",
    "new": "the machine folder or the card of the new one",
    "recipes": "files and folders of recipes",
    "between": "the name of the computer with a network that errands are done on",
}
"""The columns of a table that are no choices, with what they hold; paths are from its folder."""

_CHOICES = tuple(f.name for f in fields(ChoiceWords) if f.name != "release_after")

BETWEEN = "a computer with a network"


@dataclass(frozen=True)
class OfficeRow:
    """One row of a table: one move, by the line it is on (from 1)."""

    line: int
    who: str
    old: Path
    new: Path
    recipes: tuple[Path, ...]
    between: str
    choices: ChoiceWords


def read_office(path: Path) -> list[OfficeRow]:
    """Read the table of an office: CSV whose first line names its columns (``COLUMNS``, and the
    choices of ``ChoiceWords``). Several values of one cell are parted by ``;``.

    Raises:
        InputUnusable: It cannot be read, has no rows or an unknown column, or a cell is empty that
            must not be.
    """
    rows = csv.DictReader(io.StringIO(read_text(path), newline=""), strict=True)
    known = {*COLUMNS, *_CHOICES}
    try:
        names = [name.strip() for name in rows.fieldnames or ()]
        unknown = [name for name in names if name not in known]
        lacking = [name for name in ("old", "new", "recipes") if name not in names]
        if unknown or lacking:
            why = f"unknown: {', '.join(unknown)}" if unknown else f"missing: {', '.join(lacking)}"
            todo = f"Its columns are {', '.join([*COLUMNS, *_CHOICES])}."
            raise InputUnusable("has other columns", where=f"{path}:1", why=why, todo=todo)
        rows.fieldnames = names
        found = [_row(path, rows.line_num, cells) for cells in rows]
    except csv.Error as error:
        where = f"{path}:{rows.line_num}"
        raise InputUnusable("is no table (CSV)", where=where, why=str(error)) from error
    if not found:
        raise InputUnusable("is an empty table", where=str(path))
    return list(_named(found))


def _row(path: Path, line: int, cells: Mapping[str, str | None]) -> OfficeRow:
    told = {name: (cells.get(name) or "").strip() for name in (*COLUMNS, *_CHOICES)}
    empty = [name for name in ("old", "new", "recipes") if not told[name]]
    if empty or None in cells:
        why = f"{', '.join(empty)} is empty" if empty else "it has more cells than the first line"
        raise InputUnusable("is no move", where=f"{path}:{line}", why=why)
    chosen: dict[str, Any] = {name: _parted(told[name]) for name in _CHOICES}
    old, new = path.parent / told["old"], path.parent / told["new"]
    recipes = tuple(path.parent / name for name in _parted(told["recipes"]))
    between = told["between"] or BETWEEN
    who = told["who"] or old.name
    return OfficeRow(line, who, old, new, recipes, between, ChoiceWords(**chosen))


def _parted(cell: str) -> tuple[str, ...]:
    return tuple(part.strip() for part in cell.split(";") if part.strip())


def _named(rows: Iterable[OfficeRow]) -> Iterator[OfficeRow]:
    """Give rows of which no two have one name."""
    taken: set[str] = set()
    for row in rows:
        name, number = row.who, 1
        while name in taken:
            number += 1
            name = f"{row.who} {number}"
        taken.add(name)
        yield replace(row, who=name)
