"""Cargo: files packed into uncompressed pax tar segments (POSIX.1-2001), with an index."""

from __future__ import annotations

import hashlib
import json
import tarfile
from base64 import b64decode, b64encode
from collections.abc import Callable, Iterable, Iterator, Mapping
from pathlib import Path
from types import TracebackType
from typing import Any, BinaryIO

from widetrail.errors import Halted, ParcelUnusable
from widetrail.machine import Effects, Entry
from widetrail.machine.effects import Writing
from widetrail.steps import CargoEntry
from widetrail.steps.interface import Piece

SEGMENT = 64 * 1024 * 1024
"""Bytes of a segment, at most; what is larger is packed in pieces."""

HEADERS = 128 * 1024
"""Bytes that are kept free in a segment for headers and its end."""

PIECE = ".piece-"
"""Ends the names of the second and further pieces of a file in the segments, with their number."""

CHUNK = 1024 * 1024
_BLOCK = 512


COMMIT = 128 * 1024 * 1024
"""Bytes that are packed, at least, before what was packed so far is written to the logbook."""

COMMIT_FILES = 2000
"""Files that are packed, at least, before it is, where they are small."""


class CargoWriter:
    """Packs items one after the other; ``finish`` tells what was written."""

    def __init__(
        self, folder: Path, effects: Effects, entries: Iterable[CargoEntry] = (),
        segments: Mapping[str, dict[str, str | int]] | None = None,
        commit: Callable[[CargoWriter], None] | None = None,
        every: tuple[int, int] = (COMMIT, COMMIT_FILES),
    ) -> None:  # fmt: skip
        """Go on after the ``entries`` and ``segments`` that were packed before.

        ``commit`` is called whenever ``every`` bytes or files were packed, with all entries in
        segments that are closed, so that a walk that is cut off need not pack them again.
        """
        self._folder, self._effects = folder, effects
        self._file: Writing | None = None
        self._name, self._written = "", 0
        self._hash = hashlib.sha256()
        self.entries: list[CargoEntry] = list(entries)
        self.segments: dict[str, dict[str, str | int]] = dict(segments or {})
        self._commit, self._every, self._since = commit, every, [0, 0]
        self._before = tuple(self.entries)

    @property
    def grew(self) -> bool:
        """Whether the cargo is another than when this began."""
        return self._before != tuple(self.entries)

    def __enter__(self) -> CargoWriter:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:  # fmt: skip
        if self._file is not None:
            self._file.close()

    def add(
        self, item: str, entries: Iterable[Entry], open_file: Callable[[str], BinaryIO],
        moved: Callable[[int], None] = lambda size: None,
        attributes: Callable[[str], Mapping[str, bytes]] = lambda path: {},
    ) -> tuple[int, int]:  # fmt: skip
        """Pack ``entries`` as those of ``item``; return the number of files and their bytes.

        What was packed of them before and is as it was is not packed again. ``moved`` is told the
        bytes packed since it was told last. Where this raises, what was packed so far stays.

        Raises:
            Halted: A file changed its size while it was read.
        """
        others = [e for e in self.entries if e.item != item]
        had = {e.path: e for e in self.entries if e.item == item}
        self.entries, files, size = list(others), 0, 0
        try:
            for entry in entries:
                told = _told(attributes(entry.path)) if entry.kind in ("file", "folder") else ""
                packed = had.get(entry.path)
                if packed is None or not _is_still(packed, entry, told):
                    packed = self._pack(item, entry, open_file, moved, told)
                elif entry.kind == "file":
                    moved(entry.size)
                self.entries.append(packed)
                if entry.kind in ("file", "hard"):
                    files, size = files + 1, size + entry.size
                self._maybe_commit()
            moved(0)
        except BaseException:  # what was packed is kept, so that it need not be packed again
            done = {e.path: e for e in self.entries[len(others) :]}
            self.entries = [*others, *{**had, **done}.values()]
            raise
        return files, size

    def _maybe_commit(self) -> None:
        due = any(done >= every for done, every in zip(self._since, self._every, strict=True))
        if self._commit is not None and due:
            self._since = [0, 0]
            self._close()
            self._effects.sync_folder(self._folder)
            self._commit(self)

    def _pack(
        self, item: str, entry: Entry, open_file: Callable[[str], BinaryIO],
        moved: Callable[[int], None], attributes: str,
    ) -> CargoEntry:  # fmt: skip
        if entry.kind == "file":
            return self._pack_file(item, entry, open_file, moved, attributes)
        assert entry.kind in ("folder", "link", "hard")
        self._make_room(0)
        self._write(self._header(f"{item}/{entry.path}", entry, attributes))
        return CargoEntry(
            item, entry.path, entry.kind, 0, entry.mtime, entry.mode, entry.target,
            attributes=attributes,
        )  # fmt: skip

    def _pack_file(
        self, item: str, entry: Entry, open_file: Callable[[str], BinaryIO],
        moved: Callable[[int], None], attributes: str,
    ) -> CargoEntry:  # fmt: skip
        hashed, left, pieces = hashlib.sha256(), entry.size, list[Piece]()
        with open_file(entry.path) as file:
            for size in self._pieces(entry.size):
                self._make_room(size)
                name = f"{item}/{entry.path}" + (f"{PIECE}{len(pieces) + 1:04d}" if pieces else "")
                self._write(self._header(name, entry, attributes, size))
                pieces.append((self._name, self._written, size))
                left -= self._copy(file, size, hashed, moved)
            if left or file.read(1):
                raise Halted(
                    "a file changed while it was packed",
                    where=entry.path,
                    why=f"it had {entry.size} bytes before",
                    todo="Close the program that writes it, then walk again.",
                )
        self._since = [self._since[0] + entry.size, self._since[1] + 1]
        segment, offset, _ = pieces[0]
        return CargoEntry(
            item, entry.path, "file", entry.size, entry.mtime, entry.mode,
            sha256=hashed.hexdigest(), segment=segment, offset=offset,
            sparse=int(entry.is_sparse), attributes=attributes,
            pieces=json.dumps(pieces) if len(pieces) > 1 else "",
        )  # fmt: skip

    def _pieces(self, size: int) -> Iterator[int]:
        """Give the sizes of the pieces a file is packed in: one, unless no segment holds it."""
        most = max(SEGMENT - HEADERS, SEGMENT // 2)
        while size > most:
            yield most
            size -= most
        yield size

    def _make_room(self, size: int) -> None:
        """Close the segment where ``size`` bytes more would make it too large."""
        if self._written and self._written + size + HEADERS > SEGMENT:
            self._close()

    def _copy(self, file: BinaryIO, size: int, hashed: Any, moved: Callable[[int], None]) -> int:
        """Copy ``size`` bytes and return how many there were; the segment stays a sound tar."""
        left = size
        try:
            while left and (chunk := file.read(min(CHUNK, left))):
                hashed.update(chunk)
                self._write(chunk)
                left -= len(chunk)
                moved(len(chunk))
            return size - left
        finally:  # whatever happened, any tool reads on from here
            while left:
                self._write(b"\0" * min(CHUNK, left))
                left -= min(CHUNK, left)
            self._write(b"\0" * (-size % _BLOCK))

    def _header(self, name: str, entry: Entry, attributes: str, size: int = 0) -> bytes:
        info = tarfile.TarInfo(name)
        info.mode, info.mtime = entry.mode, entry.mtime // 10**9
        info.pax_headers = {  # as GNU tar and star name them
            f"SCHILY.xattr.{name}": b64decode(value).decode("utf-8", "surrogateescape")
            for name, value in json.loads(attributes or "{}").items()
        }
        if entry.kind == "file":
            info.size = size
        elif entry.kind == "folder":
            info.type = tarfile.DIRTYPE
        elif entry.kind == "hard":
            first = name.removesuffix(entry.path) + entry.target
            info.type, info.linkname = tarfile.LNKTYPE, first
        else:
            info.type, info.linkname = tarfile.SYMTYPE, entry.target
        return info.tobuf(tarfile.PAX_FORMAT, "utf-8", "surrogateescape")

    def _write(self, data: bytes) -> None:
        if self._file is None:
            self._name = f"{len(self.segments) + 1:06d}.tar"
            self._file = self._effects.create(self._folder / self._name)
            self._written, self._hash = 0, hashlib.sha256()
        if data:
            self._file.write(data)
            self._hash.update(data)
            self._written += len(data)

    def _close(self) -> None:
        if self._file is None:
            return
        self._write(b"\0" * (2 * _BLOCK))
        self._file.sync()
        self._file.close()
        self._file, size = None, self._written
        self._written = 0
        self.segments[self._name] = {"size": size, "sha256": self._hash.hexdigest()}

    def finish(self) -> None:
        """Close the last segment and make all segments durable."""
        self._close()
        self._effects.sync_folder(self._folder)


def _told(attributes: Mapping[str, bytes]) -> str:
    """Return extended attributes as an entry tells them."""
    if not attributes:
        return ""
    return json.dumps({n: b64encode(v).decode() for n, v in sorted(attributes.items())})


def _is_still(packed: CargoEntry, entry: Entry, attributes: str) -> bool:
    """Return whether an entry is as it was when it was packed, as far as its status tells."""
    mine = (packed.kind, packed.size, packed.mtime, packed.mode, packed.target, packed.attributes)
    return mine == (entry.kind, entry.size, entry.mtime, entry.mode, entry.target, attributes)


class CargoReader:
    """Reads the cargo that an index describes."""

    def __init__(self, folder: Path, entries: tuple[CargoEntry, ...]) -> None:
        self._folder, self.entries = folder, entries
        self._open: tuple[str, BinaryIO] | None = None

    def _segment(self, name: str) -> BinaryIO:
        """Return the open segment ``name``; one is open at a time, since they are read in order."""
        if self._open is None or self._open[0] != name:
            self.close()
            self._open = name, (self._folder / name).open("rb", CHUNK)
        return self._open[1]

    def close(self) -> None:
        """Close what is open; reading opens it again."""
        if self._open is not None:
            self._open[1].close()
            self._open = None

    def of(self, item: str) -> tuple[CargoEntry, ...]:
        """Return the entries of ``item``, folders before what is in them."""
        return tuple(e for e in self.entries if e.item == item)

    def chunks(self, entry: CargoEntry) -> Iterator[bytes]:
        """Give the bytes of a packed file, checked against its SHA-256 at the end.

        Raises:
            ParcelUnusable: The bytes are not those that were packed.
        """
        hashed, left = hashlib.sha256(), entry.size
        for segment, offset, size in entry.in_pieces:
            file, of_piece = self._segment(segment), size
            file.seek(offset)
            while of_piece and (chunk := file.read(min(CHUNK, of_piece))):
                hashed.update(chunk)
                of_piece -= len(chunk)
                left -= len(chunk)
                yield chunk
        if left or hashed.hexdigest() != entry.sha256:
            raise ParcelUnusable(
                "cargo was damaged or touched",
                where=str(self._folder / entry.segment),
                why=f"the SHA-256 of {entry.path} does not fit",
                todo="Pack again on old.",
            )
