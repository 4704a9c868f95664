"""What programs make themselves, in the parcel: as they made it, sealed where the parcel is.

It lies in ``made/ITEM/GENERATION/NAME``. What is larger than ``PIECE_MOST``, which any medium
holds, lies in pieces beside each other: ``NAME``, ``NAME.piece-0002``, ….
"""

from __future__ import annotations

import hashlib
import os
import re
from collections.abc import Iterable, Mapping
from typing import BinaryIO

from widetrail.errors import Halted, ParcelUnusable
from widetrail.formats.outside import SafePath
from widetrail.machine import Effects
from widetrail.machine.effects import Writing
from widetrail.parcel.medium_reading import PACK_AGAIN, reading
from widetrail.parcel.seal import ENDING, Seal
from widetrail.parcel.segments import CHUNK, PIECE

MADE = "made"
PIECE_MOST = 1 << 30
"""Bytes of a file of the parcel before sealing, at most."""

_IS_PIECE = re.compile(re.escape(PIECE) + r"\d{4}\Z")


def keep(
    folder: SafePath, name: str, source: SafePath, seal: Seal | None, effects: Effects, mode: int
) -> dict[str, str]:
    """Copy a file into ``folder`` durably; return the names it has there, with their SHA-256.

    ``mode`` are the permission bits of each.

    Raises:
        Halted: Its name is one that pieces have.
    """
    if _IS_PIECE.search(name):
        raise Halted(
            f"a program made a file with a reserved name: {name}",
            todo="Have the recipe give it another name.",
        )
    kept: dict[str, str] = {}
    with source.reading() as file:
        left = os.fstat(file.fileno()).st_size
        while left or not kept:
            number = f"{PIECE}{len(kept) + 1:04d}" if kept else ""
            piece = f"{name}{number}{ENDING if seal is not None else ''}"
            if (folder / piece).exists():
                effects.remove_file(folder / piece)
            with effects.create(folder / piece, mode) as target:
                hashing = _Hashing(target)
                part = _Part(file, min(left, PIECE_MOST))
                if seal is not None:
                    seal.close(part, hashing)
                else:
                    while chunk := part.read(CHUNK):
                        hashing.write(chunk)
                target.sync()
            kept[piece] = hashing.sha256
            left -= min(left, PIECE_MOST)
    effects.sync_folder(folder)
    return kept


def newest_made(files: Mapping[str, str]) -> dict[tuple[str, str], dict[str, str]]:
    """Return by item and file name what programs made last: names below the payload, SHA-256."""
    found: dict[tuple[str, str], dict[str, str]] = {}
    last: dict[tuple[str, str], str] = {}
    for name in sorted(n for n in files if n.startswith(f"{MADE}/")):
        _, slug, generation, base = name.split("/", 3)
        key = slug, _IS_PIECE.sub("", base.removesuffix(ENDING))
        if last.get(key) != generation:
            found[key] = {}
        last[key] = generation
        found[key][name] = files[name]
    return found


def fetch(
    pieces: Iterable[tuple[SafePath, str]], seal: Seal | None, target: SafePath, effects: Effects
) -> None:
    """Bring a file to ``target`` durably, unsealed and verified on the way.

    ``pieces`` are where its parts lie, in order, with their SHA-256.

    Raises:
        ParcelUnusable: It was damaged or changed; nothing is at ``target`` then.
        Halted: The medium is gone, or fails.
    """
    part = target.with_name(f"{target.name}.part")
    if part.exists():
        effects.remove_file(part)
    with effects.create(part, 0o600) as copy:
        try:
            for path, sha256 in pieces:
                _fetch_piece(path, sha256, seal, copy)
        except ParcelUnusable:
            effects.remove_file(part)
            raise
        copy.sync()
    effects.rename(part, target)


def _fetch_piece(path: SafePath, sha256: str, seal: Seal | None, copy: Writing) -> None:
    with reading(path), path.reading() as file:
        hashing = _Hashing(file=file)
        if seal is not None:
            seal.open(hashing, copy, str(path))
        while chunk := hashing.read(CHUNK):
            if seal is None:
                copy.write(chunk)
    if hashing.sha256 != sha256:
        raise ParcelUnusable(
            "was damaged or changed",
            where=str(path),
            why="its SHA-256 is not the one in the logbook",
            todo=PACK_AGAIN,
        )


class _Part:
    """The next bytes of a file, up to a number of them."""

    def __init__(self, file: BinaryIO, size: int) -> None:
        self._file, self._left = file, size

    def read(self, size: int = -1) -> bytes:
        data = self._file.read(self._left if size < 0 else min(size, self._left))
        self._left -= len(data)
        return data


class _Hashing:
    """A file that is hashed while it is written or read."""

    def __init__(self, target: Writing | None = None, file: BinaryIO | None = None) -> None:
        self._target, self._file, self._hash = target, file, hashlib.sha256()

    def write(self, data: bytes) -> None:
        assert self._target is not None
        self._hash.update(data)
        self._target.write(data)

    def read(self, size: int = -1) -> bytes:
        assert self._file is not None
        data = self._file.read(size)
        self._hash.update(data)
        return data

    @property
    def sha256(self) -> str:
        return self._hash.hexdigest()
