"""One segment of the cargo while it is written: its hash, its seal."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterator
from contextlib import suppress
from functools import partial
from queue import SimpleQueue
from threading import BoundedSemaphore, Thread

from widetrail.formats.stored_values import Count, Sha256, Told
from widetrail.machine.effects import Writing
from widetrail.parcel.seal import Seal
from widetrail.parcel.tar_headers import BLOCK

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
