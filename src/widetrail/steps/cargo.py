"""What is in the cargo of a parcel, and how it is packed on old and read on new."""

from __future__ import annotations

import json
from base64 import b64decode
from collections.abc import Callable, Iterable, Iterator, Mapping
from typing import BinaryIO, Literal, NamedTuple, Protocol

from widetrail.errors import Halted, MachineUnusable
from widetrail.machine import Entry

Piece = tuple[str, int, int]
"""A segment, the offset into it, and a number of bytes."""


class CargoEntry(NamedTuple):
    """One name in the cargo: whose it is, its status, and where in the segments its bytes lie.

    ``mtime`` in nanoseconds, ``offset`` in bytes into the segment ``segment``; ``sha256`` is empty
    unless it is a file. ``hard`` is another name of the file ``target``; ``sparse`` is 1 for a file
    with holes; ``attributes`` are its extended attributes as a JSON object of base64 texts,
    ``pieces`` a JSON list of segment, offset and size for a file that no segment holds whole.
    """

    item: str
    path: str
    kind: Literal["file", "folder", "link", "hard"]
    size: int
    mtime: int
    mode: int
    target: str = ""
    sha256: str = ""
    segment: str = ""
    offset: int = 0
    sparse: int = 0
    attributes: str = ""
    pieces: str = ""

    @property
    def in_pieces(self) -> tuple[Piece, ...]:
        """Where the bytes of the file lie, in order."""
        if not self.pieces:
            return ((self.segment, self.offset, self.size),)
        return tuple((str(s), int(o), int(n)) for s, o, n in json.loads(self.pieces))

    @property
    def is_sparse(self) -> bool:
        """Whether the file had holes."""
        return bool(self.sparse)

    @property
    def attributes_by_name(self) -> dict[str, bytes]:
        """The extended attributes; none that cannot be read."""
        if not self.attributes:
            return {}
        told = json.loads(self.attributes)
        return {str(name): b64decode(value) for name, value in told.items()}


class Unstable(Halted):
    """Something of an item, by its path below the place, is not what it was when it was listed."""

    def __init__(self, path: str) -> None:
        super().__init__(
            "it changed while it was packed",
            where=path or "the place itself",
            why="its size, times or number are not what they were",
            todo="Close the program that writes it, then walk again.",
        )
        self.path = path


class UnreadableFile(MachineUnusable):
    """A file of an item, by its ``path`` below the place, that the system cannot read."""

    def __init__(self, path: str, error: MachineUnusable) -> None:
        super().__init__(error.what, where=error.where, why=error.why, todo=_UNREADABLE)
        self.path = path


_UNREADABLE = "Walk again, and say whether it is left out: at a terminal, or with --answers."


class Packing(Protocol):
    """The cargo of a parcel while it is packed on old."""

    def add(
        self,
        item: str,
        entries: Iterable[Entry],
        open_file: Callable[[str], BinaryIO],
        moved: Callable[[int, int], None] = ...,
        attributes: Callable[[str], Mapping[str, bytes]] = ...,
    ) -> tuple[int, int]:
        """Pack ``entries``; return the number of files and their bytes.

        What was packed of them by a walk that was cut off, and is as it was, is not packed again.
        ``moved`` is told the bytes and files that were packed since it was told last. Where this
        raises, what was packed so far stays.

        Raises:
            Unstable: A file is not the one that was listed.
            UnreadableFile: One cannot be read.
        """


class Packed(Protocol):
    """The cargo of a parcel as it is read on new."""

    def of(self, item: str, after: int = 0) -> Iterator[CargoEntry]:
        """Give the entries of an item after the first ``after``, folders before what is in them."""

    def tally(self, item: str) -> tuple[int, int, int]:
        """Return how many entries an item has, how many of them are files or names of files, and
        the bytes of these."""

    def get(self, item: str, path: str) -> CargoEntry | None:
        """Return an entry of an item by its path below the place."""

    def chunks(self, entry: CargoEntry) -> Iterator[bytes]:
        """Give the bytes of a packed file, as they are in the parcel."""

    def insist(self, entry: CargoEntry) -> None:
        """Check the bytes of a packed file.

        Raises:
            ParcelUnusable: They are not those that were packed.
        """
