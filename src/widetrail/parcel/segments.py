"""One segment of the cargo while it is written: its tar headers, its hash, its seal."""

from __future__ import annotations

import hashlib
import json
from base64 import b64decode
from collections.abc import Callable, Iterator
from contextlib import suppress
from functools import partial
from queue import SimpleQueue
from threading import BoundedSemaphore, Thread

from widetrail.formats.stored_values import Count, Sha256, Told
from widetrail.machine import Entry
from widetrail.machine.effects import Writing
from widetrail.parcel.seal import Seal

BLOCK = 512
CHUNK = 1024 * 1024
PIECE = ".piece-"
"""Ends the names of the second and further pieces of a file, with their number."""

AHEAD = 4
"""Chunks that are read ahead of hashing and sealing, at most."""


class StoredSegment(Told):
    """A segment of the cargo: its bytes before it was sealed and as it lies there, its SHA-256."""

    size: Count
    stored: Count
    sha256: Sha256


class Segment:
    """A segment being written; threads hash and seal while the next bytes are read.

    All effects happen in the thread that calls, and as many for the same bytes each time.
    """

    def __init__(self, name: str, file: Writing, seal: Seal | None) -> None:
        self.name, self.size, self.stored = name, 0, 0
        """``size``: bytes that were written so far, before sealing; ``stored``: after it."""
        self._file, self._hash = file, hashlib.sha256()
        self._parts: list[bytes] = []
        self._waiting = 0
        self._out, self._ready = SimpleQueue[bytes](), bytearray()
        self._hashing = _Behind(self._hash_all)
        self._sealing = _Behind(partial(self._seal_all, seal)) if seal is not None else None

    def write(self, data: bytes) -> None:
        """Take bytes; they reach the medium some chunks at a time."""
        self._parts.append(data)
        self._waiting += len(data)
        self.size += len(data)
        if self._waiting >= CHUNK:
            self._pass_on()

    def _pass_on(self) -> None:
        block = self._parts[0] if len(self._parts) == 1 else b"".join(self._parts)
        self._parts, self._waiting = [], 0
        if self._sealing is None:
            self._store(block)
        else:
            self._sealing.put(block)
            self._store_sealed(CHUNK)

    def _store(self, block: bytes) -> None:
        self._hashing.put(block)
        self._file.write(block)
        self.stored += len(block)

    def _store_sealed(self, least: int) -> None:
        """Store what is sealed by now, in pieces of ``least`` bytes or more."""
        while not self._out.empty():
            self._ready += self._out.get()
        while len(self._ready) >= least:
            self._store(bytes(self._ready[:CHUNK]))
            del self._ready[:CHUNK]

    def close(self) -> str:
        """End the segment durably, and return the SHA-256 of its file."""
        self.write(b"\0" * (2 * BLOCK))
        self._pass_on()
        if self._sealing is not None:
            self._sealing.end()
            self._store_sealed(1)
        self._hashing.end()
        self._file.sync()
        self._file.close()
        return self._hash.hexdigest()

    def drop(self) -> None:
        """Let go of a segment that is not finished."""
        for thread in filter(None, (self._sealing, self._hashing)):
            with suppress(Exception):  # it is not finished, whatever else went wrong
                thread.end()
        self._file.close()

    def _hash_all(self, blocks: Iterator[bytes]) -> None:
        for block in blocks:
            self._hash.update(block)

    def _seal_all(self, seal: Seal, blocks: Iterator[bytes]) -> None:
        seal.close(_Reader(blocks), _Writer(self._out.put))


class _Behind:
    """A thread that works on blocks while the next ones are made, a few at most behind."""

    def __init__(self, work: Callable[[Iterator[bytes]], None]) -> None:
        self._blocks: SimpleQueue[bytes] = SimpleQueue()
        self._ahead = BoundedSemaphore(AHEAD)
        self._failed: Exception | None = None
        self._thread = Thread(target=self._run, args=(work,), daemon=True)
        self._thread.start()

    def put(self, block: bytes) -> None:
        """Have the thread work on ``block`` next; waits where it is too far behind."""
        if block:  # no bytes tell the end
            self._ahead.acquire()
            self._blocks.put(block)

    def end(self) -> None:
        """Wait until all is worked on.

        Raises:
            Exception: What went wrong in the thread.
        """
        self._blocks.put(b"")
        self._thread.join()
        if self._failed is not None:
            raise self._failed

    def _run(self, work: Callable[[Iterator[bytes]], None]) -> None:
        blocks = self._iterate()
        try:
            work(blocks)
        except Exception as error:  # told to who ends
            self._failed = error
            for _ in blocks:
                pass

    def _iterate(self) -> Iterator[bytes]:
        while block := self._blocks.get():
            self._ahead.release()
            yield block


class _Reader:
    """Blocks of bytes as a file that is read."""

    def __init__(self, blocks: Iterator[bytes]) -> None:
        self._blocks, self._block, self._at = blocks, b"", 0

    def read(self, size: int = -1) -> bytes:
        """Return up to ``size`` bytes of one block; none at the end."""
        if self._at >= len(self._block):
            self._block, self._at = next(self._blocks, b""), 0
        end = len(self._block) if size < 0 else self._at + size
        piece = self._block[self._at : end]
        self._at += len(piece)
        return piece


class _Writer:
    """A file to which a function gives all that is written."""

    def __init__(self, put: Callable[[bytes], None]) -> None:
        self._put = put

    def write(self, data: bytes) -> None:
        """Take all of ``data``."""
        self._put(bytes(data))


_OWNERS, _REST = b"0000000\0" * 2, b"0" + b"\0" * 100 + b"ustar\x0000" + b"\0" * 247
_SUM = sum(_OWNERS + _REST + b" " * 8)
"""Parts of the header of a regular file (POSIX.1-2001 ustar), and what they add to its checksum."""


def tar_header(name: str, entry: Entry, attributes: str, size: int = 0) -> bytes:
    """Return the header of an entry, or of ``size`` bytes of a file, in the pax format.

    Plain names of regular files, which most are, take a way of their own, as ``tarfile`` makes
    objects for each.
    """
    seconds = entry.mtime // 10**9
    plain = entry.kind == "file" and not attributes and len(name) <= 100 and name.isascii()
    if plain and size < 8**11 and 0 <= seconds < 8**11:
        path, mode = name.encode(), b"%07o" % entry.mode
        numbers = b"%011o\0%011o\0" % (size, seconds)
        total = _SUM + sum(path) + sum(mode) + sum(numbers)
        parts = (path.ljust(100, b"\0"), mode, _OWNERS, numbers, total, _REST)
        return b"%b%b\0%b%b%06o\0 %b" % parts
    import tarfile  # which a plan does without

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
