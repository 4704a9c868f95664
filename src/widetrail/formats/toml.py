"""TOML 1.0: comments and order are kept where a value is changed."""

from __future__ import annotations

import json
import re
import tomllib
from collections.abc import Mapping
from datetime import date, time
from typing import Any

from widetrail.formats.form import Form, NamedValues, insist_held, put_each
from widetrail.formats.interface import NotThere, Raw, Scalar, Unreadable, Unwritable
from widetrail.formats.texts import decode, encode
from widetrail.formats.tree_values import leaves, mapping_of, set_leaves
from widetrail.formats.trees import (
    Tree,
    check_pointer,
    first_line,
    path_in_entries,
    plain,
    pointer_names,
    pointer_tokens,
)


def parse(data: bytes) -> Raw:
    """Return a whole document.

    Raises:
        Unreadable: It is none.
    """
    try:
        return plain(tomllib.loads(decode(data)[0]))
    except (ValueError, TypeError, LookupError, OverflowError, RecursionError) as error:
        raise Unreadable(f"is not toml: {first_line(error)}") from error


def _line_of(data: bytes, pointer: str) -> int:
    """Return the line of a value, or 0 where it is not found."""
    return _line_in_toml(decode(data)[0], pointer_names(pointer))


def _line_in_toml(text: str, tokens: list[str]) -> int:
    table = ""
    for number, line in enumerate(text.splitlines(), start=1):
        stripped = line.strip()
        if header := re.match(r"\[([^\[\]]+)\]", stripped):
            table = header[1].replace('"', "").replace(" ", "")
        key = stripped.partition("=")[0].strip().replace('"', "").replace("'", "")
        if "=" in stripped and ".".join(filter(None, [table, key])) == ".".join(tokens):
            return number
    return 0


_TREE = Tree(parse, _line_of)


def put(data: bytes, at: str, changes: Mapping[str, str]) -> bytes:
    """Return the document with other texts at the places of ``changes``."""
    return insist_held(put_each(data, changes, add), _TREE.spots, at, changes)


def add(data: bytes, at: str, scalar: Scalar) -> bytes:
    """Return the document with a value, which is added where its table is there.

    Raises:
        Unreadable: It is not a document.
        NotThere: There is nothing that could hold the key.
        Unwritable: TOML or the file's encoding cannot hold the value.
    """
    text, codec = decode(data)
    written = encode(_written(text, at, scalar), codec, data)
    if _TREE.value(written, at) != scalar:
        raise Unwritable("holds another value once it is written as toml")
    return written


def _written(text: str, at: str, scalar: Scalar) -> str:
    import tomlkit
    from tomlkit.exceptions import TOMLKitError

    if scalar is None:
        raise Unwritable("is TOML, which has no null")
    before = parse(text.encode("utf-8", "surrogatepass"))
    tokens = pointer_tokens(at)
    try:
        document = tomlkit.parse(text)
        holder: Any = document
        for token in tokens[:-1]:
            holder = holder[int(token) if isinstance(holder, list) else token]
        last: Any = int(tokens[-1]) if isinstance(holder, list) else tokens[-1]
        if not isinstance(holder, dict) and not (isinstance(holder, list) and last < len(holder)):
            raise NotThere(f'has no "{tokens[-1]}" on the way to {at}')
        holder[last] = scalar
        written = tomlkit.dumps(document)
    except (KeyError, IndexError, ValueError, TypeError) as error:
        raise NotThere(f"has nothing on the way to {at}") from error
    except TOMLKitError as error:
        raise Unreadable(f"is not toml: {error}") from error
    after = parse(written.encode("utf-8", "surrogatepass"))
    if _without(before, tokens) != _without(after, tokens):
        raise Unwritable("would have another value changed too")
    return written


def _without(document: Raw, tokens: list[str]) -> Raw:
    """Return a document without the value at ``tokens``, which may not be there."""
    if isinstance(document, dict):
        rest = {k: v for k, v in document.items() if k != tokens[0]}
        if len(tokens) == 1 or tokens[0] not in document:
            return rest
        return {**rest, tokens[0]: _without(document[tokens[0]], tokens[1:])}
    if isinstance(document, list) and tokens[0].isdigit() and int(tokens[0]) < len(document):
        at = int(tokens[0])
        own: list[Raw] = [] if len(tokens) == 1 else [_without(document[at], tokens[1:])]
        return [*document[:at], *own, *document[at + 1 :]]
    return document


def _named(data: bytes) -> dict[str, str]:
    """Return the values by name, each as TOML on one line."""
    parse(data)
    document = mapping_of(tomllib.loads(decode(data)[0]))
    return {name: _one_line(leaf) for name, leaf in leaves(document)}


def _one_line(leaf: Any) -> str:
    if isinstance(leaf, list):
        return f"[{', '.join(map(_one_line, leaf))}]"
    if isinstance(leaf, dict):
        inner = (f"{_one_line(str(key))} = {_one_line(value)}" for key, value in leaf.items())
        return f"{{{', '.join(inner)}}}"
    if isinstance(leaf, str):
        return json.dumps(leaf, ensure_ascii=False).replace("\x7f", "\\u007f")
    if isinstance(leaf, float):
        return repr(leaf).replace("e+", "e")
    if isinstance(leaf, bool):
        return "true" if leaf else "false"
    return leaf.isoformat() if isinstance(leaf, date | time) else str(leaf)


def _change(data: bytes, changes: Mapping[str, str | None]) -> bytes:
    """Return the document with values set or gone."""
    import tomlkit
    from tomlkit.exceptions import TOMLKitError

    text, codec = decode(data)
    try:
        document = tomlkit.parse(text)
        set_leaves(document, changes, tomlkit.value)
        return encode(tomlkit.dumps(document), codec, data)
    except (TOMLKitError, LookupError, ValueError, TypeError) as error:
        raise Unwritable(f"is TOML that cannot be changed so: {first_line(error)}") from error


TOML = Form(
    "toml",
    "pointer",
    tells=True,
    read=_TREE.read,
    spots=_TREE.spots,
    put=put,
    value=_TREE.value,
    add=add,
    entries=_TREE.entries,
    entry_at=path_in_entries,
    check_write_at=check_pointer,
    named=NamedValues(_named, _change),
)
