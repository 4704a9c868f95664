"""Registry text files: a value is addressed by its key and name, joined with a backslash."""

from __future__ import annotations

from collections.abc import Mapping

from widetrail.formats.form import Form, insist_held, name_matches
from widetrail.formats.interface import Spot
from widetrail.formats.registry import RegistryText, RegistryValue
from widetrail.formats.registry_writing import Edit, edit_registry


def spots(data: bytes, at: str) -> list[Spot]:
    """Return the texts of the values that ``at`` names, in which ``*`` stands for any."""
    wanted, _, pattern = at.rpartition("\\")
    found = []
    for key in RegistryText(data).keys.values():
        if not name_matches(key.path, wanted):
            continue
        for value in key.values.values():
            if name_matches(value.name or "@", pattern):
                found += registry_spots(key.path, value)
    return found


def registry_spots(key: str, value: RegistryValue) -> list[Spot]:
    """Return the texts of a registry value: one, or those of a list."""
    where, plain = f"{key}\\{value.name or '@'}", value.plain
    if value.type in ("REG_SZ", "REG_EXPAND_SZ", "REG_LINK") and isinstance(plain, str):
        return [Spot(where, plain, value.line)]
    if value.type == "REG_MULTI_SZ" and isinstance(plain, list):
        return [Spot(f"{where}\0{n}", str(text), value.line) for n, text in enumerate(plain)]
    return []


def changed_value(value: RegistryValue, key: str, changes: Mapping[str, str]) -> RegistryValue:
    """Return a registry value with its texts changed; its type stays."""
    spots = registry_spots(key, value)
    texts = [changes.get(spot.where, spot.text) for spot in spots]
    if not spots or texts == [spot.text for spot in spots]:
        return value
    if value.type == "REG_MULTI_SZ":
        data = ("\0".join(texts) + "\0\0").encode("utf-16-le", "surrogatepass")
    else:
        data = f"{texts[0]}\0".encode("utf-16-le", "surrogatepass")
    return RegistryValue(value.name, value.type, data)


def put(data: bytes, at: str, changes: Mapping[str, str]) -> bytes:
    """Return the text with other values at the places of ``changes``; every type stays."""
    return insist_held(_written(data, changes), spots, at, changes)


def _written(data: bytes, changes: Mapping[str, str]) -> bytes:
    edits = []
    for key in RegistryText(data).keys.values():
        for value in key.values.values():
            now = changed_value(value, key.path, changes)
            if now is not value:
                edits.append(Edit(key.path, value.name, now))
    return edit_registry(data, edits)


REG = Form("reg", "name", is_reading=False, spots=spots, put=put)

REGISTRY = Form("registry", "name", holder="key", tells=True)
"""The registry itself."""
