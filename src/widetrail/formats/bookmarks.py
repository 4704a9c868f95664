"""Bookmarks in the HTML form that programs exchange them in: folders, addresses, dates and icons.

It is no well-formed HTML: ``<DT>`` and ``<p>`` are never closed. What is not understood stays as it
stands.
"""

from __future__ import annotations

import html
import re
from collections.abc import Iterator, Sequence
from contextlib import suppress
from datetime import UTC, datetime
from io import BytesIO
from typing import BinaryIO

from widetrail.formats.form import Form
from widetrail.formats.record import (
    EMPTY_DIGEST,
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

_MARK = (
    rb"([ \t]*+<DT><A\b(?:[^>]*?\bHREF=\"([^\"]*+)\")?[^>]*+>"
    rb"([^<]{0,65536}+(?>(?:<(?!/A>)[^<]{0,65536}+){0,64}))</A>[^\n<]*+\n?"
    rb"(?:[ \t]*+<DD>([^\n<]*+)\n?)?)"
)
"""A bookmark; its address, title and note. A group that repeats is atomic, not possessive: Python
3.11.2 matches the latter wrongly."""
_FOLDER = (
    rb"([ \t]*+<DT><H3\b[^>]*+>[^<]{0,65536}+(?>(?:<(?!/H3>)[^<]{0,65536}+){0,64})</H3>[^\n<]*+\n?"
    rb"|[ \t]*+</?DL\b[^>]*+>[ \t]*+(?:<p>)?[ \t]*+\r?\n?)"
)
"""The title of a folder, its beginning or its end."""
_OTHER = rb"([^<]*[^< \t]|[ \t]*+(?:<+(?=<)|<)|[ \t]++)"
_TOKENS = re.compile(b"|".join((_MARK, _FOLDER, _OTHER)), re.IGNORECASE)
_KNOWN = re.compile(b"|".join((_MARK, _FOLDER)), re.IGNORECASE)
_CALLED = re.compile(rb"[ \t]*<DT><H3\b[^>]*>(.*)</H3>", re.IGNORECASE | re.DOTALL)
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
_quick = tuple.__new__
"""Makes the values that there are most of without the call of their own constructors."""
WINDOW = 1024 * 1024
"""Bytes whose tokens are found at once."""
MARGIN = 64 * 1024
"""Bytes before the end of what was read so far whose tokens may be others when more is read."""
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


_Token = tuple[bytes, bytes, bytes, bytes, bytes, bytes]
"""A bookmark, its address, title and note; or what is of a folder; or something else."""


def _windows(file: BinaryIO) -> Iterator[Sequence[_Token]]:
    """Give a file token by token, many at a time: all that is far enough from where what was read
    so far ends."""
    held, at, size, ended = b"", 0, WINDOW, False
    while True:
        if len(held) - at < size and not ended:
            more = file.read(size)
            ended, held, at = not more, held[at:] + more, 0
            continue
        end = min(len(held), at + size)
        is_last = ended and end == len(held)
        most = end if is_last else end - MARGIN
        tokens: list[_Token] = []
        if size == WINDOW:
            tokens = _TOKENS.findall(held, at, end)
            while tokens and (end > most or (tokens[-1][-1] and not is_last)):
                mark, *_, folder, other = tokens.pop()
                end -= len(mark) + len(folder) + len(other)
        elif (found := _KNOWN.search(held, at, end)) is not None and found.end() <= most:
            if found.start() > at:
                end = found.start()
                tokens = [_other(held[at:end])]
            else:
                mark, address, title, note, folder = found.groups(b"")
                tokens, end = [(mark, address, title, note, folder, b"")], found.end()
        elif is_last:
            tokens = [_other(held[at:])]
        if tokens:
            yield tokens
            at, size = end, WINDOW
        elif is_last:
            return
        else:
            size *= 2
        if size > MOST:
            raise Broken(f"holds a bookmark of more than {MOST} bytes")


def _other(raw: bytes) -> _Token:
    return b"", b"", b"", b"", b"", raw


def _pieces(file: BinaryIO) -> Iterator[Piece]:
    path: Folder = ()
    names, waiting, opened = list[str](), "", 0
    is_html = is_other = False
    for tokens in _windows(file):
        if not is_html:
            is_html = any(b"<" in part for token in tokens for part in token)
            is_other = is_other or any(not token[-1].isspace() for token in tokens)
        for raw, address, title, note, folder, other in tokens:
            if raw:
                if not address or b"&" in address:
                    address = _address(raw)
                title = title.strip()
                if note and (note := note.strip()):
                    content = b"n%d:%d:%b%b%b" % (len(address), len(title), address, title, note)
                else:
                    content = b"%d:%b%b" % (len(address), address, title)
                digest = EMPTY_DIGEST.copy()
                digest.update(content)
                record = _quick(Record, (address, digest.digest(), path, raw, "", b""))
                yield _quick(Piece, (raw, record, None, b"", "", b""))
                continue
            if other:
                yield Piece(other)
            elif (called := _CALLED.match(folder)) is not None:
                waiting = _plain(called[1]).strip()
                yield Piece(folder)
            elif not folder.lstrip().startswith(b"</"):
                if opened:
                    names.append(waiting)
                    path = tuple(names)
                opened, waiting = opened + 1, ""
                if opened > DEEPEST:
                    raise Broken("holds folders within folders without end")
                yield Piece(folder)
            else:
                if not opened:
                    raise Broken("has an end of a folder that ends nothing")
                yield Piece(folder, None, path)
                opened -= 1
                if opened:
                    names.pop()
                    path = tuple(names)
    if opened:
        raise Broken("ends within a folder")
    if is_other and not is_html:
        raise Broken("is not a file of bookmarks")


def _plain(raw: bytes) -> str:
    return html.unescape(text_of(re.sub(rb"<[^>]*>", b"", raw)))


def _address(raw: bytes) -> bytes:
    """Return the address of the bookmark that stands in ``raw``."""
    found = _ADDRESS.search(raw)
    address = found[1] or found[2] or b"" if found is not None else b""
    if b"&" not in address:
        return address
    return html.unescape(text_of(address)).encode("utf-8", "surrogateescape")


def _record(raw: bytes, folder: Folder) -> Record:
    """Return the bookmark that stands in ``raw``."""
    records = (piece.record for piece in _pieces(BytesIO(raw)))
    return next(filter(None, records))._replace(folder=folder)


BOOKMARKS = Form("bookmarks", "none", is_reading=False, records=Bookmarks())
