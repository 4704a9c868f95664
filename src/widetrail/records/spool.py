"""What a merge keeps until it is written: the bytes of records, on the disk."""

from __future__ import annotations

import tempfile
from collections.abc import Iterable, Iterator

from widetrail.closing import Closing
from widetrail.formats.record import CHUNK

Span = tuple[int, int]
"""Where bytes lie in a spool: the offset and the size."""

_BUFFER = 1024 * 1024


class Spool(Closing):
    """Bytes that are kept one after the other in a file that nobody else sees."""

    def __init__(self) -> None:
        self._file = tempfile.TemporaryFile(buffering=_BUFFER)  # noqa: SIM115 - see close
        self._size = 0

    def close(self) -> None:
        """Let go of the file."""
        self._file.close()

    def add(self, data: bytes) -> Span:
        """Keep ``data``; return where it lies."""
        self._file.write(data)
        span = self._size, len(data)
        self._size += len(data)
        return span

    def read(self, span: Span) -> bytes:
        """Return what lies at a place."""
        offset, size = span
        self._file.seek(offset)
        data: bytes = self._file.read(size)
        return data

    def chunks(self, spans: Iterable[Span]) -> Iterator[bytes]:
        """Give what lies at several places, in pieces."""
        for offset, size in spans:
            for begin in range(offset, offset + size, CHUNK):
                yield self.read((begin, min(CHUNK, offset + size - begin)))
