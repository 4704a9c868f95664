"""What a merge keeps until it is written: the bytes of records, on the disk."""

from __future__ import annotations

import tempfile
from collections.abc import Iterable, Iterator

from widetrail.closing import Closing
from widetrail.formats.record import CHUNK

Span = tuple[int, int]
"""Where bytes lie in a spool: from one offset to another."""

_BUFFER = 1024 * 1024


class Spool(Closing):
    """Bytes that are kept one after the other in a file that nobody else sees."""

    def __init__(self) -> None:
        self._file = tempfile.TemporaryFile()  # noqa: SIM115 - see close
        self._size = self._written = 0
        self._waiting: list[bytes] = []

    def close(self) -> None:
        """Let go of the file."""
        self._file.close()

    def add(self, data: bytes) -> Span:
        """Keep ``data``; return where it lies."""
        begin = self._size
        end = self._size = begin + len(data)
        self._waiting.append(data)
        if end - self._written > _BUFFER:
            self._write()
        return begin, end

    def _write(self) -> None:
        self._file.seek(self._written)
        self._file.write(b"".join(self._waiting))
        self._waiting.clear()
        self._written = self._size

    def read(self, span: Span) -> bytes:
        """Return what lies at a place."""
        begin, end = span
        if end > self._written:
            self._write()
        self._file.seek(begin)
        data: bytes = self._file.read(end - begin)
        return data

    def chunks(self, spans: Iterable[Span]) -> Iterator[bytes]:
        """Give what lies at several places, in pieces."""
        for first, last in spans:
            for begin in range(first, last, CHUNK):
                yield self.read((begin, min(begin + CHUNK, last)))
