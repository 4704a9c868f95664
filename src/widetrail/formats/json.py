"""JSON (RFC 8259): every other byte is kept where a value is changed."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator, Mapping
from typing import Any

from widetrail.formats.form import Form, NamedValues, insist_held, put_each
from widetrail.formats.interface import NotThere, Raw, Scalar, Unreadable, Unwritable
from widetrail.formats.json_records import JsonObjects
from widetrail.formats.texts import decode, encode
from widetrail.formats.trees import (
    Tree,
    check_pointer,
    first_line,
    line_in_yaml,
    path_in_entries,
    plain,
    pointer_names,
    pointer_to,
    pointer_tokens,
)
from widetrail.lazily import dataclass


def parse(data: bytes) -> Raw:
    """Return a whole document.

    Raises:
        Unreadable: It is none.
    """
    try:
        return plain(json.loads(decode(data)[0]))
    except (ValueError, RecursionError) as error:
        raise Unreadable(f"is not json: {first_line(error)}") from error


_TREE = Tree(parse, line_in_yaml)


def put(data: bytes, at: str, changes: Mapping[str, str]) -> bytes:
    """Return the document with other texts at the places of ``changes``."""
    return insist_held(put_each(data, changes, add), _TREE.spots, at, changes)


def add(data: bytes, at: str, scalar: Scalar) -> bytes:
    """Return the document with a value, which is added where its object is there.

    An empty file becomes an object.

    Raises:
        Unreadable: It is not a document.
        NotThere: There is nothing that could hold the key.
        Unwritable: The file's encoding cannot hold the value.
    """
    text, codec = decode(data)
    written = encode(_written(text, at, scalar), codec, data)
    if _TREE.value(written, at) != scalar:
        raise Unwritable("holds another value once it is written as json")
    return written


_SPACE = " \t\r\n"


def _written(text: str, at: str, scalar: Scalar) -> str:
    literal = json.dumps(scalar, ensure_ascii=text.isascii())
    if not text.strip(_SPACE + "\ufeff") and at.count("/") == 1:
        return f"{{{json.dumps(pointer_tokens(at)[-1])}: {literal}}}\n"
    parse(text.encode("utf-8", "surrogatepass"))
    tokens = pointer_tokens(at)
    start = _skip(text, 0)
    for number, token in enumerate(tokens):
        members = _members(text, start)
        found = members.of(token)
        if found is None and number == len(tokens) - 1 and members.is_object:
            return members.added(text, token, literal)
        if found is None:
            raise NotThere(f'has no "{token}" on the way to {at}')
        start = found
    end = _end(text, start)
    return text[:start] + literal + text[end:]


def _skip(text: str, at: int) -> int:
    while at < len(text) and text[at] in _SPACE + "\ufeff":
        at += 1
    return at


_decode_at: Callable[[str, int], tuple[Any, int]] = json.JSONDecoder().raw_decode


def _end(text: str, start: int) -> int:
    return _decode_at(text, start)[1]


@dataclass(frozen=True)
class _Members:
    """The members of an object or list: their names, and where each value begins and ends."""

    is_object: bool
    open_at: int
    named: tuple[tuple[str, int, int, int], ...]
    """Name, where the name begins, where the value begins and ends."""

    def of(self, token: str) -> int | None:
        """Return where the value of a member begins; of equal names the last counts."""
        found = [begin for name, _, begin, _ in self.named if name == token]
        return found[-1] if found else None

    def added(self, text: str, name: str, literal: str) -> str:
        """Return the text with one more member, set as the last one is."""
        told = json.dumps(name, ensure_ascii=text.isascii())
        if not self.named:
            inner = self.open_at + 1
            gap = "\n  " if text[inner : inner + 1] in "\r\n" else ""
            return f"{text[:inner]}{gap}{told}: {literal}{text[inner:]}"
        _, key_at, begin, end = self.named[-1]
        key_end = _end(text, key_at)
        before = self.named[-2][3] if len(self.named) > 1 else self.open_at
        gap = text[_after_comma(text, before) : key_at] or " "
        return f"{text[:end]},{gap}{told}{text[key_end:begin]}{literal}{text[end:]}"

    def without(self, text: str, name: str) -> str:
        """Return the text without a member."""
        at = max(n for n, member in enumerate(self.named) if member[0] == name)
        _, key_at, _, end = self.named[at]
        if at:
            return text[: self.named[at - 1][3]] + text[end:]
        if len(self.named) > 1:
            return text[:key_at] + text[self.named[1][1] :]
        return text[: self.open_at + 1] + text[_skip(text, end) :]


def _after_comma(text: str, at: int) -> int:
    """Return the place after the bracket at ``at``, or after the comma that follows it."""
    if text[at] in "{[":
        return at + 1
    return text.index(",", at) + 1


def _members(text: str, start: int) -> _Members:
    opener = text[start] if start < len(text) else ""
    named: list[tuple[str, int, int, int]] = []
    if opener not in ("{", "["):
        return _Members(False, start, ())
    at = _skip(text, start + 1)
    while text[at] not in "}]":
        name, key_at = str(len(named)), at
        if opener == "{":
            name, at = _decode_at(text, at)
            at = _skip(text, _skip(text, at) + 1)
        end = _end(text, at)
        named.append((name, key_at, at, end))
        at = _skip(text, end)
        if text[at] == ",":
            at = _skip(text, at + 1)
    return _Members(opener == "{", start, tuple(named))


def _named(data: bytes) -> dict[str, str]:
    """Return the values by name, each as it is written."""
    text, _ = decode(data)
    if not text.strip(_SPACE + "\ufeff"):
        return {}
    parse(data)
    start = _skip(text, 0)
    if text[start] != "{":
        raise Unreadable("holds no settings by name")
    return dict(_leaves(text, start, ""))


def _leaves(text: str, start: int, above: str) -> Iterator[tuple[str, str]]:
    members = {name: (begin, end) for name, _, begin, end in _members(text, start).named}
    for name, (begin, end) in members.items():
        where = pointer_to(above, name)
        if text[begin] == "{":
            yield from _leaves(text, begin, where)
        else:
            yield where, text[begin:end]


def _change(data: bytes, changes: Mapping[str, str | None]) -> bytes:
    """Return the document with values set or gone; an empty file becomes an object."""
    text, codec = decode(data)
    if not text.strip(_SPACE + "\ufeff"):
        text += "{\n}\n"
    for where, literal in changes.items():
        text = _changed(text, where, literal)
    return encode(text, codec, data)


def _changed(text: str, where: str, literal: str | None) -> str:
    start, names = _skip(text, 0), pointer_names(where)
    for depth, name in enumerate(names):
        members = _members(text, start)
        found = members.of(name)
        if literal is None and depth + 1 == len(names):
            return members.without(text, name)
        if not members.is_object:
            raise Unwritable(f"has one value on the way to {where}")
        if found is None:
            for inner in reversed(names[depth + 1 :]):
                literal = f"{{{json.dumps(inner, ensure_ascii=text.isascii())}: {literal}}}"
            return members.added(text, name, str(literal))
        start = found
    return text[:start] + str(literal) + text[_end(text, start) :]


def spans(data: bytes, at: str) -> tuple[list[tuple[int, int, Raw]], int]:
    """Return where each member of a list begins and ends, with what it is, and where the list ends.

    Raises:
        Unreadable: It is not a document, or no list is there.
    """
    text, codec = decode(data)
    if codec != "utf-8":
        raise Unreadable("is not in UTF-8 without a mark")
    parse(data)
    start = _skip(text, 0)
    for token in pointer_tokens(at) if at else ():
        found = _members(text, start).of(token)
        if found is None:
            raise NotThere(f'has no "{token}" on the way to {at}')
        start = found
    members = _members(text, start)
    if members.is_object or text[start : start + 1] != "[":
        raise Unreadable(f"has no list at {at or 'its top'}")
    sizes = _Offsets(text)
    named = members.named
    held = [(sizes.of(b), sizes.of(e), plain(_decode_at(text, b)[0])) for _, _, b, e in named]
    return held, sizes.of(_end(text, start) - 1)


class _Offsets:
    """Where characters of a text stand among its bytes, asked for in order."""

    def __init__(self, text: str) -> None:
        self._text, self._at, self._byte = text, 0, 0

    def of(self, at: int) -> int:
        """Return the offset of a character; each is asked for after those before it."""
        self._byte += len(self._text[self._at : at].encode("utf-8", "surrogatepass"))
        self._at = at
        return self._byte


JSON = Form(
    "json",
    "pointer",
    tells=True,
    read=_TREE.read,
    spots=_TREE.spots,
    put=put,
    value=_TREE.value,
    add=add,
    entries=_TREE.entries,
    entry_at=path_in_entries,
    check_write_at=check_pointer,
    records=JsonObjects(spans),
    named=NamedValues(_named, _change),
)
