"""JSON, addressed by JSON Pointer (RFC 6901)."""

from __future__ import annotations

import json
import re

from widetrail.formats.interface import Located, NotThere, Raw, Unreadable
from widetrail.formats.texts import decode


def read_json(data: bytes, at: str) -> Located:
    """Return the value at the JSON Pointer ``at`` (``""`` is the whole document).

    Raises:
        Unreadable: It is not JSON, or nothing stands there.
    """
    try:
        document: Raw = json.loads(decode(data)[0])
    except (ValueError, RecursionError) as error:
        raise Unreadable(f"is not JSON: {error}") from error
    return Located(follow_pointer(document, at))


def follow_pointer(document: Raw, pointer: str) -> Raw:
    """Return what the JSON Pointer leads to.

    Raises:
        Unreadable: The pointer is malformed or nothing stands there.
    """
    if pointer and not pointer.startswith("/"):
        raise Unreadable(f'"{pointer}" is no JSON Pointer; it begins with /')
    node = document
    for raw in pointer.split("/")[1:]:
        token = raw.replace("~1", "/").replace("~0", "~")
        if isinstance(node, dict) and token in node:
            node = node[token]
        elif isinstance(node, list) and re.fullmatch(r"0|[1-9]\d{0,9}", token):
            if int(token) >= len(node):
                raise NotThere(f"has only {len(node)} entries on the way to {pointer}")
            node = node[int(token)]
        else:
            raise NotThere(f'has no "{token}" on the way to {pointer}')
    return node
