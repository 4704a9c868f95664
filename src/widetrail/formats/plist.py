"""Property lists of macOS, XML and binary; a key path is a pointer that may lack its first ``/``.

One that is changed is written anew as a whole.
"""

from __future__ import annotations

import plistlib
from collections.abc import Mapping
from typing import Any

from widetrail.formats.form import Entry, Form, insist_held
from widetrail.formats.interface import Located, Raw, Spot, Unreadable, Unwritable
from widetrail.formats.trees import (
    first_line,
    follow_pointer,
    listed,
    located,
    no_line,
    path_in_entries,
    plain,
    pointer_names,
    texts_at,
)


def parse(data: bytes) -> Raw:
    """Return a whole document.

    Raises:
        Unreadable: It is none.
    """
    try:
        return plain(plistlib.loads(data))
    except Unreadable:
        raise
    except (
        ValueError,
        TypeError,
        LookupError,
        AttributeError,
        OverflowError,
        RecursionError,
        plistlib.InvalidFileException,
    ) as error:
        raise Unreadable(f"is not plist: {first_line(error)}") from error
    except Exception as error:
        if "expat" in type(error).__module__:
            raise Unreadable(f"is not plist: {first_line(error)}") from error
        raise


def _pointer(at: str) -> str:
    return at if at == "" or at.startswith("/") else f"/{at}"


def read(data: bytes, at: str) -> list[Located]:
    """Return the value that a key path leads to."""
    return located(parse, no_line, data, _pointer(at))


def spots(data: bytes, at: str) -> list[Spot]:
    """Return the texts that a key path leads to."""
    return texts_at(parse, no_line, data, at)


def value(data: bytes, at: str) -> Raw:
    """Return what a key path leads to."""
    return follow_pointer(parse(data), _pointer(at))


def entries(data: bytes, at: str) -> list[Entry]:
    """Return the entries of an index."""
    return list(listed(value(data, at)))


def put(data: bytes, at: str, changes: Mapping[str, str]) -> bytes:
    """Return the list with other texts at the places of ``changes``."""
    return insist_held(_written(data, changes), spots, at, changes)


def _written(data: bytes, changes: Mapping[str, str]) -> bytes:
    document: Any = plistlib.loads(data)
    for where, text in changes.items():
        *above, last = pointer_names(where)
        holder = document
        for token in above:
            holder = holder[int(token) if isinstance(holder, list) else token]
        holder[int(last) if isinstance(holder, list) else last] = text
    return dump_plist(document, data)


def dump_plist(document: Any, like: bytes) -> bytes:
    """Return a property list in the form, XML or binary, that ``like`` has.

    Raises:
        Unwritable: A property list cannot hold it.
    """
    binary = like.startswith(b"bplist")
    form = plistlib.FMT_BINARY if binary else plistlib.FMT_XML
    try:
        return plistlib.dumps(document, fmt=form, sort_keys=False)
    except (TypeError, ValueError, OverflowError) as error:
        raise Unwritable(f"is a property list, which cannot hold it: {error}") from error


PLIST = Form(
    "plist",
    "pointer",
    tells=True,
    rewrites_whole=True,
    read=read,
    spots=spots,
    put=put,
    value=value,
    entries=entries,
    entry_at=path_in_entries,
)
