"""Reading the cargo of a parcel: whole entries, pieces of them, and their digests."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator, Mapping
from typing import BinaryIO

from widetrail.errors import ParcelUnusable
from widetrail.formats.outside import SafePath
from widetrail.parcel.cargo_runs import Run, in_order
from widetrail.parcel.file_reading import sha256_of
from widetrail.parcel.medium_reading import unreadable
from widetrail.parcel.seal import Seal
from widetrail.parcel.segments import CHUNK
from widetrail.steps import CargoEntry


class CargoReader:
    """Reads the cargo that an index describes."""

    def __init__(self, folder: SafePath, runs: Mapping[str, Run], seal: Seal | None = None) -> None:
        self._folder, self._runs, self._seal = folder, runs, seal
        self._open: tuple[str, BinaryIO] | None = None

    def _segment(self, name: str) -> BinaryIO:
        """Return the open segment ``name``; one is open at a time, since they are read in order."""
        if self._open is None or self._open[0] != name:
            self.close()
            file: BinaryIO = (self._folder / name).reading(CHUNK)
            if self._seal is not None:
                file = self._unsealed(file, name)
            self._open = name, file
        return self._open[1]

    def _unsealed(self, file: BinaryIO, name: str) -> BinaryIO:
        """Return a file without a name that holds what is sealed in ``file``."""
        assert self._seal is not None
        opened = tempfile.TemporaryFile(buffering=CHUNK)  # noqa: SIM115 - it is closed by close()
        try:
            with file:
                self._seal.open(file, opened, str(self._folder / name))
        except BaseException:
            opened.close()
            raise
        return opened  # type: ignore[return-value]

    def close(self) -> None:
        """Close what is open; reading opens it again."""
        if self._open is not None:
            self._open[1].close()
            self._open = None

    @property
    def entries(self) -> Iterator[CargoEntry]:
        """All entries, item by item."""
        return in_order(self._runs)

    def of(self, item: str, after: int = 0) -> Iterator[CargoEntry]:
        """See ``Packed``."""
        run = self._runs.get(item)
        return run.after(after) if run is not None else iter(())

    def tally(self, item: str) -> tuple[int, int, int]:
        """See ``Packed``."""
        run = self._runs.get(item)
        return (run.names, run.files, run.size) if run is not None else (0, 0, 0)

    def get(self, item: str, path: str) -> CargoEntry | None:
        """Return an entry of ``item`` by its path below the place."""
        run = self._runs.get(item)
        return run.get(path) if run is not None else None

    def chunks(self, entry: CargoEntry) -> Iterator[bytes]:
        """Give the bytes of a packed file, as they are in the segments.

        Raises:
            Halted: The medium is gone, or fails.
        """
        for segment, offset, left in entry.in_pieces:
            while left and (chunk := self._read(segment, offset, min(CHUNK, left))):
                left, offset = left - len(chunk), offset + len(chunk)
                yield chunk

    def _read(self, segment: str, offset: int, size: int) -> bytes:
        try:  # plainly, since it is done for each file
            file = self._segment(segment)
            file.seek(offset)
            return file.read(size)
        except OSError as error:
            raise unreadable(self._folder / segment, error) from error

    def insist(self, entry: CargoEntry) -> None:
        """Check the bytes of a packed file against its SHA-256.

        Raises:
            ParcelUnusable: They are not those that were packed.
        """
        if sha256_of(self.chunks(entry)) != entry.sha256:
            raise ParcelUnusable(
                "the cargo was damaged or changed",
                where=str(self._folder / entry.segment),
                why=f"the SHA-256 of {entry.path} does not match",
                todo="Pack again on the old computer.",
            )
