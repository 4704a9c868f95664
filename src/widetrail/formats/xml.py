"""XML, addressed by XPath 1.0; no entities are resolved and nothing is fetched."""

from __future__ import annotations

from lxml import etree

from widetrail.formats.interface import Located, NotThere, Unreadable


def read_xml(data: bytes, at: str) -> list[Located]:
    """Return every match of the XPath ``at``: texts of elements, attributes, or one number.

    Raises:
        Unreadable: It is not XML, has a document type with entities, or the path is none.
        NotThere: Nothing matches.
    """
    _, matches = find_xml(data, at)
    if not matches:
        raise NotThere(f"has nothing at {at}")
    return [_located(match) for match in matches]


def find_xml(data: bytes, at: str) -> tuple[etree._ElementTree, list[object]]:
    """Return the document, and every match of the XPath ``at`` as lxml has them.

    Raises:
        Unreadable: It is not XML, has a document type of its own, or the path is none.
    """
    parser = etree.XMLParser(
        resolve_entities=False,
        no_network=True,
        load_dtd=False,
        huge_tree=False,
        dtd_validation=False,
    )
    try:
        root = etree.fromstring(data, parser)
        tree = root.getroottree()
        if tree.docinfo.internalDTD is not None:
            raise Unreadable("has a document type of its own, which is not read")
        found = root.xpath(at)
    except etree.XMLSyntaxError as error:
        raise Unreadable(f"is not XML: {error.msg}") from error
    except (etree.XPathError, ValueError) as error:
        raise Unreadable(f'cannot be asked for "{at}": {error}') from error
    return tree, list(found) if isinstance(found, list) else [found]


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
