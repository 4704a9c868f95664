"""The index of the cargo: every name, and where in the segments its bytes lie."""

from __future__ import annotations

import json
import re
from base64 import b64decode
from collections.abc import Iterable, Mapping
from dataclasses import fields, replace
from operator import attrgetter
from typing import Any

from widetrail.errors import ParcelUnusable
from widetrail.formats.canonical import canonical
from widetrail.formats.interface import Platform
from widetrail.machine.effects import USER_ATTRIBUTES
from widetrail.machine.paths import key, trouble_with_name
from widetrail.steps import CargoEntry

_TYPES = {f.name: (int if f.type == "int" else str) for f in fields(CargoEntry)}
_values = attrgetter(*_TYPES)


def write_index(entries: Iterable[CargoEntry]) -> bytes:
    """Return the bytes of an index file: canonical JSON with a line end."""
    names = tuple(_TYPES)
    told = [dict(zip(names, _values(entry), strict=True)) for entry in entries]
    return canonical({"format": 1, "entries": told}) + b"\n"


def read_index(
    data: bytes, where: str, items: Mapping[str, Mapping[str, str]], segments: Mapping[str, int],
    platform: Platform,
) -> tuple[CargoEntry, ...]:  # fmt: skip
    """Read an index and judge it as a whole, before anything is written by it.

    ``items`` are the item ids of the plan, each with the paths that are called otherwise on the
    machine it is read for; the entries have the paths there. ``segments`` are the sizes of the
    segments, ``platform`` that of the machine. ``where`` is named in errors.

    Raises:
        ParcelUnusable: It is malformed, or an entry is not one that may be written.
    """
    try:
        document = json.loads(data)
        entries = tuple(_entry(e) for e in document["entries"])
        if document["format"] != 1:
            raise ValueError("another format")
    except (ValueError, KeyError, TypeError, RecursionError) as error:
        raise ParcelUnusable("the index cannot be read", where=where, why=str(error)) from error
    known, kinds = set(items), dict[tuple[str, str], str]()
    entries = tuple(_called(entry, items.get(entry.item, {})) for entry in entries)
    for entry in entries:
        trouble = _trouble(entry, known, segments, kinds, platform)
        if trouble:
            shown = f"{where}: {entry.item}: {entry.path!r}"
            raise ParcelUnusable("the index names what may not be written", where=shown,
                                 why=trouble)  # fmt: skip
        kinds[entry.item, key(entry.path, platform)] = entry.kind
    return entries


def _called(entry: CargoEntry, becomes: Mapping[str, str]) -> CargoEntry:
    if not becomes:
        return entry
    target = becomes.get(entry.target, entry.target) if entry.kind == "hard" else entry.target
    return replace(entry, path=becomes.get(entry.path, entry.path), target=target)


def _entry(raw: Any) -> CargoEntry:
    if set(raw) != set(_TYPES):
        raise ValueError("an entry has other keys")
    for name, kind in _TYPES.items():
        if type(raw[name]) is not kind:
            raise ValueError(f"{name} of an entry is no {kind.__name__}")
    return CargoEntry(**raw)


def _trouble(
    entry: CargoEntry, items: set[str], segments: Mapping[str, int],
    kinds: Mapping[tuple[str, str], str], platform: Platform,
) -> str:  # fmt: skip
    if entry.item not in items:
        return "the plan knows no such item"
    names = entry.path.split("/")
    for name in names:
        if trouble := trouble_with_name(name, platform):
            return f"{name!r} {trouble}"
    if (entry.item, key(entry.path, platform)) in kinds:
        return "it stands there twice"
    above = "/".join(names[:-1])
    if above and kinds.get((entry.item, key(above, platform))) != "folder":
        return f"{above!r} above it is no folder"
    if entry.kind not in ("file", "folder", "link", "hard"):
        return f"{entry.kind!r} is no kind of entry"
    if entry.kind == "hard" and kinds.get((entry.item, key(entry.target, platform))) != "file":
        return "it is another name of no file before it"
    if trouble := _attributes_trouble(entry.attributes):
        return trouble
    if entry.size < 0 or entry.offset < 0:
        return "a number is negative"
    if entry.kind != "file":
        return "" if entry.size == 0 else "only a file has a size"
    if not re.fullmatch(r"[0-9a-f]{64}", entry.sha256):
        return "its SHA-256 is none"
    return _pieces_trouble(entry, segments)


def _pieces_trouble(entry: CargoEntry, segments: Mapping[str, int]) -> str:
    """Return what is wrong with where the bytes of a file lie, or an empty text."""
    try:
        pieces = entry.in_pieces
    except (ValueError, TypeError, RecursionError):
        return "its pieces cannot be read"
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
            if not name.startswith(USER_ATTRIBUTES):
                return f"{name!r} is no attribute of the user's own"
    except (ValueError, TypeError, AttributeError, RecursionError):
        return "its attributes cannot be read"
    return ""
