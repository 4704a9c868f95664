"""Cargo: files packed into uncompressed pax tar segments (POSIX.1-2001), with an index."""

from __future__ import annotations

import hashlib
import tarfile
from collections.abc import Callable, Iterable, Iterator, Mapping
from pathlib import Path
from types import TracebackType
from typing import BinaryIO

from widetrail.errors import Halted, ParcelUnusable
from widetrail.machine import Effects, Entry
from widetrail.machine.effects import Writing
from widetrail.steps import CargoEntry

SEGMENT = 64 * 1024 * 1024
"""A segment is closed when it has grown to this many bytes."""

CHUNK = 1024 * 1024
_BLOCK = 512


class CargoWriter:
    """Packs items one after the other; ``finish`` tells what was written."""

    def __init__(
        self, folder: Path, effects: Effects, entries: Iterable[CargoEntry] = (),
        segments: Mapping[str, dict[str, str | int]] | None = None,
    ) -> None:  # fmt: skip
        """Go on after the ``entries`` and ``segments`` that were packed before."""
        self._folder, self._effects = folder, effects
        self._file: Writing | None = None
        self._name, self._written = "", 0
        self._hash = hashlib.sha256()
        self.entries: list[CargoEntry] = list(entries)
        self.segments: dict[str, dict[str, str | int]] = dict(segments or {})
        self._before = len(self.entries)

    @property
    def grew(self) -> bool:
        """Whether anything was packed."""
        return len(self.entries) > self._before

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
    ) -> tuple[int, int]:  # fmt: skip
        """Pack ``entries`` as those of ``item``; return the number of files and their bytes.

        ``moved`` is told the bytes packed since it was told last. Where this raises, nothing of
        the item is in the index; bytes of it may stand in a segment that nothing points to.

        Raises:
            Halted: A file changed its size while it was read.
        """
        before = len(self.entries)
        try:
            return self._add(item, entries, open_file, moved)
        except BaseException:
            del self.entries[before:]
            raise

    def _add(
        self, item: str, entries: Iterable[Entry], open_file: Callable[[str], BinaryIO],
        moved: Callable[[int], None],
    ) -> tuple[int, int]:  # fmt: skip
        files = size = 0
        for entry in entries:
            if entry.kind == "file":
                self.entries.append(self._pack_file(item, entry, open_file, moved))
                files, size = files + 1, size + entry.size
            else:
                self._write(self._header(item, entry))
                kind = "folder" if entry.kind == "folder" else "link"
                self.entries.append(
                    CargoEntry(item, entry.path, kind, 0, entry.mtime, entry.mode, entry.target)  # type: ignore[arg-type]
                )
        moved(0)
        return files, size

    def _pack_file(
        self, item: str, entry: Entry, open_file: Callable[[str], BinaryIO],
        moved: Callable[[int], None],
    ) -> CargoEntry:  # fmt: skip
        self._write(self._header(item, entry))
        offset, segment, hashed = self._written, self._name, hashlib.sha256()
        left = entry.size
        try:
            with open_file(entry.path) as file:
                while left and (chunk := file.read(min(CHUNK, left))):
                    hashed.update(chunk)
                    self._write(chunk)
                    left -= len(chunk)
                    moved(len(chunk))
                if left or file.read(1):
                    raise Halted(
                        "a file changed while it was packed",
                        where=entry.path,
                        why=f"it had {entry.size} bytes before",
                        todo="Close the program that writes it, then walk again.",
                    )
        finally:  # whatever happened, the segment stays a tar that any tool reads on from
            while left:
                self._write(b"\0" * min(CHUNK, left))
                left -= min(CHUNK, left)
            self._write(b"\0" * (-entry.size % _BLOCK))
        if self._written >= SEGMENT:
            self._close()
        return CargoEntry(
            item, entry.path, "file", entry.size, entry.mtime, entry.mode,
            sha256=hashed.hexdigest(), segment=segment, offset=offset,
        )  # fmt: skip

    def _header(self, item: str, entry: Entry) -> bytes:
        info = tarfile.TarInfo(f"{item}/{entry.path}")
        info.mode, info.mtime = entry.mode, entry.mtime // 10**9
        if entry.kind == "file":
            info.size = entry.size
        elif entry.kind == "folder":
            info.type = tarfile.DIRTYPE
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
        self._file = None
        self.segments[self._name] = {"size": self._written, "sha256": self._hash.hexdigest()}

    def finish(self) -> None:
        """Close the last segment and make all segments durable."""
        self._close()
        self._effects.sync_folder(self._folder)


class CargoReader:
    """Reads the cargo that an index describes."""

    def __init__(self, folder: Path, entries: tuple[CargoEntry, ...]) -> None:
        self._folder, self.entries = folder, entries

    def of(self, item: str) -> tuple[CargoEntry, ...]:
        """Return the entries of ``item``, folders before what is in them."""
        return tuple(e for e in self.entries if e.item == item)

    def chunks(self, entry: CargoEntry) -> Iterator[bytes]:
        """Give the bytes of a packed file, checked against its SHA-256 at the end.

        Raises:
            ParcelUnusable: The bytes are not those that were packed.
        """
        hashed, left = hashlib.sha256(), entry.size
        path = self._folder / entry.segment
        with path.open("rb") as file:
            file.seek(entry.offset)
            while left and (chunk := file.read(min(CHUNK, left))):
                hashed.update(chunk)
                left -= len(chunk)
                yield chunk
        if left or hashed.hexdigest() != entry.sha256:
            raise ParcelUnusable(
                "cargo was damaged or touched",
                where=str(path),
                why=f"the SHA-256 of {entry.path} does not fit",
                todo="Pack again on old.",
            )
