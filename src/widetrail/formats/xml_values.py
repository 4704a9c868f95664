"""The values of an XML document, one by one.

A value is the text of an element that holds no others, or an attribute. Its name is the way there:
elements by their names, one that has a ``name``, ``key`` or ``id`` with that, an attribute last as
``@name``. An element whose parts cannot be told apart by name is one value, with all it holds; one
that holds nothing is none.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from lxml import etree

from widetrail.formats.form import NamedValues
from widetrail.formats.interface import Unreadable, Unwritable
from widetrail.formats.trees import pointer_names, pointer_to
from widetrail.formats.xml_documents import document, parsed, with_root

_TELLING = ("name", "key", "id")
"""Attributes that tell an element from others of its name, the first that it has."""

_PLAIN, _WHOLE = "text ", "element "
"""What a value's text begins with: whether it is one, or an element with all that is in it."""


def _named(data: bytes) -> dict[str, str]:
    """Return the values by name."""
    if not data.strip():
        return {}
    root = document(data).getroot()
    if any(isinstance(e.tag, str) and ("{" in e.tag or e.nsmap) for e in root.iter()):
        raise Unreadable("has namespaces; its values are not taken one by one")
    return dict(_leaves(root, pointer_to("", _step(root))))


def _step(element: Any) -> str:
    key = next((k for k in _TELLING if k in element.attrib), None)
    return f"{element.tag}@{key}={element.get(key)}" if key else str(element.tag)


def _leaves(element: Any, here: str) -> Iterator[tuple[str, str]]:
    inner = [child for child in element if isinstance(child.tag, str)]
    steps = {_step(child) for child in inner}
    mixed = [element.text, *(child.tail for child in element)] if len(element) else []
    if len(steps) < len(inner) or any((text or "").strip() for text in mixed):
        yield here, _WHOLE + etree.tostring(element, encoding="unicode", with_tail=False)
        return
    told = _step(element).partition("@")[2].partition("=")[0]
    for name, value in element.attrib.items():
        if name != told:
            yield pointer_to(here, f"@{name}"), _PLAIN + value
    if not inner and element.text:
        yield here, _PLAIN + element.text
    for child in inner:
        yield from _leaves(child, pointer_to(here, _step(child)))


def _change(data: bytes, changes: Mapping[str, str | None]) -> bytes:
    """Return the document with values set or gone."""
    root = document(data).getroot() if data.strip() else None
    try:
        for where, told in changes.items():
            first, *steps = pointer_names(where)
            attribute = steps.pop()[1:] if steps and steps[-1].startswith("@") else ""
            if root is None:
                root = _made(first)
            elif _step(root) != first:
                raise Unwritable(f"is another document, whose element is {_step(root)}")
            element = _walk(root, steps)
            if told is None:
                _take(element, attribute)
            elif told.startswith(_WHOLE):
                root = _put(root, element, told)
            elif attribute:
                element.set(attribute, told.removeprefix(_PLAIN))
            else:
                element.text = told.removeprefix(_PLAIN)
    except ValueError as error:
        raise Unwritable(f"is XML, which cannot hold it: {error}") from error
    return with_root(root, data) if root is not None else data


def _walk(root: Any, steps: list[str]) -> Any:
    """Return the element that steps lead to; those on the way are made."""
    element = root
    for step in steps:
        found = [e for e in element if isinstance(e.tag, str) and _step(e) == step]
        element = found[0] if found else _append(element, _made(step))
    return element


def _made(step: str) -> Any:
    name, _, told = step.partition("@")
    key, _, value = told.partition("=")
    return etree.Element(name, {key: value} if key else {})


def _append(above: Any, element: Any) -> Any:
    """Add an element as the last, on a line of its own where its siblings are."""
    if len(above):
        element.tail, above[-1].tail = above[-1].tail, above.text
    above.append(element)
    return element


def _take(element: Any, attribute: str) -> None:
    if attribute:
        element.attrib.pop(attribute, None)
        return
    element.text = None
    for child in list(element):
        element.remove(child)


def _put(root: Any, element: Any, told: str) -> Any:
    whole = parsed(told.removeprefix(_WHOLE).encode())
    whole.tail, above = element.tail, element.getparent()
    if above is None:
        return whole
    above.replace(element, whole)
    return root


VALUES = NamedValues(_named, _change)
"""How XML holds values that are taken one by one."""
