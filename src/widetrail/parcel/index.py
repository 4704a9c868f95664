"""The index of the cargo: every name, and where in the segments its bytes lie.

An index file is canonical JSON: the names of the columns once, then a row for each entry. A
generation of the logbook names one that is whole, or one that holds what was packed since another.
"""

from __future__ import annotations

import json
import re
from base64 import b64decode
from collections.abc import Iterable, Mapping, Sequence
from itertools import pairwise

from widetrail.errors import ParcelUnusable
from widetrail.formats import canonical
from widetrail.formats.interface import Platform
from widetrail.formats.outside import USER_ATTRIBUTES
from widetrail.formats.stored_values import LARGEST, LATEST_NS, no_text
from widetrail.formats.versions import CURRENT, brought_up
from widetrail.machine.host import DEEPEST
from widetrail.machine.paths import key, trouble_with_name
from widetrail.steps import CargoEntry

_SHA256 = re.compile(r"[0-9a-f]{64}").fullmatch
_COLUMNS = list(CargoEntry._fields)
_NUMBERS = frozenset({"size", "mtime", "mode", "offset", "sparse"})
_KINDS = [int if name in _NUMBERS else str for name in _COLUMNS]


def write_index(entries: Iterable[CargoEntry]) -> bytes:
    """Return the bytes of an index file: canonical JSON with a line end."""
    return (
        canonical({"format": CURRENT["index"], "columns": _COLUMNS, "entries": list(entries)})
        + b"\n"
    )


def read_index(
    parts: Sequence[bytes],
    where: str,
    items: Mapping[str, Mapping[str, str]],
    segments: Mapping[str, int],
    platform: Platform,
) -> tuple[CargoEntry, ...]:
    """Read an index and judge it as a whole, before anything is written by it.

    ``parts`` are a whole index and what was packed since, in order: what is in a later part takes
    the place of what is in an earlier one.
    ``items`` are the item ids of the plan, each with the paths that are called otherwise on the
    machine it is read for; the entries have the paths there. ``segments`` are the sizes of the
    segments, ``platform`` that of the machine. ``where`` is named in errors.

    Raises:
        ParcelUnusable: It is malformed, or an entry is not one that may be written.
    """
    try:
        entries = _merged([_read(data) for data in parts])
    except (ValueError, KeyError, TypeError, RecursionError) as error:
        raise ParcelUnusable("the index cannot be read", where=where, why=str(error)) from error
    known, kinds = set(items), dict[tuple[str, str], str]()
    entries = tuple(_called(entry, items.get(entry.item, {})) for entry in entries)
    for entry in entries:
        trouble = _trouble(entry, known, segments, kinds, platform)
        if trouble:
            shown = f"{where}: {entry.item}: {entry.path!r}"
            raise ParcelUnusable(
                "the index names what may not be written", where=shown, why=trouble
            )
        kinds[entry.item, key(entry.path, platform)] = entry.kind
    if trouble := _shared_bytes(entries):
        raise ParcelUnusable("the index names what may not be written", where=where, why=trouble)
    return entries


def _read(data: bytes) -> list[CargoEntry]:
    document = brought_up("index", json.loads(data))
    if document["columns"] != _COLUMNS:
        raise ValueError("it has other columns")
    return [_entry(row) for row in document["entries"]]


def _merged(parts: list[list[CargoEntry]]) -> tuple[CargoEntry, ...]:
    if len(parts) == 1:
        return tuple(parts[0])
    merged: dict[tuple[str, str], CargoEntry] = {}
    for part in parts:
        merged |= {(entry.item, entry.path): entry for entry in part}
    return tuple(merged.values())


def _shared_bytes(entries: Iterable[CargoEntry]) -> str:
    """Return what is wrong where two files claim the same bytes, or an empty text.

    So the cargo is never more than the segments hold.
    """
    pieces = [(*piece, e.path) for e in entries if e.kind == "file" for piece in e.in_pieces]
    pieces = sorted(piece for piece in pieces if piece[2])
    for one, next_one in pairwise(pieces):
        if one[0] == next_one[0] and one[1] + one[2] > next_one[1]:
            return f"{one[3]!r} and {next_one[3]!r} claim the same bytes"
    return ""


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
    items: set[str],
    segments: Mapping[str, int],
    kinds: Mapping[tuple[str, str], str],
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
    if (entry.item, key(entry.path, platform)) in kinds:
        return "it stands there twice"
    above = "/".join(names[:-1])
    if above and kinds.get((entry.item, key(above, platform))) != "folder":
        return f"{above!r} above it is not a folder"
    if entry.kind not in ("file", "folder", "link", "hard"):
        return f"{entry.kind!r} is not a kind of entry"
    if entry.kind == "hard" and kinds.get((entry.item, key(entry.target, platform))) != "file":
        return "it is another name of no file before it"
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
