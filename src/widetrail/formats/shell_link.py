"""Where a shortcut of Windows (``.lnk``) leads.

Source: [MS-SHLLINK], Shell Link Binary File Format: header, item list, LinkInfo, string data.
"""

from __future__ import annotations

import struct

from widetrail.formats.interface import NotThere, Unreadable

_HEAD = 0x4C
_CLASS = bytes.fromhex("0114020000000000c000000000000046")
_HAS_LIST, _HAS_INFO, _UNICODE = 0x01, 0x02, 0x80
_STRINGS = (0x04, 0x08, 0x10, 0x20, 0x40)
"""Flags of the texts that follow: name, relative path, working folder, arguments, icon."""

_VARIABLES, _VARIABLES_AT, _VARIABLES_SIZE = 0xA0000001, 8 + 260, 520
_LOCAL = 0x01
_WITH_UNICODE = 0x24


def shortcut_target(data: bytes) -> str:
    """Return the path that a shortcut names, as Windows writes it; it may hold ``%NAME%``.

    Raises:
        Unreadable: It is no shortcut.
        NotThere: It names no path, but something of the shell's own.
    """
    try:
        return _target(data)
    except (struct.error, IndexError, ValueError) as error:
        raise Unreadable("is not a valid shortcut") from error


def _target(data: bytes) -> str:
    size, number = struct.unpack_from("<I16s", data)
    if size != _HEAD or number != _CLASS:
        raise Unreadable("is not a valid shortcut")
    (flags,) = struct.unpack_from("<I", data, 20)
    at = _HEAD
    if flags & _HAS_LIST:
        at += 2 + struct.unpack_from("<H", data, at)[0]
    found = ""
    if flags & _HAS_INFO:
        (length,) = struct.unpack_from("<I", data, at)
        found = _of_info(data[at : at + length])
        at += length
    for flag in _STRINGS:
        if flags & flag:
            (length,) = struct.unpack_from("<H", data, at)
            at += 2 + length * (2 if flags & _UNICODE else 1)
    found = found or _of_variables(data, at)
    if not found:
        raise NotThere("names no path")
    return found


def _of_info(info: bytes) -> str:
    head, flags, _, base, _, rest = struct.unpack_from("<6I", info, 4)
    if not flags & _LOCAL:
        return ""
    if head >= _WITH_UNICODE:
        base, rest = struct.unpack_from("<2I", info, 28)
        return _wide(info, base) + _wide(info, rest)
    return _narrow(info, base) + _narrow(info, rest)


def _of_variables(data: bytes, at: int) -> str:
    """Return the path with variables that a block behind the texts names, if one does."""
    while at + 8 <= len(data):
        size, kind = struct.unpack_from("<2I", data, at)
        if size < 8:
            return ""
        if kind == _VARIABLES:
            return _wide(data[at : at + _VARIABLES_AT + _VARIABLES_SIZE], _VARIABLES_AT)
        at += size
    return ""


def _narrow(data: bytes, at: int) -> str:
    return data[at : data.index(b"\0", at)].decode("cp1252", "replace")


def _wide(data: bytes, at: int) -> str:
    text = data[at : at + ((len(data) - at) & ~1)].decode("utf-16-le", "replace")
    return text.partition("\0")[0]
