"""Records: letters, contacts, appointments, bookmarks, feeds and rows, as a form holds them.

A form that holds records has one ``Records`` value. It gives a store piece by piece, so that a
merge copies what it does not understand as it stands, and writes a record of any store of the same
kind into its own.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import field
from hashlib import blake2b
from pathlib import Path
from typing import BinaryIO, Literal, NamedTuple, Protocol, runtime_checkable

from widetrail.lazily import dataclass

RecordKind = Literal["letter", "contact", "event", "bookmark", "feed", "row"]
"""What records are of; those of one kind can be brought from any form to any other."""

Duplicates = Literal["replace", "keep both", "skip", "merge fields"]
"""What becomes of a record whose identity is there already, with another content."""

Folder = tuple[str, ...]
"""The names of the folders that a record is in within its store, outermost first."""

Fields = Mapping[str, tuple[str, ...]]
"""What a record says, by the names of its kind: those of RFC 5322 for letters, of RFC 6350 for
contacts, of RFC 5545 for events; ``title``, ``address``, ``added``, ``icon`` for bookmarks and
feeds; the columns for rows."""


class Record(NamedTuple):
    """One record: its own identity (empty where it has none), a digest of its content, where it
    stands in its store, and its bytes as every store of its kind can take them.

    ``digest`` is the same wherever a record says the same, however its store writes it down.
    ``marks`` are the letters of Maildir for what was done with a letter, where its store keeps them
    beside it; ``envelope`` is the line that an mbox has before it.
    """

    identity: bytes
    digest: bytes
    folder: Folder
    data: bytes
    marks: str = ""
    envelope: bytes = b""


class Piece(NamedTuple):
    """A stretch of a store as it stands: of a record, or of something else.

    ``ends`` is the folder that ends before it: what is added to that folder comes there, after
    ``glue``, with ``between`` from one to the next. ``path`` is the file that it is, below a store
    that is a folder.
    """

    raw: bytes
    record: Record | None = None
    ends: Folder | None = None
    glue: bytes = b""
    path: str = ""
    between: bytes = b""


class Broken(Exception):
    """What a store holds cannot be read as records; the text is the reason, for people."""


class Lost(NamedTuple):
    """Something of a record that a store cannot hold: what, in the words of its kind."""

    what: str


@dataclass(frozen=True)
class Declared:
    """What a recipe declares of a store: each form takes what is its own.

    ``at`` is where the records stand in it: a pointer, or a table. ``fields`` are the columns or
    members by the names of fields, ``key`` the columns that are a row's identity. ``options`` are
    the form's own: ``quoting`` of mbox, ``delimiter``, ``encoding`` and ``quotes`` of CSV.
    """

    at: str = ""
    fields: Mapping[str, str] = field(default_factory=dict)
    key: Sequence[str] = ()
    options: Mapping[str, str] = field(default_factory=dict)


class Records(Protocol):
    """How a form holds records; every function reads its file from the beginning, as a stream."""

    kind: RecordKind
    in_folder: bool
    """Whether a store is a folder with a file for each record."""

    by_folder: bool
    """Whether records of one identity in two folders are two."""

    options: tuple[str, ...]
    """The names of what a recipe may declare of a store, beside ``at``, ``fields`` and ``key``."""

    def habits(self, store: Path, declared: Declared) -> Declared:
        """Return what is declared of a store, with what it shows itself of how it is written."""

    def pieces(self, store: Path, declared: Declared) -> Iterator[Piece]:
        """Give a store, which need not be there, whole and in order: joined, it is what it was.

        The folders that it has end in it, the last the store itself: ``()``.

        Raises:
            Broken: It is no such store, or ends in the midst of a record.
        """

    def written(self, record: Record, declared: Declared) -> tuple[bytes, tuple[Lost, ...]]:
        """Return the bytes of a record as they stand in such a store, and what it cannot hold."""

    def path(self, record: Record, folder: Folder, number: int, declared: Declared) -> str:
        """Return the path of a new file below a store that is a folder."""

    def marks(self, name: str) -> tuple[bytes, bytes]:
        """Return what begins a new folder within a store, and what ends it."""

    def fields(self, record: Record, declared: Declared) -> Fields:
        """Return what a record says."""

    def name(self, record: Record) -> str:
        """Return what people know a record by."""


@runtime_checkable
class Converts(Protocol):
    """A form whose records can be made of what those of another kind say."""

    def made(self, fields: Fields, declared: Declared) -> tuple[Record, tuple[Lost, ...]]:
        """Return a record that says ``fields``, and what of them it cannot say."""


@runtime_checkable
class Fits(Protocol):
    """A form whose stores hold only some of what records of their kind say."""

    def fit(self, record: Record, declared: Declared) -> tuple[Record, tuple[Lost, ...]]:
        """Return a record as a store can hold it, and what it cannot."""


@runtime_checkable
class NeedsOnce(Protocol):
    """A form whose records need something that stands once in their store, such as a time zone."""

    def once(self, record: Record, declared: Declared) -> Sequence[tuple[str, bytes]]:
        """Return what a record needs and the store does not hold, each by a name of its own."""


@runtime_checkable
class InDatabase(Protocol):
    """A form whose stores are databases, which are changed in a copy and not written anew."""

    def apply(
        self, copy: Path, declared: Declared, added: Iterable[Record], changed: Iterable[Record]
    ) -> None:
        """Put records into the store that is copied at ``copy``; ``changed`` replace others.

        Raises:
            Broken: It refuses one; nothing was changed.
        """


@runtime_checkable
class MergesFields(Protocol):
    """A form whose records can take in what another of the same identity says."""

    def merged(
        self, mine: Record, other: Record, declared: Declared
    ) -> tuple[Record, tuple[Lost, ...]]:
        """Return ``mine`` with what ``other`` says beside it, and what it cannot say too."""


class InOneFile:
    """What forms have in common whose stores are one file without folders; each adds the rest."""

    in_folder = False
    by_folder = False
    options: tuple[str, ...] = ()

    def habits(self, store: Path, declared: Declared) -> Declared:
        """Return what is declared: there is nothing else to know."""
        return declared

    def written(self, record: Record, declared: Declared) -> tuple[bytes, tuple[Lost, ...]]:
        """Return a record as it stands, on lines of its own."""
        data = record.data
        return (data if data.endswith(b"\n") else data + b"\n"), ()

    def path(self, record: Record, folder: Folder, number: int, declared: Declared) -> str:
        """Return no path: all are in one file."""
        return ""

    def marks(self, name: str) -> tuple[bytes, bytes]:
        """Return nothing: no folder stands within it."""
        return b"", b""


class InFolders(InOneFile):
    """What forms have in common whose stores are one file with folders within it."""

    by_folder = True
    head = b""
    """What stands before the first record of a new store."""
    tail = b""
    """What stands after the last."""

    def read(self, file: BinaryIO) -> Iterator[Piece]:
        """Give a file record by record, each folder's end before what closes it."""
        raise NotImplementedError

    def pieces(self, store: Path, declared: Declared) -> Iterator[Piece]:
        """Give a store record by record; one that is not there yet as its head and its tail."""
        if not store.exists():
            yield Piece(b"", None, (), self.head)
            yield Piece(self.tail)
            return
        with store.open("rb") as file:
            yield from self.read(file)


def digest_of(*parts: bytes) -> bytes:
    """Return the digest of a content (16 bytes of BLAKE2b), which is in several parts."""
    digest = EMPTY_DIGEST.copy()
    if len(parts) == 1:
        digest.update(parts[0])
        return digest.digest()
    lengths = b":".join(b"%d" % len(part) for part in parts)
    digest.update(b"\0".join((lengths, *parts)))
    return digest.digest()


EMPTY_DIGEST = blake2b(digest_size=16)
"""What digests of contents are copies of, which is faster than to make them."""


CHUNK = 4 * 1024 * 1024
"""Bytes that are read of a store at a time."""


def lines_of(file: BinaryIO) -> Iterator[bytes]:
    """Give the lines of a file with their ends; a line longer than ``CHUNK`` comes in pieces."""
    while line := file.readline(CHUNK):
        yield line


def text_of(data: bytes) -> str:
    """Return bytes as text; what is not UTF-8 is taken as Latin-1, so that nothing is lost."""
    try:
        return data.decode("utf-8")
    except UnicodeDecodeError:
        return data.decode("latin-1")


def joined(pieces: Iterable[Piece]) -> bytes:
    """Return what pieces are together."""
    return b"".join(piece.raw for piece in pieces)
