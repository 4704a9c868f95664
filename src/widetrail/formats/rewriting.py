"""Writing one value into a settings file, with every other byte kept.

Ini, JSON, TOML and registry text: comments, order, indentation, line ends, encoding and byte order
mark stay. What was written is read back before it is given out, so a file is never half rewritten.
"""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from widetrail.formats.ini import read_ini
from widetrail.formats.interface import NotThere, Raw, Scalar, Unreadable, Unwritable
from widetrail.formats.texts import decode, encode
from widetrail.formats.trees import follow_pointer, parse_tree, pointer_names


def write_value(form: str, data: bytes, at: str, value: Scalar) -> bytes:
    """Return ``data`` (``ini``, ``json`` or ``toml``) with ``value`` at ``at``.

    A key that is missing is added where its section, object or table is there; an ini section is
    added too. An empty JSON file becomes an object.

    Raises:
        Unreadable: ``data`` is not of that form.
        NotThere: There is nothing that could hold the key.
        Unwritable: The form or the file's encoding cannot hold the value.
    """
    text, codec = decode(data)
    written = encode(_FORMS[form](text, at, value), codec, data)
    if read_value(form, written, at) != (str(value) if form == "ini" else value):
        raise Unwritable(f"holds another value once it is written as {form}")
    return written


def read_value(form: str, data: bytes, at: str) -> Raw:
    """Return the value that ``write_value`` would replace.

    Raises:
        Unreadable: ``data`` is not of that form.
        NotThere: Nothing stands there.
    """
    if form == "ini":
        return read_ini(data, at).value
    return follow_pointer(parse_tree(form, data), at)


# Ini

_INI_KEY = re.compile(r"([^=\r\n]*?)([ \t]*)=([ \t]*)([^\r\n]*?)[ \t]*(?=\r?\n|\r|\Z)")


@dataclass(frozen=True, slots=True)
class _Line:
    """A line of a text: where it begins and ends, and where the next one begins."""

    start: int
    end: int
    after: int


def _lines(text: str) -> list[_Line]:
    """Return the lines of a text as ``str.splitlines`` has them."""
    found, at = [], 0
    for whole in text.splitlines(keepends=True):
        bare = whole.splitlines()[0]
        found.append(_Line(at, at + len(bare), at + len(whole)))
        at += len(whole)
    return found


def _write_ini(text: str, at: str, value: Scalar) -> str:
    told = str(value)
    if len(f"{told}.".splitlines()) > 1:
        raise Unwritable("is an ini file, where a value is one line")
    section, _, key = at.rpartition("/")
    current, last = "", None if section else _Line(0, 0, 0)
    styles: dict[bool, str] = {}
    """How the first key is set, in the section and anywhere."""
    for line in _lines(text):
        content = text[line.start : line.end]
        stripped = content.strip()
        if stripped.startswith("[") and "]" in stripped:
            current = stripped[1 : stripped.index("]")].strip()
            last = line if _same(current, section) and last is None else last
        elif stripped and stripped[0] not in ";#" and "=" in stripped:
            name, _, old = content.partition("=")
            if _same(current, section):
                if _same(name.strip(), key):
                    begin = line.start + len(name) + 1 + len(old) - len(old.lstrip())
                    end = line.start + len(content.rstrip())
                    begin = min(begin, line.end) if old.strip() else line.start + len(name) + 1
                    end = max(begin, end)
                    return text[:begin] + _as_ini(told, text[begin:end]) + text[end:]
                last = line
            spaced = name != name.rstrip() and old != old.lstrip()
            for where in {False, _same(current, section)}:
                styles.setdefault(where, " = " if spaced else "=")
    ends = "\r\n" if "\r\n" in text else "\n"
    equals = styles.get(True, styles.get(False, "="))
    line_text = f"{key}{equals}{_as_ini(told, '')}{ends}"
    if last is None:
        gap = "" if not text or text.endswith(("\n", "\r")) else ends
        return f"{text}{gap}[{section}]{ends}{line_text}"
    before = text[: last.after]
    gap = "" if not before or before.endswith(("\n", "\r")) else ends
    return f"{before}{gap}{line_text}{text[last.after :]}"


def _as_ini(value: str, old: str) -> str:
    """Return a value as it stands in an ini file, in quotes where the old one or the value asks."""
    quoted = len(old) > 1 and old[0] == old[-1] == '"'
    looks_quoted = len(value) > 1 and value[0] == value[-1] == '"'
    return f'"{value}"' if quoted or looks_quoted or value != value.strip() else value


def _same(one: str, other: str) -> bool:
    return one.casefold() == other.casefold()


# JSON

_SPACE = " \t\r\n"


def _write_json(text: str, at: str, value: Scalar) -> str:
    literal = json.dumps(value, ensure_ascii=text.isascii())
    if not text.strip(_SPACE + "\ufeff") and at.count("/") == 1:
        return f"{{{json.dumps(_tokens(at)[-1])}: {literal}}}\n"
    parse_tree("json", text.encode("utf-8", "surrogatepass"))
    tokens = _tokens(at)
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


def _tokens(pointer: str) -> list[str]:
    if not pointer.startswith("/"):
        raise Unreadable(f'"{pointer}" is no JSON Pointer; it begins with /')
    return pointer_names(pointer)


def _skip(text: str, at: int) -> int:
    while at < len(text) and text[at] in _SPACE + "\ufeff":
        at += 1
    return at


_decode_at: Callable[[str, int], tuple[Any, int]] = json.JSONDecoder().raw_decode


def _end(text: str, start: int) -> int:
    return _decode_at(text, start)[1]


@dataclass(frozen=True, slots=True)
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
            return f"{text[:inner]}{told}: {literal}{text[inner:]}"
        _, key_at, begin, end = self.named[-1]
        key_end = _end(text, key_at)
        before = self.named[-2][3] if len(self.named) > 1 else self.open_at
        gap = text[_after_comma(text, before) : key_at]
        return f"{text[:end]},{gap}{told}{text[key_end:begin]}{literal}{text[end:]}"


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


# TOML


def _write_toml(text: str, at: str, value: Scalar) -> str:
    import tomlkit
    from tomlkit.exceptions import TOMLKitError

    if value is None:
        raise Unwritable("is TOML, which has no null")
    before = parse_tree("toml", text.encode("utf-8", "surrogatepass"))
    tokens = _tokens(at)
    try:
        document = tomlkit.parse(text)
        holder: Any = document
        for token in tokens[:-1]:
            holder = holder[int(token) if isinstance(holder, list) else token]
        last: Any = int(tokens[-1]) if isinstance(holder, list) else tokens[-1]
        if not isinstance(holder, dict) and not (isinstance(holder, list) and last < len(holder)):
            raise NotThere(f'has no "{tokens[-1]}" on the way to {at}')
        holder[last] = value
        written = tomlkit.dumps(document)
    except (KeyError, IndexError, ValueError, TypeError) as error:
        raise NotThere(f"has nothing on the way to {at}") from error
    except TOMLKitError as error:
        raise Unreadable(f"is not toml: {error}") from error
    after = parse_tree("toml", written.encode("utf-8", "surrogatepass"))
    if _without(before, tokens) != _without(after, tokens):
        raise Unwritable("would have another value changed too")
    return written


def _without(document: Raw, tokens: list[str]) -> Raw:
    """Return a document without the value at ``tokens``, which may not be there."""
    if isinstance(document, dict):
        rest = {k: v for k, v in document.items() if k != tokens[0]}
        if len(tokens) == 1 or tokens[0] not in document:
            return rest
        return {**rest, tokens[0]: _without(document[tokens[0]], tokens[1:])}
    if isinstance(document, list) and tokens[0].isdigit() and int(tokens[0]) < len(document):
        at = int(tokens[0])
        own: list[Raw] = [] if len(tokens) == 1 else [_without(document[at], tokens[1:])]
        return [*document[:at], *own, *document[at + 1 :]]
    return document


_FORMS: dict[str, Callable[[str, str, Scalar], str]] = {
    "ini": _write_ini,
    "json": _write_json,
    "toml": _write_toml,
}
