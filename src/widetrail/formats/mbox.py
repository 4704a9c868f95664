"""Mailboxes in one file, in all four ways of quoting (RFC 4155, and ``man mbox``).

A line ``From …`` begins each letter. Where a letter's own line begins so, ``o`` puts a ``>`` before
it, ``rd`` before one that has some already too, ``cl`` as ``o`` and tells the letter's length, and
``cl2`` tells the length alone.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import BinaryIO, NamedTuple

from widetrail.formats.form import Form
from widetrail.formats.letters import (
    Letters,
    envelope_of,
    head_of,
    letter,
    unix_lines,
    with_status,
)
from widetrail.formats.record import (
    CHUNK,
    Broken,
    Declared,
    Lost,
    Piece,
    Record,
)

_LINE = re.compile(rb"From [^\r\n]*\r?\n")
_FROM, _QUOTED = re.compile(rb"^From ", re.MULTILINE), re.compile(rb"^>(?=From )", re.MULTILINE)
_ANY, _ANY_QUOTED = (
    re.compile(rb"^(?=>*From )", re.MULTILINE),
    re.compile(rb"^>(?=>*From )", re.MULTILINE),
)
_LENGTH = re.compile(rb"(?:(?<=\n)|\A)content-length:[ \t]*([0-9]{1,18})[ \t]*\r?\n", re.IGNORECASE)

MOST = 512 * 1024 * 1024
"""Bytes of one letter, at most."""


class _Lies(NamedTuple):
    """A letter as it lies in a mailbox: its first line, and what stands after that."""

    envelope: bytes
    raw: bytes


class Mbox(Letters):
    """Letters one after the other in a file."""

    options: tuple[str, ...] = ("quoting",)

    def habits(self, store: Path, declared: Declared) -> Declared:
        """Return how a mailbox ends its lines."""
        ends = b"\n"
        if store.exists():
            with store.open("rb") as file:
                ends = b"\r\n" if file.readline(4096).endswith(b"\r\n") else b"\n"
        return replace(declared, options={**declared.options, "newline": ends.decode()})

    def pieces(self, store: Path, declared: Declared) -> Iterator[Piece]:
        """Give a mailbox letter by letter."""
        glue = b""
        if store.exists():
            with store.open("rb") as file:
                for lies in _letters(file):
                    yield Piece(lies.envelope + lies.raw, _record(lies, declared))
                    last = unix_lines(lies.raw[-4:])
                    glue = b"\n" * (2 - len(last) + len(last.rstrip(b"\n")))
        yield Piece(b"", None, (), _ended(glue, declared))

    def written(self, record: Record, declared: Declared) -> tuple[bytes, tuple[Lost, ...]]:
        """Return a letter with its envelope, quoted as the mailbox has it."""
        data, lost = with_status(record), list[Lost]()
        quoting = declared.options.get("quoting", "rd")
        head = head_of(data)
        body = data[len(head) :].rstrip(b"\n") + b"\n"
        if b"From " not in body:
            pass
        elif quoting in ("o", "cl"):
            if _QUOTED.search(body):
                lost.append(Lost("which of its lines had a > before From"))
            body = _FROM.sub(b">From ", body)
        elif quoting == "rd":
            body = _ANY.sub(b">", body)
        if b"content-length:" in head.lower():
            head = _LENGTH.sub(b"", head)
        if quoting in ("cl", "cl2"):
            head += b"Content-Length: %d\n" % (len(body) - 1)
        return _ended(envelope_of(record) + head + body + b"\n", declared), tuple(lost)


def _ended(data: bytes, declared: Declared) -> bytes:
    """Return lines that end as the mailbox's do."""
    return data.replace(b"\n", declared.options.get("newline", "\n").encode())


def _record(lies: _Lies, declared: Declared) -> Record:
    raw = unix_lines(lies.raw)
    if raw.endswith(b"\n\n"):
        raw = raw[:-1]
    quoting = declared.options.get("quoting", "rd")
    if quoting != "cl2" and b"\n>" in raw:
        pattern = _ANY_QUOTED if quoting == "rd" else _QUOTED
        head = head_of(raw)
        raw = head + pattern.sub(b"", raw[len(head) :])
    return letter(raw, envelope=unix_lines(lies.envelope))


def _letters(file: BinaryIO) -> Iterator[_Lies]:
    """Give the letters of a mailbox as they lie in it.

    Raises:
        Broken: It is not a mailbox, or a letter is too long.
    """
    held = file.read(CHUNK)
    first = _LINE.match(held)
    if first is None:
        if held.strip():
            raise Broken("does not begin as a mailbox does")
        return
    envelope, at, ended = first[0], first.end(), False
    looked, length = at, _told_length(held, at)
    while True:
        if (following := _next(held, at, looked, length)) is not None:
            begin, after = following
            yield _Lies(envelope, held[at:begin])
            envelope, at = held[begin:after], after
            looked, length = at, _told_length(held, at)
            continue
        if ended and length is not None:  # it is longer than there is: what stands there counts
            looked, length = at, None
            continue
        if ended:
            yield _Lies(envelope, held[at:])
            return
        if len(held) - at > MOST:
            raise Broken(f"holds a letter of more than {MOST} bytes")
        looked = max(0, len(held) - at - _LONGEST)
        more = file.read(max(CHUNK, len(held) - at))
        ended, held, at = not more, held[at:] + more, 0
        length = length if length is not None else _told_length(held, at)


_LONGEST = 4096
"""Bytes of the line before a letter, at most."""


def _next(held: bytes, at: int, looked: int, length: int | None) -> tuple[int, int] | None:
    """Return where the line before the next letter begins and ends; ``None`` where it is not held.

    Up to ``looked`` there is none; ``length`` is what the letter's headers tell of it.
    """
    if length is not None:
        begin = _ends_there(held, at, length)
        if begin is not None and (found := _LINE.match(held, begin)) is not None:
            return begin, found.end()
        if at + length + _LONGEST > len(held):
            looked = max(looked, len(held))  # it is not known yet whether that is its length
    while (begin := held.find(b"\nFrom ", max(at - 1, looked))) >= 0:
        looked = begin + 1
        blank = begin < at or held[max(0, begin - 2) : begin].rstrip(b"\r").endswith(b"\n")
        if blank and (found := _LINE.match(held, begin + 1)) is not None:
            return begin + 1, found.end()
    return None


def _told_length(held: bytes, at: int) -> int | None:
    """Return where a letter ends after its beginning, by what its headers tell of that."""
    end = held.find(b"\n\n", at, at + 65536)
    if end < 0 or b"content-length:" not in (head := held[at : end + 1].lower()):
        return None
    found = _LENGTH.search(head)
    told = int(found[1]) if found is not None else MOST
    return end + 2 - at + told if told < MOST // 4 else None


def _ends_there(held: bytes, at: int, length: int) -> int | None:
    """Return where the next letter begins, where this one is as long as is told."""
    end = at + length
    rest = held[end : end + 8].lstrip(b"\r\n")
    if end > len(held) or (rest and not rest.startswith(b"From "[: len(rest)])):
        return None
    return end + len(held[end : end + 8]) - len(rest)


MBOX = Form("mbox", "none", is_reading=False, records=Mbox())
