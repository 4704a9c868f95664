"""Maildir: a letter a file, in ``cur`` and ``new``, with its marks in the name.

Source: cr.yp.to/proto/maildir.html.

Folders within it are Maildirs of their own, called ``.Name.Inner`` beside those.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

from widetrail.formats.form import Form
from widetrail.formats.letters import (
    Letters,
    letter,
    marks_of,
    unix_lines,
)
from widetrail.formats.record import (
    Broken,
    Declared,
    Folder,
    Lost,
    Piece,
    Record,
)

_MARKS = re.compile(r"[:;!]2,([A-Za-z]*)$")


class Maildir(Letters):
    """Letters in the files of a folder."""

    in_folder = True
    options: tuple[str, ...] = ("before_marks",)

    def habits(self, store: Path, declared: Declared) -> Declared:
        """Return what stands before the marks in names, which is ``:`` where a name can hold it."""
        mark = declared.options.get("before_marks")
        if mark is None:
            found = (_MARKS.search(path.name) for path, _ in _files(store))
            mark = next((match[0][0] for match in found if match is not None), ":")
        return replace(declared, options={**declared.options, "before_marks": mark})

    def pieces(self, store: Path, declared: Declared) -> Iterator[Piece]:
        """Give a Maildir letter by letter."""
        if store.exists() and not store.is_dir():
            raise Broken("is not a folder")
        for path, folder in _files(store):
            data = path.read_bytes()
            found = _MARKS.search(path.name)
            marks = found[1] if found is not None else ""
            record = letter(unix_lines(data), marks=marks, folder=folder)
            yield Piece(data, record, path=path.relative_to(store).as_posix())

    def written(self, record: Record, declared: Declared) -> tuple[bytes, tuple[Lost, ...]]:
        """Return a letter as it is."""
        return record.data, ()

    def path(self, record: Record, folder: Folder, number: int, declared: Declared) -> str:
        """Return the path of a letter: where it was read, in ``cur``; else in ``new``."""
        marks = "".join(sorted(marks_of(record)))
        within = "." + ".".join(_plain(name) for name in folder) + "/" if folder else ""
        name = f"{record.digest.hex()}.{number}.widetrail"
        mark = declared.options.get("before_marks", ":")
        return f"{within}cur/{name}{mark}2,{marks}" if marks else f"{within}new/{name}"


def _plain(name: str) -> str:
    return re.sub(r"[./\\]", "_", name)


def _files(store: Path) -> Iterator[tuple[Path, Folder]]:
    """Give the files of the letters in a Maildir and in those within it, by their names."""
    if not store.is_dir():
        return
    inner = sorted(p for p in store.iterdir() if p.name.startswith(".") and p.is_dir())
    for top in (store, *inner):
        folder = tuple(top.name.strip(".").split(".")) if top is not store else ()
        for part in ("cur", "new"):
            if (top / part).is_dir():
                found = sorted(p for p in (top / part).iterdir() if not p.name.startswith("."))
                yield from ((path, folder) for path in found if path.is_file())


MAILDIR = Form("maildir", "none", is_reading=False, records=Maildir())
