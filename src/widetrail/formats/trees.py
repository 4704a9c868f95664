"""Documents that are trees: JSON, YAML, TOML and property lists, addressed by pointers.

A pointer is a JSON Pointer (RFC 6901); a key path of a property list is the same without the
leading ``/``.
"""

from __future__ import annotations

import json
import plistlib
import re
import tomllib
from datetime import date, datetime, time

import yaml

from widetrail.formats.interface import Located, NotThere, Raw, Unreadable
from widetrail.formats.texts import decode

Document = Raw


def parse_tree(form: str, data: bytes) -> Document:
    """Parse ``data`` as ``form``: ``json``, ``yaml`` (every scalar text), ``toml`` or ``plist``.

    Raises:
        Unreadable: It is not that.
    """
    try:
        if form == "plist":
            return _plain(plistlib.loads(data))
        text = decode(data)[0]
        if form == "json":
            return _plain(json.loads(text))
        if form == "toml":
            return _plain(tomllib.loads(text))
        return _plain(yaml.load(text, Loader=yaml.CBaseLoader))
    except Unreadable:
        raise
    except (
        ValueError,
        TypeError,
        LookupError,
        AttributeError,
        OverflowError,
        RecursionError,
    ) as error:
        raise Unreadable(f"is not {form}: {_first_line(error)}") from error
    except (yaml.YAMLError, plistlib.InvalidFileException) as error:
        raise Unreadable(f"is not {form}: {_first_line(error)}") from error
    except Exception as error:
        if type(error).__module__ == "xml.parsers.expat" or "expat" in type(error).__module__:
            raise Unreadable(f"is not {form}: {_first_line(error)}") from error
        raise


def pointer_names(pointer: str) -> list[str]:
    """Return the names that a pointer holds, in order (RFC 6901, section 4)."""
    return [t.replace("~1", "/").replace("~0", "~") for t in pointer.split("/")[1:]]


def pointer_to(above: str, name: str) -> str:
    """Return the pointer to a name below what ``above`` points to (RFC 6901, section 3)."""
    return f"{above}/{name.replace('~', '~0').replace('/', '~1')}"


def _first_line(error: Exception) -> str:
    return (str(error).splitlines() or [type(error).__name__])[0][:200]


def _plain(value: object, depth: int = 0) -> Raw:
    if depth > 200:
        raise Unreadable("is nested more than 200 deep")
    match value:
        case None | bool() | int() | float() | str():
            return value
        case bytes():
            return value.hex()
        case dict():
            return {str(k): _plain(v, depth + 1) for k, v in value.items()}
        case list() | tuple():
            return [_plain(v, depth + 1) for v in value]
        case datetime() | date() | time():
            return value.isoformat()
    return str(value)


def read_tree(form: str, data: bytes, at: str) -> Located:
    """Return the value at ``at``.

    Raises:
        Unreadable: It is not a document of that form.
        NotThere: Nothing stands there.
    """
    pointer = at if form != "plist" or at == "" or at.startswith("/") else f"/{at}"
    value = follow_pointer(parse_tree(form, data), pointer)
    return Located(value, line_of(form, data, pointer) if len(data) < LINES_MOST else 0)


LINES_MOST = 1024 * 1024
"""Bytes of a document in which the line of a value is looked for, at most."""


def line_of(form: str, data: bytes, pointer: str) -> int:
    """Return the line of a value, or 0 where the form has none or it is not found."""
    tokens = pointer_names(pointer)
    text = decode(data)[0]
    if form == "toml":
        return _line_in_toml(text, tokens)
    if form not in ("json", "yaml"):
        return 0
    try:  # JSON but for its tabs is YAML too
        node = yaml.compose(text.replace("\t", " "), Loader=yaml.CSafeLoader)
    except (yaml.YAMLError, ValueError, RecursionError):
        return 0
    for token in tokens:
        node = _inner(node, token)
    mark = getattr(node, "start_mark", None)
    return mark.line + 1 if mark is not None else 0


def _inner(node: object, token: str) -> yaml.Node | None:
    if isinstance(node, yaml.MappingNode):
        return next((v for k, v in node.value if getattr(k, "value", None) == token), None)
    if isinstance(node, yaml.SequenceNode) and token.isdigit() and int(token) < len(node.value):
        found: yaml.Node = node.value[int(token)]
        return found
    return None


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


def follow_pointer(document: Raw, pointer: str) -> Raw:
    """Return what the JSON Pointer leads to.

    Raises:
        Unreadable: The pointer is malformed.
        NotThere: Nothing stands there.
    """
    if pointer and not pointer.startswith("/"):
        raise Unreadable(f'"{pointer}" is no JSON Pointer; it begins with /')
    node = document
    for token in pointer_names(pointer):
        if isinstance(node, dict) and token in node:
            node = node[token]
        elif isinstance(node, list) and re.fullmatch(r"0|[1-9]\d{0,9}", token):
            if int(token) >= len(node):
                raise NotThere(f"has only {len(node)} entries on the way to {pointer}")
            node = node[int(token)]
        else:
            raise NotThere(f'has no "{token}" on the way to {pointer}')
    return node
