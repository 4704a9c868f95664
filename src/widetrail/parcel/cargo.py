"""Cargo: files packed into uncompressed pax tar segments (POSIX.1-2001), with an index."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable, Iterable, Iterator, Mapping
from itertools import zip_longest
from typing import Any, BinaryIO, Protocol

from widetrail.closing import Closing
from widetrail.formats.outside import SafePath
from widetrail.lazily import dataclass
from widetrail.machine import Effects, Entry
from widetrail.parcel.cargo_runs import CargoRuns, Run, in_order
from widetrail.parcel.file_reading import (
    Reading,
    attributes_told,
    is_changed,
    is_fresh,
    read_whole,
    sha256_of,
)
from widetrail.parcel.seal import ENDING, Seal
from widetrail.parcel.segments import CHUNK, PIECE, Segment, StoredSegment
from widetrail.parcel.tar_headers import BLOCK, tar_header
from widetrail.steps import CargoEntry
from widetrail.steps.cargo import Piece, Unstable

SEGMENT = 64 * 1024 * 1024
"""Bytes of a segment before sealing, at most; what is larger is packed in pieces."""

HEADERS = 128 * 1024
"""Bytes that are kept free in a segment for headers and its end."""

COMMIT = 128 * 1024 * 1024
"""Bytes that are packed, at least, before what was packed so far is written to the logbook."""

COMMIT_FILES = 2000
"""Files that are packed, at least, before it is, where they are small."""

MOST_FILES = 10_000
"""Files that are packed, at most, before it is: what is known of them is held in memory."""


class Seen(Protocol):
    """What a station knows of the files that it read for the cargo."""

    def is_same(self, item: str, entry: Entry) -> bool:
        """Return whether a file is surely the one that was read, by its status."""

    def note(self, item: str, entry: Entry) -> None:
        """Take note of the status that a file had before it is read."""


class Unseen:
    """Knows of no file, so that each is read again."""

    def is_same(self, item: str, entry: Entry) -> bool:
        """See ``Seen``."""
        return False

    def note(self, item: str, entry: Entry) -> None:
        """See ``Seen``."""


@dataclass(frozen=True)
class Hold:
    """Where cargo comes: the folder of its segments, their permission bits, and their seal."""

    folder: SafePath
    effects: Effects
    seal: Seal | None = None
    mode: int = 0o666


class CargoWriter(Closing):
    """Packs items one after the other; ``finish`` makes all durable."""

    def __init__(
        self,
        hold: Hold,
        runs: Mapping[str, Run] | None = None,
        segments: Mapping[str, StoredSegment] | None = None,
        commit: Callable[[CargoWriter, bool], None] | None = None,
        every: tuple[int, int] = (COMMIT, COMMIT_FILES),
        seen: Seen | None = None,
    ) -> None:
        """Go on after the entries, by item, and ``segments`` that were packed before.

        ``commit`` is called whenever ``every`` bytes or files were packed, with all entries in
        segments that are closed, so that a walk that is cut off need not pack them again; it is
        told whether all is to be read back from the medium now.
        """
        self._mode = hold.mode
        self._folder, self._effects, self._seal = hold.folder, hold.effects, hold.seal
        self._seen: Seen = seen or Unseen()
        self._segment: Segment | None = None
        self._before = dict(runs or {})
        self._runs = dict(self._before)
        some = next(iter(self._before.values()), None)
        self._database = some.database if some is not None else CargoRuns()
        self.segments: dict[str, StoredSegment] = dict(segments or {})
        self.fresh: list[CargoEntry] = []
        """Entries that were packed since the last commit."""
        self._commit, self._every, self._since = commit, every, [0, 0]

    @property
    def entries(self) -> Iterator[CargoEntry]:
        """All that is packed, item by item."""
        return in_order(self._runs)

    @property
    def grew(self) -> bool:
        """Whether the cargo is another than when this began."""
        both = zip_longest(in_order(self._before), self.entries)
        return self._before != self._runs and any(was != now for was, now in both)

    def close(self) -> None:
        """Drop what was begun and is not part of the cargo."""
        if self._segment is not None:
            self._segment.drop()

    def add(
        self,
        item: str,
        entries: Iterable[Entry],
        open_file: Callable[[str], BinaryIO],
        moved: Callable[[int, int], None] = lambda size, files: None,
        attributes: Callable[[str], Mapping[str, bytes]] = lambda path: {},
    ) -> tuple[int, int]:
        """Pack ``entries`` as those of ``item``; return the number of files and their bytes.

        What was packed of them before and is as it was is not packed again. ``moved`` is told the
        bytes and files done since it was told last. Where this raises, what was packed so far
        stays.

        Raises:
            Unstable: A file was changed while it was read.
            UnreadableFile: One cannot be read.
        """
        had, run, files, size = self._runs.pop(item, None), self._database.run(item), 0, 0
        try:
            for entry in entries:
                packed = had.get(entry.path) if had is not None else None
                if packed is None or not self._is_still(packed, entry, open_file, attributes):
                    has_some = entry.kind in ("file", "folder")
                    with Reading(entry):
                        told = attributes_told(attributes(entry.path)) if has_some else ""
                    packed = self._pack(item, entry, open_file, moved, told)
                    self.fresh.append(packed)
                elif entry.kind == "file":
                    moved(entry.size, 1)
                run.add(packed)
                if entry.kind in ("file", "hard"):
                    files, size = files + 1, size + entry.size
                self._maybe_commit()
            moved(0, 0)
        except BaseException:  # what was packed is kept, so that it need not be packed again
            self._runs[item] = had.with_(run) if had is not None else run
            raise
        self._runs[item] = run
        return files, size

    def _is_still(
        self,
        packed: CargoEntry,
        entry: Entry,
        open_file: Callable[[str], BinaryIO],
        attributes: Callable[[str], Mapping[str, bytes]],
    ) -> bool:
        """Return whether an entry is as it was when it was packed.

        A file whose status is as it was, but which may have been written to within the moment that
        its times cannot tell apart, is read again. A change of attributes shows in the status.
        """
        mine = (packed.kind, packed.size, packed.mtime, packed.mode, packed.target)
        if mine != (entry.kind, entry.size, entry.mtime, entry.mode, entry.target):
            return False
        if entry.kind == "file" and self._seen.is_same(packed.item, entry):
            return True
        if entry.kind in ("link", "hard"):
            return True
        with Reading(entry):
            if attributes_told(attributes(entry.path)) != packed.attributes:
                return False
        if entry.kind == "folder":
            return True
        self._seen.note(packed.item, entry)
        with open_file(entry.path) as file:
            return sha256_of(iter(lambda: file.read(CHUNK), b"")) == packed.sha256

    def _maybe_commit(self) -> None:
        size, files = self._since
        if self._commit is not None and (size >= self._every[0] or files >= self._every[1]):
            self.commit(read_back=False)

    def commit(self, *, read_back: bool = True) -> None:
        """Write what was packed so far to the logbook, and read all of it back from the medium.

        Raises:
            Halted: The medium does not hold what was written.
        """
        self._since = [0, 0]
        self._close()
        self._effects.sync_folder(self._folder)
        if self._commit is not None:
            self._commit(self, read_back)
        self.fresh = []

    def _pack(
        self,
        item: str,
        entry: Entry,
        open_file: Callable[[str], BinaryIO],
        moved: Callable[[int, int], None],
        attributes: str,
    ) -> CargoEntry:
        if entry.kind == "file":
            return self._pack_file(item, entry, open_file, moved, attributes)
        assert entry.kind in ("folder", "link", "hard")
        segment = self._room_for(0)
        segment.write(tar_header(f"{item}/{entry.path}", entry, attributes))
        return CargoEntry(
            item,
            entry.path,
            entry.kind,
            0,
            entry.mtime,
            entry.mode,
            entry.target,
            attributes=attributes,
        )

    def _pack_file(
        self,
        item: str,
        entry: Entry,
        open_file: Callable[[str], BinaryIO],
        moved: Callable[[int, int], None],
        attributes: str,
    ) -> CargoEntry:
        self._seen.note(item, entry)
        with Reading(entry), open_file(entry.path) as file:
            if small := entry.size <= min(CHUNK, SEGMENT - HEADERS):
                pieces, sha256 = self._pack_small(item, entry, file, attributes)
            else:
                pieces, sha256 = self._pack_large(item, entry, file, attributes, moved)
        moved(entry.size if small else 0, 1)
        self._since[0] += entry.size
        self._since[1] += 1
        first, offset, _ = pieces[0]
        return CargoEntry(
            item,
            entry.path,
            "file",
            entry.size,
            entry.mtime,
            entry.mode,
            "",
            sha256,
            first,
            offset,
            int(entry.is_sparse),
            attributes,
            json.dumps(pieces) if len(pieces) > 1 else "",
        )

    def _pack_small(
        self, item: str, entry: Entry, file: BinaryIO, attributes: str
    ) -> tuple[list[Piece], str]:
        """Pack a file that is read at once; return where it lies and its SHA-256."""
        size = entry.size
        data = read_whole(file, size)
        hashed = hashlib.sha256(data)
        if len(data) != size or is_changed(file, entry) or is_fresh(entry, file, hashed):
            raise Unstable(entry.path)
        segment = self._room_for(size)
        header = tar_header(f"{item}/{entry.path}", entry, attributes, size)
        piece = (segment.name, segment.size + len(header), size)
        segment.write(b"%b%b%b" % (header, data, b"\0" * (-size % BLOCK)))
        return [piece], hashed.hexdigest()

    def _pack_large(
        self,
        item: str,
        entry: Entry,
        file: BinaryIO,
        attributes: str,
        moved: Callable[[int, int], None],
    ) -> tuple[list[Piece], str]:
        """Pack a file that is read bit by bit, in pieces where no segment holds it."""
        hashed, left, pieces = hashlib.sha256(), entry.size, list[Piece]()
        name = f"{item}/{entry.path}"
        for size in _piece_sizes(entry.size):
            segment = self._room_for(size)
            of_piece = f"{name}{PIECE}{len(pieces) + 1:04d}" if pieces else name
            segment.write(tar_header(of_piece, entry, attributes, size))
            pieces.append((segment.name, segment.size, size))
            left -= _copy(file, segment, size, hashed, moved)
        if left or file.read(1) or is_changed(file, entry) or is_fresh(entry, file, hashed):
            raise Unstable(entry.path)
        return pieces, hashed.hexdigest()

    def _room_for(self, size: int) -> Segment:
        """Return the segment that takes ``size`` bytes more."""
        if self._segment is not None and self._segment.size + size + HEADERS > SEGMENT:
            self._close()
        if self._segment is None:
            name = f"{len(self.segments) + 1:06d}.tar{ENDING if self._seal is not None else ''}"
            file = self._effects.create(self._folder / name, self._mode)
            self._segment = Segment(name, file, self._seal)
        return self._segment

    def _close(self) -> None:
        if self._segment is None:
            return
        segment = self._segment
        sha256 = segment.close()
        self._segment = None
        self.segments[segment.name] = StoredSegment(
            size=segment.size, stored=segment.stored, sha256=sha256
        )

    def changes(self, item: str) -> tuple[int, int, int]:
        """Return how many names of an item were added, changed and left out since this began.

        The place itself, whose time tells of each of them, is not counted.
        """
        empty = self._database.run(item)
        return self._runs.get(item, empty).changes(self._before.get(item, empty))

    def take_back(self, item: str) -> None:
        """Have the cargo hold of an item what it held when this began."""
        self._runs.pop(item, None)
        if item in self._before:
            self._runs[item] = self._before[item]

    def finish(self) -> None:
        """Close the last segment and make all segments durable."""
        self._close()
        self._effects.sync_folder(self._folder)


def _piece_sizes(size: int) -> Iterator[int]:
    """Give the sizes of the pieces a file is packed in: one, unless no segment holds it."""
    most = max(SEGMENT - HEADERS, SEGMENT // 2)
    while size > most:
        yield most
        size -= most
    yield size


def _copy(
    file: BinaryIO, segment: Segment, size: int, hashed: Any, moved: Callable[[int, int], None]
) -> int:
    """Copy ``size`` bytes and return how many there were; the segment stays a sound tar."""
    left = size
    try:
        while left and (chunk := file.read(min(CHUNK, left))):
            hashed.update(chunk)
            segment.write(chunk)
            left -= len(chunk)
            moved(len(chunk), 0)
        return size - left
    finally:  # whatever happened, any tool reads on from here
        padding = left + -size % BLOCK
        while padding:
            segment.write(b"\0" * min(CHUNK, padding))
            padding -= min(CHUNK, padding)
