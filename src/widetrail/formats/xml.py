"""XML, addressed by XPath 1.0; no entities are resolved and nothing is fetched.

In an XPath a namespace has the prefix that the document gives it, or ``default``.

One that is changed is written anew, with its declaration, line ends and comments.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from lxml import etree

from widetrail.formats.form import Form, insist_held
from widetrail.formats.interface import Located, NotThere, Spot, Unreadable, Unwritable
from widetrail.formats.xml_documents import document, with_root
from widetrail.formats.xml_values import VALUES


def read(data: bytes, at: str) -> list[Located]:
    """Return every match of the XPath ``at``: texts of elements, attributes, or one number.

    Raises:
        Unreadable: It is not XML, has a document type with entities, or the path is none.
        NotThere: Nothing matches.
    """
    _, matches = _find_xml(data, at)
    if not matches:
        raise NotThere(f"has nothing at {at}")
    return [_located(match) for match in matches]


def _find_xml(data: bytes, at: str) -> tuple[etree._ElementTree, list[Any]]:
    """Return the document, and every match of the XPath ``at`` as lxml has them.

    Raises:
        Unreadable: It is not XML, declares entities, or the path is none.
    """
    tree = document(data)
    try:
        found = tree.getroot().xpath(at, namespaces=_prefixes(tree))
    except (etree.XPathError, ValueError) as error:
        raise Unreadable(f'cannot be queried for "{at}": {error}') from error
    return tree, list(found) if isinstance(found, list) else [found]


DEFAULT = "default"
"""The prefix that an XPath has for the namespace of names that have none in the document."""


def _prefixes(tree: etree._ElementTree) -> dict[str, str]:
    """Return the namespaces of a document by their prefixes there; the outermost counts."""
    found: dict[str, str] = {}
    for element in tree.getroot().iter(etree.Element):
        for prefix, uri in element.nsmap.items():
            found.setdefault(prefix or DEFAULT, uri)
    return found


def _located(match: object) -> Located:
    if isinstance(match, etree._Element):
        return Located("".join(str(t) for t in match.itertext()), _line(match))
    if isinstance(match, bool | int | float):
        return Located(int(match) if isinstance(match, float) and match.is_integer() else match)
    parent = getattr(match, "getparent", lambda: None)()
    return Located(str(match), _line(parent))


def _line(element: etree._Element | None) -> int:
    line = element.sourceline if element is not None else None
    return line if isinstance(line, int) else 0


def spots(data: bytes, at: str) -> list[Spot]:
    """Return the texts of elements and attributes that an XPath finds."""
    found = []
    for number, match in enumerate(_find_xml(data, at)[1]):
        element = match if hasattr(match, "tag") else getattr(match, "getparent", lambda: None)()
        if element is not None and not len(match if hasattr(match, "tag") else ()):
            text = (match.text or "") if hasattr(match, "tag") else str(match)
            found.append(Spot(str(number), text, element.sourceline or 0))
    return found


def repeated_texts(data: bytes) -> dict[str, str]:
    """Return the texts of elements without others in them, and of attributes, where elements of one
    name stand beside each other; each by an XPath that finds it alone."""
    tree = _find_xml(data, "/*")[0]
    found = {}
    for element in tree.iter(etree.Element):
        path = tree.getpath(element)
        if "[" in path and "*" not in path:
            if not len(element) and (element.text or "").strip():
                found[path] = element.text or ""
            for name, text in element.items():
                if "{" not in str(name):
                    found[f"{path}/@{name!s}"] = str(text)
    return found


def put(data: bytes, at: str, changes: Mapping[str, str]) -> bytes:
    """Return the document with other texts at the places of ``changes``."""
    return insist_held(_written(data, at, changes), spots, at, changes)


def _written(data: bytes, at: str, changes: Mapping[str, str]) -> bytes:
    tree, matches = _find_xml(data, at)
    try:
        for where, text in changes.items():
            match = matches[int(where)]
            if hasattr(match, "tag"):
                match.text = text
            elif match.is_attribute:
                match.getparent().set(match.attrname, text)
            elif match.is_text:
                match.getparent().text = text
            else:
                match.getparent().tail = text
    except ValueError as error:
        raise Unwritable(f"is XML, which cannot hold it: {error}") from error
    return with_root(tree.getroot(), data)


XML = Form(
    "xml",
    "query",
    tells=True,
    several=True,
    by_recipe=True,
    rewrites_whole=True,
    read=read,
    spots=spots,
    put=put,
    named=VALUES,
)
