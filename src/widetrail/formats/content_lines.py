"""Content lines of vCard and iCalendar (RFC 6350, RFC 5545): folded lines within components."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator
from io import BytesIO
from typing import BinaryIO, NamedTuple

from widetrail.formats.record import CHUNK, Broken, text_of

_FOLD = re.compile(rb"\r?\n[ \t]")
_BEGIN = re.compile(rb"(?i)[ \t]*BEGIN[ \t]*:[ \t]*([A-Za-z0-9-]+)[ \t]*\r?\n?\Z")
_END = re.compile(rb"(?i)[ \t]*END[ \t]*:[ \t]*([A-Za-z0-9-]+)[ \t]*\r?\n?\Z")

MOST = 128 * 1024 * 1024
"""Bytes of one component, at most."""


class Property(NamedTuple):
    """A property: its name in upper case, its parameters as they stand, and its value."""

    name: str
    parameters: str
    value: str
    group: str = ""

    @property
    def line(self) -> str:
        """The property as an unfolded line."""
        group = f"{self.group}." if self.group else ""
        return f"{group}{self.name}{self.parameters}:{self.value}"


class Stretch(NamedTuple):
    """A stretch of a file: a component of that ``name`` at the depth that was asked for, or what
    stands between such ones, whose name is empty."""

    name: str
    raw: bytes


def components(file: BinaryIO, depth: int) -> Iterator[Stretch]:
    """Give a file whole and in order, each component at ``depth`` (0 outermost) by itself.

    Raises:
        Broken: A component has no end, or ends as another.
    """
    open_ones: list[bytes] = []
    held: list[bytes] = []
    size = 0
    whole = True
    while line := file.readline(CHUNK):
        starts = whole
        whole = line.endswith(b"\n")
        mark = line[:1] in b"BbEe \t" and len(line) < 200 and starts
        begun = _BEGIN.match(line) if mark and line[:1] not in b"Ee" else None
        ended = _END.match(line) if mark and begun is None else None
        if begun is not None:
            if len(open_ones) == depth and held:
                yield Stretch("", b"".join(held))
                held, size = [], 0
            open_ones.append(begun[1].upper())
        held.append(line)
        size += len(line)
        if size > MOST:
            raise Broken(f"holds a component of more than {MOST} bytes")
        if ended is not None:
            if not open_ones or open_ones[-1] != ended[1].upper():
                raise Broken(f"has an END:{text_of(ended[1])} that ends nothing")
            name = open_ones.pop()
            if len(open_ones) == depth:
                yield Stretch(text_of(name), b"".join(held))
                held, size = [], 0
    if open_ones:
        raise Broken(f"ends within a {text_of(open_ones[-1])}")
    if held:
        yield Stretch("", b"".join(held))


def properties(raw: bytes) -> list[Property]:
    """Return the properties of a component in order, those of components within it too."""
    lines = re.split(r"\r?\n", text_of(_FOLD.sub(b"", raw)))
    return [split for line in lines if (split := property_of(line)) is not None]


def property_of(line: str) -> Property | None:
    """Return a property from its unfolded line; ``None`` where it is none."""
    quoted, colon = False, -1
    for at, char in enumerate(line):
        if char == '"':
            quoted = not quoted
        elif char == ":" and not quoted:
            colon = at
            break
    if colon < 1:
        return None
    head, value = line[:colon], line[colon + 1 :]
    name, semicolon, parameters = head.partition(";")
    group, _, bare = name.rpartition(".")
    return Property(bare.strip().upper(), f"{semicolon}{parameters}", value, group)


def folded(line: str) -> bytes:
    """Return a line as it is written: in pieces of at most 75 bytes, ended as RFC 6350 has it."""
    data = line.encode("utf-8", "surrogateescape")
    if len(data) <= 75:
        return data + b"\r\n"
    pieces, start = list[bytes](), 0
    while start < len(data):
        end = min(len(data), start + (75 if not pieces else 74))
        while end < len(data) and data[end] & 0xC0 == 0x80:
            end -= 1
        pieces.append(data[start:end])
        start = end
    return b"\r\n ".join(pieces) + b"\r\n"


def unescaped(value: str) -> str:
    """Return a text value as it is meant."""
    return re.sub(r"\\(.)", lambda m: "\n" if m[1] in "nN" else m[1], value)


def escaped(text: str) -> str:
    """Return a text as a value."""
    return re.sub(r"([\\,;])", r"\\\1", text).replace("\r\n", "\\n").replace("\n", "\\n")


def merged_lines(
    mine: bytes, other: bytes, once: Collection[str], passing: Collection[str]
) -> tuple[bytes | None, list[str]]:
    """Return a component with what another says beside it, ``None`` where that is nothing, and the
    names of properties that it cannot say too.

    Of what it says ``once``, its own stays; what is ``passing`` is not worth a word then.
    Components within the other one that it has not come too.
    """
    (own, own_inner), (said, inner) = _parted(mine), _parted(other)
    known = {(one.name, one.value.strip()) for one in own}
    has = {one.name for one in own} & set(once)
    lost: list[str] = []
    more: list[Property] = []
    for one in said:
        if one.name in ("BEGIN", "END", "VERSION") or (one.name, one.value.strip()) in known:
            continue
        if one.name not in has:
            more.append(one)
            has |= {one.name} & set(once)
        elif one.name not in passing:
            lost.append(one.name)
    groups = {one.group for one in own if one.group}
    lines = [folded(_regrouped(one, groups).line) for one in more]
    had = {_said(raw) for raw in own_inner}
    lines += [
        raw if raw.endswith(b"\n") else raw + b"\r\n" for raw in inner if _said(raw) not in had
    ]
    if not lines:
        return None, lost
    added = re.sub(rb"\r?\n", b"\r\n" if b"\r\n" in mine else b"\n", b"".join(lines))
    cut = [found.start() for found in re.finditer(rb"(?im)^[ \t]*END[ \t]*:", mine)][-1]
    return mine[:cut] + added + mine[cut:], lost


def _parted(raw: bytes) -> tuple[list[Property], list[bytes]]:
    """Return a component's own properties, and the components within it."""
    stretches = list(components(BytesIO(raw), 1))
    own = b"".join(one.raw for one in stretches if not one.name)
    return properties(own), [one.raw for one in stretches if one.name]


def _said(raw: bytes) -> str:
    return "\n".join(sorted(one.line for one in properties(raw)))


def _regrouped(one: Property, groups: set[str]) -> Property:
    """Return a property in a group that is not one of ``groups``."""
    return one._replace(group=f"{one.group}-2") if one.group in groups else one
