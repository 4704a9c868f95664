"""The index of the cargo: every name, and where in the segments its bytes lie.

An index file is JSON: the names of the columns once, then a row for each entry; lines end after so
many rows that it is read bit by bit. A generation of the logbook names one that is whole, or one
that holds what was packed since another.
"""

from __future__ import annotations

import json
import re
from base64 import b64decode
from collections.abc import Iterable, Iterator, Mapping, Sequence
from itertools import chain, islice
from typing import BinaryIO

from widetrail.errors import ParcelUnusable
from widetrail.formats import canonical
from widetrail.formats.interface import Platform
from widetrail.formats.outside import USER_ATTRIBUTES
from widetrail.formats.stored_values import LARGEST, LATEST_NS, no_text
from widetrail.formats.versions import CURRENT, brought_up
from widetrail.machine.host import DEEPEST
from widetrail.machine.paths import key, trouble_with_name
from widetrail.parcel.cargo_runs import CargoRuns, Run, in_order, shared_bytes
from widetrail.spill import AT_ONCE
from widetrail.steps import CargoEntry

_SHA256 = re.compile(r"[0-9a-f]{64}").fullmatch
_COLUMNS = list(CargoEntry._fields)
_NUMBERS = frozenset({"size", "mtime", "mode", "offset", "sparse"})
_KINDS = [int if name in _NUMBERS else str for name in _COLUMNS]


def write_index(entries: Iterable[CargoEntry]) -> Iterator[bytes]:
    """Give the bytes of an index file, some lines at a time."""
    head = canonical({"format": CURRENT["index"], "columns": _COLUMNS}).removesuffix(b"}")
    yield head + b',"entries":['
    left, between = iter(entries), b"\n"
    while some := list(islice(left, AT_ONCE)):
        yield between + canonical(some)[1:-1]
        between = b",\n"
    yield b"\n]}\n"


def read_index(
    parts: Sequence[BinaryIO],
    where: str,
    items: Mapping[str, Mapping[str, str]],
    segments: Mapping[str, int],
    platform: Platform,
) -> dict[str, Run]:
    """Read an index and judge it as a whole, before anything is written by it.

    ``parts`` are a whole index and what was packed since, in order: what is in a later part takes
    the place of what is in an earlier one.
    ``items`` are the item ids of the plan, each with the paths that are called otherwise on the
    machine it is read for; the entries have the paths there. ``segments`` are the sizes of the
    segments, ``platform`` that of the machine. ``where`` is named in errors. The entries come back
    by item.

    Raises:
        ParcelUnusable: It is malformed, or an entry is not one that may be written.
    """

    def refused(trouble: str, entry: CargoEntry | None = None) -> ParcelUnusable:
        shown = f"{where}: {entry.item}: {entry.path!r}" if entry is not None else where
        what = "the index names what may not be written"
        return ParcelUnusable(what, where=shown, why=trouble)

    judged = _Judged(frozenset(items), segments, CargoRuns(platform))
    try:
        for entry in _merged([_entries(part) for part in parts], items):
            called = _called(entry, items.get(entry.item, {}))
            if trouble := judged.take(called):
                raise refused(trouble, called)
    except (ValueError, KeyError, TypeError, RecursionError) as error:
        raise ParcelUnusable("the index cannot be read", where=where, why=str(error)) from error
    for run in judged.runs.values():
        if (twice := run.doubled()) is not None:
            raise refused("it stands there twice", twice)
    if trouble := shared_bytes(judged.runs):
        raise refused(trouble)
    return judged.runs


def _entries(part: BinaryIO) -> Iterator[CargoEntry]:
    """Give the entries of an index file, line by line."""
    head = part.readline()
    if not head.endswith(b"[\n"):  # all on one line, as releases before wrote it
        yield from map(_entry, _rows(head + part.read()))
        return
    _rows(head + _END)
    for line in part:
        if line == _END:
            break
        yield from map(_entry, json.loads(b"[%b]" % line.rstrip(b",\n")))
    else:
        raise ValueError("it ends half-way")
    if part.read(1):
        raise ValueError("something stands after its end")


_END = b"]}\n"


def _rows(document: bytes) -> list[list[object]]:
    told = brought_up("index", json.loads(document))
    if told["columns"] != _COLUMNS:
        raise ValueError("it has other columns")
    rows: list[list[object]] = told["entries"]
    return rows


def _merged(parts: list[Iterator[CargoEntry]], items: Iterable[str]) -> Iterator[CargoEntry]:
    """Give what the parts tell together, item by item where there are several."""
    if len(parts) == 1:
        return parts[0]
    database = CargoRuns()
    merged = {item: database.run(item) for item in items}
    for entry in chain.from_iterable(parts):
        merged[entry.item].put(entry)
    return in_order(merged)


class _Judged:
    """What was read of an index and may be written; folders stand before what is in them."""

    MOST = 4096
    """Folders that are remembered, so that not each name asks for the one it lies in."""

    def __init__(
        self, items: frozenset[str], segments: Mapping[str, int], database: CargoRuns
    ) -> None:
        self._items, self._segments, self._database = items, segments, database
        self._platform = database.platform
        self._folders = set[tuple[str, str]]()
        self.runs: dict[str, Run] = {}

    def take(self, entry: CargoEntry) -> str:
        """Take an entry; return what is wrong with it, or an empty text."""
        if trouble := _trouble(entry, self._items, self._segments, self._platform):
            return trouble
        above = entry.path.rpartition("/")[0]
        if above and not self._is_folder(entry.item, above):
            return f"{above!r} above it is not a folder"
        if entry.kind == "hard":
            first = self._of(entry.item).get(entry.target)
            if first is None or first.kind != "file":
                return "it is another name of no file before it"
        if entry.kind == "folder":
            self._remember(entry.item, entry.path)
        self._of(entry.item).add(entry)
        return ""

    def _of(self, item: str) -> Run:
        if item not in self.runs:
            self.runs[item] = self._database.run(item)
        return self.runs[item]

    def _is_folder(self, item: str, path: str) -> bool:
        if (item, key(path, self._platform)) in self._folders:
            return True
        found = self._of(item).get(path)
        if found is None or found.kind != "folder":
            return False
        self._remember(item, path)
        return True

    def _remember(self, item: str, path: str) -> None:
        if len(self._folders) >= self.MOST:
            self._folders.clear()
        self._folders.add((item, key(path, self._platform)))


def _called(entry: CargoEntry, becomes: Mapping[str, str]) -> CargoEntry:
    if not becomes:
        return entry
    target = becomes.get(entry.target, entry.target) if entry.kind == "hard" else entry.target
    return entry._replace(path=becomes.get(entry.path, entry.path), target=target)


def _entry(row: list[object]) -> CargoEntry:
    if list(map(type, row)) != _KINDS:
        raise ValueError("an entry has other values than its columns say")
    return CargoEntry._make(row)


def _trouble(
    entry: CargoEntry,
    items: frozenset[str],
    segments: Mapping[str, int],
    platform: Platform,
) -> str:
    if entry.item not in items:
        return "the plan has no item of that name"
    if any(map(no_text, (entry.path, entry.target, entry.attributes, entry.pieces))):
        return "a text of it holds a NUL, or half a character"
    if not (0 <= entry.mode <= 0o7777 and abs(entry.mtime) < LATEST_NS):
        return "its mode or time is none"
    if max(entry.size, entry.offset) > LARGEST:
        return "a number is too large"
    names = entry.path.split("/") if entry.path else []
    if len(names) > DEEPEST:
        return "it is nested too deep"
    if not names and (entry.kind != "folder"):
        return "only the place itself, a folder, has no name below it"
    for name in names:
        if trouble := trouble_with_name(name, platform):
            return f"{name!r} {trouble}"
    if entry.kind not in ("file", "folder", "link", "hard"):
        return f"{entry.kind!r} is not a kind of entry"
    if trouble := _attributes_trouble(entry.attributes):
        return trouble
    if entry.size < 0 or entry.offset < 0:
        return "a number is negative"
    if entry.kind != "file":
        return "" if entry.size == 0 else "only a file has a size"
    if not _SHA256(entry.sha256):
        return "its SHA-256 is none"
    return _pieces_trouble(entry, segments)


def _pieces_trouble(entry: CargoEntry, segments: Mapping[str, int]) -> str:
    """Return what is wrong with where the bytes of a file lie, or an empty text."""
    if not entry.pieces:  # most are whole
        lies = entry.offset + entry.size <= segments.get(entry.segment, -1)
        return "" if lies else "its bytes lie outside the segment"
    try:
        pieces = entry.in_pieces
    except (ValueError, TypeError, OverflowError, RecursionError):
        return "its pieces cannot be read"
    if any(max(offset, size) > LARGEST for _, offset, size in pieces):
        return "a number is too large"
    if sum(size for _, _, size in pieces) != entry.size or not pieces:
        return "its pieces are not its size"
    if any(offset < 0 or size < 0 for _, offset, size in pieces):
        return "a number is negative"
    if any(offset + size > segments.get(segment, -1) for segment, offset, size in pieces):
        return "its bytes lie outside the segment"
    return ""


def _attributes_trouble(told: str) -> str:
    """Return what is wrong with the extended attributes of an entry, or an empty text."""
    if not told:
        return ""
    try:
        attributes = json.loads(told)
        for name, value in attributes.items():
            b64decode(value, validate=True)
            if no_text(name):
                return "the name of an attribute is none"
            if not name.startswith(USER_ATTRIBUTES):
                return f"{name!r} is not an attribute of the user's own"
    except (ValueError, TypeError, RecursionError):
        return "its attributes cannot be read"
    return ""
