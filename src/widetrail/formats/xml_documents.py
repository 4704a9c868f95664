"""XML documents as lxml has them; no entities are resolved and nothing is fetched."""

from __future__ import annotations

import re

from lxml import etree

from widetrail.formats.interface import Unreadable, Unwritable
from widetrail.formats.texts import decode, encode


def parsed(data: bytes) -> etree._Element:
    """Return the root element of a document.

    Raises:
        Unreadable: It is not XML.
    """
    parser = etree.XMLParser(
        resolve_entities=False,
        no_network=True,
        load_dtd=False,
        huge_tree=False,
        dtd_validation=False,
    )
    try:
        return etree.fromstring(data, parser)
    except etree.XMLSyntaxError as error:
        raise Unreadable(f"is not XML: {error.msg}") from error


def document(data: bytes) -> etree._ElementTree:
    """Return a document; one with a document type may declare no entities.

    Raises:
        Unreadable: It is not XML, or declares entities.
    """
    tree = parsed(data).getroottree()
    if tree.docinfo.internalDTD is not None and _declares_entities(decode(data)[0]):
        raise Unreadable("has a document type that declares entities, which is not read")
    return tree


def _declares_entities(text: str) -> bool:
    before = _BEFORE.match(text)
    return before is None or "<!ENTITY" in before[0]


def with_root(root: etree._Element, data: bytes) -> bytes:
    """Return a document anew, with what stands before its element and after it as in ``data``.

    Raises:
        Unwritable: Its encoding lacks a character.
    """
    text, codec = decode(data)
    before = _BEFORE.match(text)
    assert before is not None
    nodes = [root, *root.itersiblings()]
    inner = "\n".join(etree.tostring(n, encoding="unicode", with_tail=False) for n in nodes)
    if "\r\n" in text:
        inner = inner.replace("\n", "\r\n")
    whole = f"{before[0]}{inner}{text[text.rfind('>') + 1 :]}"
    named = re.search(r"""<\?xml[^>]*encoding\s*=\s*["']([\w.-]+)""", before[0])
    if codec in ("utf-16", "utf-8-sig"):
        return encode(whole, codec, data)
    try:
        return whole.encode(named[1] if named else "utf-8")
    except (LookupError, UnicodeEncodeError) as error:
        raise Unwritable("is XML in an encoding that lacks a character of it") from error


# A group that repeats is atomic, not possessive: Python 3.11.2 matches the latter wrongly.
_COMMENT = r"<!--(?>(?:(?!-->).)*)-->"
_INSTRUCTION = r"<\?(?>(?:(?!\?>).)*)\?>"
_QUOTED = r"""\"[^"]*+"|'[^']*+'"""
_INTERNAL = rf"""\[(?>(?:[^\]"'<]|{_COMMENT}|{_INSTRUCTION}|<|{_QUOTED})*)\]\s*+"""
_DOCTYPE = rf"""<!DOCTYPE(?>(?:[^\[\]<>"']|{_QUOTED})*)(?>(?:{_INTERNAL})?)>"""
_BEFORE = re.compile(rf"\ufeff?(?>(?:\s|{_INSTRUCTION}|{_COMMENT}|{_DOCTYPE})*)", re.DOTALL)
"""What may stand before the root element of a document (XML 1.0, production 22)."""
