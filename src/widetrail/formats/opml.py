"""Feeds as OPML has them (opml.org/spec2): outlines with an address, in outlines that are folders.

What is not understood of the document stays as it stands.
"""

from __future__ import annotations

import html
import re
from collections.abc import Iterator
from typing import BinaryIO

from widetrail.formats.form import Form
from widetrail.formats.record import (
    CHUNK,
    Broken,
    Declared,
    Fields,
    Folder,
    InFolders,
    Lost,
    Piece,
    Record,
    RecordKind,
    digest_of,
    text_of,
)

_TOKEN = re.compile(
    rb"[ \t]*(?:(?P<opens><outline\b(?:[^>\"']|\"[^\"]{0,65536}\"|'[^']{0,65536}')*>"
    rb"(?P<shut>(?<!/>)\s*</outline\s*>)?)"
    rb"|(?P<closes></outline\s*>)|(?P<ends></body\s*>))[ \t]*\r?\n?"
)
_ATTRIBUTE = re.compile(rb"([A-Za-z_:][\w:.-]*)\s*=\s*(?:\"([^\"]*)\"|'([^']*)')")

HEAD = b'<?xml version="1.0" encoding="UTF-8"?>\n<opml version="2.0">\n<head/>\n<body>\n'
TAIL = b"</body>\n</opml>\n"
DEEPEST = 100_000
MOST = 16 * 1024 * 1024
"""Bytes of one outline, at most."""

_NAMES = {"title": "text", "address": "xmlUrl", "page": "htmlUrl"}
"""The attributes of an outline by the names of what they say."""


def _quoted(value: str) -> str:
    """Return the value of an attribute in its quotes."""
    from xml.sax.saxutils import quoteattr  # which brings half of urllib

    return quoteattr(value)


class Opml(InFolders):
    """Feeds in a file."""

    kind: RecordKind = "feed"
    head, tail = HEAD, TAIL

    def read(self, file: BinaryIO) -> Iterator[Piece]:
        """Give a document outline by outline, each folder's end before what closes it."""
        return _pieces(file)

    def marks(self, name: str) -> tuple[bytes, bytes]:
        """Return what begins a folder and what ends it."""
        title = _quoted(name).encode("utf-8", "surrogateescape")
        return b"<outline text=" + title + b">\n", b"</outline>\n"

    def fields(self, record: Record, declared: Declared) -> Fields:
        """Return what a feed says: its title, address, page, and its other attributes."""
        named = {attribute: name for name, attribute in _NAMES.items()}
        told = _attributes(record.data)
        return {named.get(name, name): (value,) for name, value in told.items() if value}

    def made(self, fields: Fields, declared: Declared) -> tuple[Record, tuple[Lost, ...]]:
        """Return a feed that says ``fields``."""
        known = [(_NAMES[key], v[0]) for key, v in fields.items() if key in _NAMES and v]
        told = "".join(f" {name}={_quoted(value)}" for name, value in known)
        lost = tuple(Lost(f"its {name}") for name in fields if name not in (*_NAMES, "moment"))
        data = f'<outline type="rss"{told}/>\n'.encode("utf-8", "surrogateescape")
        return _record(data, ()), lost

    def merged(
        self, mine: Record, other: Record, declared: Declared
    ) -> tuple[Record, tuple[Lost, ...]]:
        """Return a feed with the attributes that another has of its address and it has not."""
        own, said = _attributes(mine.data), _attributes(other.data)
        lost = tuple(
            Lost(f"another {name} of one feed")
            for name in sorted(own.keys() & said.keys())
            if own[name] != said[name]
        )
        more = "".join(f" {n}={_quoted(v)}" for n, v in said.items() if n not in own)
        if not more:
            return mine, lost
        at = mine.data.index(b"<outline") + len(b"<outline")
        added = more.encode("utf-8", "surrogateescape")
        return _record(mine.data[:at] + added + mine.data[at:], mine.folder), lost

    def name(self, record: Record) -> str:
        """Return the title of a feed, or its address where it has none."""
        told = _attributes(record.data)
        return told.get("text") or told.get("title") or text_of(record.identity)


def _attributes(raw: bytes) -> dict[str, str]:
    found = _ATTRIBUTE.findall(raw)
    return {text_of(name): html.unescape(text_of(one or other)) for name, one, other in found}


def _pieces(file: BinaryIO) -> Iterator[Piece]:
    held, ended, at, folder = file.read(CHUNK), False, 0, list[str]()
    body = False
    while True:
        found = _TOKEN.search(held, at)
        if (found is None or found.end() > len(held) - 65536) and not ended:
            if len(held) - at > MOST:
                raise Broken(f"holds an outline of more than {MOST} bytes")
            more = file.read(max(CHUNK, len(held) - at))
            ended, held, at = not more, held[at:] + more, 0
            continue
        if found is None:
            break
        if found.start() > at:
            yield Piece(held[at : found.start()])
        raw, at = found[0], found.end()
        if found["opens"] is not None:
            told = _attributes(found["opens"])
            alone = found["opens"].endswith(b"/>") or found["shut"] is not None
            if told.get("xmlUrl") and alone:
                yield Piece(raw, _record(raw, tuple(folder)))
                continue
            if not alone:
                folder.append(told.get("text") or told.get("title") or "")
            if len(folder) > DEEPEST:
                raise Broken("holds outlines within outlines without end")
            yield Piece(raw)
        elif found["closes"] is not None:
            if not folder:
                raise Broken("has an end of an outline that ends nothing")
            yield Piece(raw, None, tuple(folder))
            folder.pop()
        else:
            body = True
            yield Piece(raw, None, ())
    if folder or not body:
        raise Broken("ends within an outline" if folder else "is not OPML")
    if at < len(held):
        yield Piece(held[at:])


def _record(raw: bytes, folder: Folder) -> Record:
    told = _attributes(raw)
    address = told.get("xmlUrl", "").encode("utf-8", "surrogateescape")
    title = (told.get("text") or told.get("title") or "").encode("utf-8", "surrogateescape")
    return Record(address, digest_of(address, title), folder, raw)


OPML = Form("opml", "none", is_reading=False, records=Opml())
