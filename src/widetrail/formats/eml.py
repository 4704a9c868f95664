"""Letters as files of their own, ``.eml`` (RFC 5322), in a folder and the folders within it."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path

from widetrail.formats.form import Form
from widetrail.formats.letters import (
    Letters,
    letter,
    unix_lines,
    with_status,
)
from widetrail.formats.record import (
    Broken,
    Declared,
    Folder,
    Lost,
    Piece,
    Record,
)

ENDING = ".eml"


class Eml(Letters):
    """Letters in files, or one letter in a file."""

    in_folder = True

    def pieces(self, store: Path, declared: Declared) -> Iterator[Piece]:
        """Give every letter below a folder, or the one that is the file."""
        if store.is_file():
            data = store.read_bytes()
            yield Piece(data, _record(data, (), store), path="")
            return
        if store.exists() and not store.is_dir():
            raise Broken("is not a folder of letters")
        found = (p for p in store.rglob("*") if p.suffix.lower() == ENDING and p.is_file())
        for path in sorted(found):
            below = path.relative_to(store)
            data = path.read_bytes()
            yield Piece(data, _record(data, below.parts[:-1], path), path=below.as_posix())

    def written(self, record: Record, declared: Declared) -> tuple[bytes, tuple[Lost, ...]]:
        """Return a letter with lines that end as mail has them."""
        return with_status(record).replace(b"\n", b"\r\n"), ()

    def path(self, record: Record, folder: Folder, number: int, declared: Declared) -> str:
        """Return a path that any volume can hold."""
        inner = "".join(f"{_plain(name)}/" for name in folder)
        return f"{inner}{record.digest.hex()[:16]}-{number}{ENDING}"


def _plain(name: str) -> str:
    """Return the name of a folder as any volume can hold it."""
    return re.sub(r"[^ -~]|[<>:|?*/\\\"]", "_", name).strip(". ")[:60] or "_"


def _record(data: bytes, folder: Folder, path: Path) -> Record:
    if not re.match(rb"[!-9;-~]+[ \t]*:", data):
        raise Broken(f"contains a file that is not a letter: {path.name}")
    return letter(unix_lines(data), folder=folder)


EML = Form("eml", "none", is_reading=False, records=Eml())
