"""One segment of the cargo while it is written: its tar headers, its hash, its seal."""

from __future__ import annotations

import hashlib
import json
import tarfile
from base64 import b64decode
from collections.abc import Callable
from contextlib import suppress
from queue import SimpleQueue
from threading import BoundedSemaphore, Thread

from widetrail.machine import Entry
from widetrail.machine.effects import Writing
from widetrail.parcel.seal import Seal

BLOCK = 512
CHUNK = 1024 * 1024
AHEAD = 4
"""Chunks that are read ahead of hashing and sealing, at most."""


class Segment:
    """A segment being written; a thread hashes and seals while the next bytes are read.

    All effects happen in the thread that calls, and as many for the same bytes each time.
    """

    def __init__(self, name: str, file: Writing, seal: Seal | None) -> None:
        self.name, self.size = name, 0
        """``size``: bytes that were written so far, before sealing."""
        self._file, self._seal = file, seal
        self._hash, self.stored = hashlib.sha256(), 0
        """``stored``: bytes of the file, sealed or not."""
        self._parts: list[bytes] = []
        self._waiting = 0
        self._blocks: SimpleQueue[bytes | None] = SimpleQueue()
        self._ahead = BoundedSemaphore(AHEAD)
        self._out, self._ready = SimpleQueue[bytes](), bytearray()
        self._failed: BaseException | None = None
        self._thread = Thread(target=self._work, daemon=True)
        self._thread.start()

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
        if not block:
            return
        self._ahead.acquire()
        self._blocks.put(block)
        if self._seal is None:
            self._store(block)
        else:
            self._store_sealed(CHUNK)

    def _store(self, block: bytes) -> None:
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
        self._end()
        if self._failed is not None:
            raise self._failed
        self._store_sealed(1)
        self._file.sync()
        self._file.close()
        return self._hash.hexdigest()

    def drop(self) -> None:
        """Let go of a segment that is not finished."""
        self._end()
        self._file.close()

    def _end(self) -> None:
        self._blocks.put(None)
        self._thread.join()

    # In the thread

    def _work(self) -> None:
        try:
            if self._seal is not None:
                self._seal.close(_Blocks(self._next), _Blocks(write=self._sealed))
            else:
                while block := self._next():
                    self._hash.update(block)
        except BaseException as error:  # told to who closes
            self._failed = error
            while self._next():
                pass

    def _next(self) -> bytes:
        block = self._blocks.get()
        if block is None:
            self._blocks.put(None)  # the end stays the end
            return b""
        with suppress(ValueError):
            self._ahead.release()
        return block

    def _sealed(self, data: bytes) -> None:
        self._hash.update(data)
        self._out.put(bytes(data))


class _Blocks:
    """Blocks of bytes as what seals wants to read and write them."""

    def __init__(
        self, read: Callable[[], bytes] = bytes, write: Callable[[bytes], None] = lambda data: None
    ) -> None:
        self._read, self._write = read, write
        self._block, self._at = b"", 0

    def read(self, size: int = -1) -> bytes:
        if self._at >= len(self._block):
            self._block, self._at = self._read(), 0
        end = len(self._block) if size < 0 else self._at + size
        piece = self._block[self._at : end]
        self._at += len(piece)
        return piece

    def write(self, data: bytes) -> None:
        self._write(data)


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
