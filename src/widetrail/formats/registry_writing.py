"""Values into the text of a registry."""

from __future__ import annotations

import codecs
from collections.abc import Iterable

from widetrail.formats.interface import Unwritable
from widetrail.formats.registry import (
    HEAD,
    Key,
    RegistryValue,
    after_head,
    entries_in,
    full_key,
    name_of,
    type_number,
    wide_text,
)
from widetrail.formats.texts import decode, encode
from widetrail.lazily import dataclass


def write_registry(keys: Iterable[Key]) -> bytes:
    """Return keys with their values as a text that the system's own tool reads (version 5)."""
    parts = [f"{HEAD}\r\n"]
    for key in keys:
        parts.append(f"\r\n[{key.path}]\r\n")
        parts += [f"{_value_line(value)}\r\n" for value in key.values.values()]
    text = "".join([*parts, "\r\n"])
    return codecs.BOM_UTF16_LE + text.encode("utf-16-le", "surrogatepass")


def _value_line(value: RegistryValue, narrow: bool = False, ends: str = "\r\n") -> str:
    name = f'"{_escape(value.name)}"' if value.name else "@"
    return f"{name}={_value_text(value, len(name) + 1, narrow, ends)}"


def _escape(text: str) -> str:
    return text.replace("\\", "\\\\").replace('"', '\\"')


def _value_text(value: RegistryValue, column: int, narrow: bool, ends: str) -> str:
    """Return a value as it stands after ``=``; hexadecimal bytes end lines before column 80."""
    if value.type == "REG_SZ" and (text := _as_text(value.data)) is not None:
        return f'"{_escape(text)}"'
    if value.type == "REG_DWORD" and len(value.data) == 4:
        return f"dword:{int.from_bytes(value.data, 'little'):08x}"
    number = type_number(value.type)
    data = value.data
    if narrow and number in (2, 7):
        try:
            data = wide_text(data).encode("cp1252")
        except UnicodeEncodeError as error:
            raise Unwritable("is of version 4, which lacks a character of the value") from error
    head = "hex:" if number == 3 else f"hex({number:x}):"
    column += len(head)
    pieces = [head]
    for at, byte in enumerate(data):
        last = at == len(data) - 1
        if column + (2 if last else 4) > 79:
            pieces.append(f"\\{ends}  ")
            column = 2
        pieces.append(f"{byte:02x}" if last else f"{byte:02x},")
        column += 3
    return "".join(pieces)


def _as_text(data: bytes) -> str | None:
    """Return data as the text it is when it stands in quotes, or ``None``."""
    try:
        text = data.decode("utf-16-le")
    except UnicodeDecodeError:
        return None
    if not text.endswith("\0") or "\0" in text[:-1] or "\n" in text or "\r" in text:
        return None
    return text[:-1]


@dataclass(frozen=True)
class Edit:
    """One change of a registry: a value that is set, one that goes, or a key that goes.

    Without a ``value`` the value ``name`` goes, and without a ``name`` the key with all below it
    does; a ``value`` of ``None`` and a name of ``KEY`` makes the key.
    """

    key: str
    name: str | None = None
    value: RegistryValue | None = None


KEY = "\0"
"""The name by which an edit makes a key that holds no value."""


def edit_registry(data: bytes, edits: Iterable[Edit]) -> bytes:
    """Return a registry text with ``edits`` made in it, and every other byte kept.

    Raises:
        Unreadable: It is not a registry text.
        Unwritable: Its version or encoding cannot hold a value.
    """
    text, codec = decode(data)
    ends = "\r\n" if "\r\n" in text else "\n"
    narrow = after_head(text)[1]
    if narrow and data.isascii():  # what is added is in the system's encoding, as version 4 is
        codec = "cp1252"
    for edit in edits:
        text = _edited(text, edit, narrow, ends)
    return encode(text, codec, data)


def _edited(text: str, edit: Edit, narrow: bool, ends: str) -> str:
    wanted = full_key(edit.key).casefold()
    if edit.name is None:
        return _without_key(text, wanted)
    inside, found, last = False, None, None
    for entry, _ in entries_in(text, after_head(text)[0]):
        if entry["key"] is not None:
            inside = not entry["minus"] and full_key(entry["key"]).casefold() == wanted
            last = entry.end() if inside else last
        elif entry["name"] is not None and inside:
            last = entry.end()
            if name_of(entry).casefold() == edit.name.casefold():
                found = entry
    if edit.value is None and edit.name != KEY:
        return text if found is None else text[: found.start()] + text[found.end() :]
    if edit.value is not None and found is not None:
        column = found.start("value") - found.start()
        told = _value_text(edit.value, column, narrow, ends)
        return text[: found.start("value")] + told + text[found.end("value") :]
    line = "" if edit.value is None else f"{_value_line(edit.value, narrow, ends)}{ends}"
    if last is not None:
        gap = "" if text[:last].endswith("\n") else ends
        return f"{text[:last]}{gap if line else ''}{line}{text[last:]}"
    gap = "" if text.endswith("\n") else ends
    spaced = text.endswith(ends * 2)
    before, after = ("", ends) if spaced else (ends, "")
    return f"{text}{gap}{before}[{full_key(edit.key)}]{ends}{line}{after}"


def _without_key(text: str, wanted: str) -> str:
    """Return a registry text without a key, those below it, and the empty lines that part them."""
    begin = after_head(text)[0]
    kept, inside, at, bare = [], False, 0, begin
    for entry, _ in entries_in(text, begin):
        if entry["key"] is not None:
            folded = full_key(entry["key"]).casefold()
            mine = folded == wanted or folded.startswith(f"{wanted}\\")
            if mine and not inside:
                kept.append((at, entry.start(), bare))
            if inside and not mine:
                at = entry.start()
            inside = mine
        if entry.group(0).strip():
            bare = entry.end()
    if not inside:
        kept.append((at, len(text), len(text)))
    elif bare == len(text):  # no empty line follows the last, so the one before it goes
        kept[-1] = (kept[-1][0], kept[-1][2], 0)
    return "".join(text[begin:end] for begin, end, _ in kept)
