"""Property lists of macOS, XML and binary; a key path is a pointer that may lack its first ``/``.

One that is changed is written anew as a whole.
"""

from __future__ import annotations

import plistlib
from collections.abc import Mapping
from typing import Any

from widetrail.formats.form import Form, NamedValues, insist_held
from widetrail.formats.interface import Raw, Unreadable, Unwritable
from widetrail.formats.tree_values import leaves, mapping_of, set_leaves
from widetrail.formats.trees import (
    Tree,
    first_line,
    no_line,
    path_in_entries,
    plain,
    pointer_names,
    slashed,
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


_TREE = Tree(parse, no_line, slashed)


def put(data: bytes, at: str, changes: Mapping[str, str]) -> bytes:
    """Return the list with other texts at the places of ``changes``."""
    return insist_held(_written(data, changes), _TREE.spots, at, changes)


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


def _named(data: bytes) -> dict[str, str]:
    """Return the values of a list by name, each as a list of its own that holds it."""
    return {name: _text_of(leaf) for name, leaf in leaves(_mapping(data))}


def _text_of(leaf: Any) -> str:
    try:
        return plistlib.dumps({"value": leaf}, sort_keys=False).decode()
    except (TypeError, ValueError, OverflowError, RecursionError) as error:
        raise Unreadable("holds a value that no property list can hold") from error


def _mapping(data: bytes) -> Any:
    if not data:
        return {}
    parse(data)
    return mapping_of(plistlib.loads(data))


def _change(data: bytes, changes: Mapping[str, str | None]) -> bytes:
    """Return the list with values set or gone; its form stays, XML where it is new."""
    document = _mapping(data)
    set_leaves(document, changes, lambda text: plistlib.loads(text.encode())["value"])
    return dump_plist(document, data)


PLIST = Form(
    "plist",
    "pointer",
    tells=True,
    rewrites_whole=True,
    read=_TREE.read,
    spots=_TREE.spots,
    put=put,
    value=_TREE.value,
    entries=_TREE.entries,
    entry_at=path_in_entries,
    named=NamedValues(_named, _change),
)
