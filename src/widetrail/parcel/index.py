"""The index of the cargo: every name, and where in the segments its bytes lie."""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Mapping
from dataclasses import asdict, fields
from typing import Any

from widetrail.errors import ParcelUnusable
from widetrail.formats.canonical import canonical
from widetrail.formats.interface import Platform
from widetrail.machine.paths import key, trouble_with_name
from widetrail.steps import CargoEntry

_TYPES = {f.name: (int if f.type == "int" else str) for f in fields(CargoEntry)}


def write_index(entries: Iterable[CargoEntry]) -> bytes:
    """Return the bytes of an index file: canonical JSON with a line end."""
    return canonical({"format": 1, "entries": [asdict(e) for e in entries]}) + b"\n"


def read_index(
    data: bytes, where: str, items: Iterable[str], segments: Mapping[str, int], platform: Platform
) -> tuple[CargoEntry, ...]:
    """Read an index and judge it as a whole, before anything is written by it.

    ``items`` are the item ids of the plan, ``segments`` the sizes of the segments, ``platform``
    that of the machine it is read for. ``where`` is named in errors.

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
    for entry in entries:
        trouble = _trouble(entry, known, segments, kinds, platform)
        if trouble:
            shown = f"{where}: {entry.item}: {entry.path!r}"
            raise ParcelUnusable("the index names what may not be written", where=shown,
                                 why=trouble)  # fmt: skip
        kinds[entry.item, key(entry.path, platform)] = entry.kind
    return entries


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
    if entry.kind not in ("file", "folder", "link"):
        return f"{entry.kind!r} is no kind of entry"
    if entry.size < 0 or entry.offset < 0:
        return "a number is negative"
    if entry.kind != "file":
        return "" if entry.size == 0 else "only a file has a size"
    if not re.fullmatch(r"[0-9a-f]{64}", entry.sha256):
        return "its SHA-256 is none"
    if entry.offset + entry.size > segments.get(entry.segment, -1):
        return "its bytes lie outside the segment"
    return ""
