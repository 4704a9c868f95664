"""Bookmarks in the HTML form that programs exchange them in: folders, addresses, dates and icons.

It is no well-formed HTML: ``<DT>`` and ``<p>`` are never closed. What is not understood stays as it
stands.
"""

from __future__ import annotations

import html
import re
from collections.abc import Iterator
from contextlib import suppress
from datetime import UTC, datetime
from hashlib import blake2b
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
    text_of,
)

_TOKEN = re.compile(
    rb"(?P<mark>[ \t]*<DT><A\b(?:[^>]*?\bHREF=\"(?P<address>[^\"]*)\")?[^>]*>"
    rb"(?P<title>[^<]{0,65536}(?:<(?!/A>)[^<]{0,65536}){0,64})</A>[^\n<]*\n?"
    rb"(?:[ \t]*<DD>(?P<note>[^\n<]*)\n?)?)"
    rb"|(?P<head>[ \t]*<DT><H3\b[^>]*>"
    rb"(?P<called>[^<]{0,65536}(?:<(?!/H3>)[^<]{0,65536}){0,64})</H3>[^\n<]*\n?)"
    rb"|(?P<opens>[ \t]*<DL\b[^>]*>[ \t]*(?:<p>)?[ \t]*\r?\n?)"
    rb"|(?P<closes>[ \t]*</DL>[ \t]*(?:<p>)?[ \t]*\r?\n?)",
    re.IGNORECASE,
)
_ADDRESS = re.compile(rb"\bHREF\s*=\s*(?:\"([^\"]*)\"|'([^']*)')", re.IGNORECASE)
_TITLE = re.compile(rb"<A\b[^>]*>(.*?)</A>", re.IGNORECASE | re.DOTALL)
_NOTE = re.compile(rb"<DD>([^\n<]*)", re.IGNORECASE)
_ATTRIBUTE = re.compile(rb"\b([A-Z_]+)\s*=\s*(?:\"([^\"]*)\"|'([^']*)')", re.IGNORECASE)

HEAD = (
    b"<!DOCTYPE NETSCAPE-Bookmark-file-1>\n"
    b'<META HTTP-EQUIV="Content-Type" CONTENT="text/html; charset=UTF-8">\n'
    b"<TITLE>Bookmarks</TITLE>\n<H1>Bookmarks</H1>\n<DL><p>\n"
)
TAIL = b"</DL><p>\n"
DEEPEST = 100_000
MOST = 128 * 1024 * 1024
"""Bytes of one bookmark, at most."""


class Bookmarks(InFolders):
    """Bookmarks in a file."""

    kind: RecordKind = "bookmark"
    head, tail = HEAD, TAIL

    def read(self, file: BinaryIO) -> Iterator[Piece]:
        """Give a file bookmark by bookmark, each folder's end before what closes it."""
        return _pieces(file)

    def marks(self, name: str) -> tuple[bytes, bytes]:
        """Return what begins a folder and what ends it."""
        title = html.escape(name, quote=False).encode("utf-8", "surrogateescape")
        return b"<DT><H3>" + title + b"</H3>\n<DL><p>\n", TAIL

    def fields(self, record: Record, declared: Declared) -> Fields:
        """Return what a bookmark says: its title, address, note, when it was added, and so on."""
        told = {"title": (self.name(record),)}
        if note := _NOTE.search(record.data):
            told["note"] = (_plain(note[1]),)
        head = _head(record.data)
        names = {"HREF": "address", "ADD_DATE": "added"}
        for name, one, other in _ATTRIBUTE.findall(head):
            upper = name.decode("ascii").upper()
            told[names.get(upper, upper.lower())] = (_plain(one or other),)
        with suppress(KeyError, ValueError, OverflowError, OSError):
            told["moment"] = (datetime.fromtimestamp(int(told["added"][0]), UTC).isoformat(),)
        return told

    def name(self, record: Record) -> str:
        """Return the title of a bookmark, or its address where it has none."""
        found = _TITLE.search(record.data)
        title = _plain(found[1]).strip() if found is not None else ""
        return title or text_of(record.identity)

    def made(self, fields: Fields, declared: Declared) -> tuple[Record, tuple[Lost, ...]]:
        """Return a bookmark that says ``fields``."""
        names = {"address": "HREF", "added": "ADD_DATE", "icon": "ICON"}
        known = [
            (names[key], values[0]) for key, values in fields.items() if key in names and values
        ]
        attributes = " ".join(f'{name}="{html.escape(value)}"' for name, value in known)
        title = html.escape(next(iter(fields.get("title", ())), ""), quote=False)
        note = next(iter(fields.get("note", ())), "")
        told = f"<DT><A {attributes}>{title}</A>\n"
        told += f"<DD>{html.escape(note, quote=False)}\n" if note else ""
        known_to_it = {*names, "title", "note", "moment"}
        lost = tuple(Lost(f"its {name}") for name in fields if name not in known_to_it)
        return _record(told.encode("utf-8", "surrogateescape"), ()), lost

    def merged(
        self, mine: Record, other: Record, declared: Declared
    ) -> tuple[Record, tuple[Lost, ...]]:
        """Return a bookmark with what another says of its address beside what it says itself."""
        own, said = self.fields(mine, declared), self.fields(other, declared)
        both = sorted(own.keys() & said.keys() - {"moment"})
        lost = tuple(Lost(f"another {n} of one bookmark") for n in both if own[n] != said[n])
        head = _head(other.data)
        has = {name.upper() for name, *_ in _ATTRIBUTE.findall(_head(mine.data))}
        more = [m[0] for m in _ATTRIBUTE.finditer(head) if m[1].upper() not in has]
        data = mine.data
        if more:
            cut = len(_head(data)) - 1
            data = b" ".join([data[:cut], *more]) + data[cut:]
        note = _NOTE.search(other.data)
        if note is not None and "note" not in own:
            data = data.rstrip(b"\r\n") + b"\n<DD>" + note[1] + b"\n"
        return (mine if data is mine.data else _record(data, mine.folder)), lost


def _head(raw: bytes) -> bytes:
    """Return a bookmark to the end of its opening tag."""
    return raw[: raw.find(b">", raw.upper().find(b"<A")) + 1]


def _pieces(file: BinaryIO) -> Iterator[Piece]:
    path: Folder = ()
    names, waiting, opened = list[str](), "", 0
    held, ended, is_html = b"", False, True
    while not ended:
        more = file.read(max(CHUNK, len(held)))
        ended, held, at = not more, held + more, 0
        most = len(held) if ended else len(held) - 65536
        for found in _TOKEN.finditer(held):
            begin, end = found.span()
            if end > most:
                break
            if begin > at:
                yield Piece(held[at:begin])
            at = end
            raw, sort = found[0], found.lastgroup
            if sort == "mark":
                yield Piece(raw, _found(raw, path, *found.group("address", "title", "note")))
            elif sort == "head":
                waiting = _plain(found["called"]).strip()
                yield Piece(raw)
            elif sort == "opens":
                if opened:
                    names.append(waiting)
                    path = tuple(names)
                opened, waiting = opened + 1, ""
                if opened > DEEPEST:
                    raise Broken("holds folders within folders without end")
                yield Piece(raw)
            else:
                if not opened:
                    raise Broken("has an end of a folder that ends nothing")
                yield Piece(raw, None, path)
                opened -= 1
                if opened:
                    names.pop()
                    path = tuple(names)
        if len(held) - at > MOST:
            raise Broken(f"holds a bookmark of more than {MOST} bytes")
        is_html = at > 0 or not held.strip() or b"<" in held
        held = held[at:]
    if held:
        yield Piece(held)
    if opened:
        raise Broken("ends within a folder")
    if not is_html:
        raise Broken("is no file of bookmarks")


def _plain(raw: bytes) -> str:
    return html.unescape(text_of(re.sub(rb"<[^>]*>", b"", raw)))


def _record(raw: bytes, folder: Folder) -> Record:
    """Return the bookmark that stands in ``raw``."""
    found = _ADDRESS.search(raw)
    address = found[1] or found[2] if found is not None else None
    title, note = _TITLE.search(raw), _NOTE.search(raw)
    texts = (one[1] if one is not None else b"" for one in (title, note))
    return _found(raw, folder, address, *texts)


def _found(
    raw: bytes, folder: Folder, address: bytes | None, title: bytes | None, note: bytes | None
) -> Record:
    if address is None:
        found = _ADDRESS.search(raw)
        address = (found[1] or found[2] or b"") if found is not None else b""
    if b"&" in address:
        address = html.unescape(text_of(address)).encode("utf-8", "surrogateescape")
    title = title.strip() if title else b""
    note = note.strip() if note else b""
    content = b"%d:%d:%b%b%b" % (len(address), len(title), address, title, note)
    return Record(address, blake2b(content, digest_size=16).digest(), folder, raw)


BOOKMARKS = Form("bookmarks", "none", is_reading=False, records=Bookmarks())
