"""The values of a document that is a tree, by the pointers to them.

A value is whatever is no mapping with something in it: a text or number, and a list as a whole.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from typing import Any

from widetrail.formats.interface import Unreadable, Unwritable
from widetrail.formats.trees import pointer_names, pointer_to


def leaves(node: Mapping[str, Any], above: str = "") -> Iterator[tuple[str, Any]]:
    """Give each value of a mapping with the pointer to it."""
    for name, value in node.items():
        where = pointer_to(above, str(name))
        if isinstance(value, dict):
            yield from leaves(value, where)
        else:
            yield where, value


def mapping_of(document: Any) -> Any:
    """Return a document that holds values by name.

    Raises:
        Unreadable: It does not.
    """
    if not isinstance(document, dict):
        raise Unreadable("holds no settings by name")
    return document


def set_leaves(
    document: Any, changes: Mapping[str, str | None], value_of: Callable[[str], Any]
) -> None:
    """Set values in a mapping, or take them away; mappings on the way are made.

    Raises:
        Unwritable: There is a value that is no mapping on the way.
    """
    for where, text in changes.items():
        *above, last = pointer_names(where)
        holder = document
        for token in above:
            if token not in holder:
                holder[token] = {}
            holder = holder[token]
            if not isinstance(holder, dict):
                raise Unwritable(f"has one value on the way to {where}")
        if text is None:
            del holder[last]
        else:
            holder[last] = value_of(text)
