"""The text form of a desktop's settings database, as ``dconf dump /`` writes it.

Groups are paths without the first ``/``; values are GVariant texts (GLib, "GVariant Text Format").
"""

from __future__ import annotations

import ast
import re
from collections.abc import Iterable, Mapping
from typing import NamedTuple

from widetrail.formats.form import Form
from widetrail.formats.interface import Located, NotThere, Raw, Unreadable
from widetrail.formats.texts import decode

_TOKEN = re.compile(
    r"""\s*(?: (?P<text>'(?:[^'\\]|\\.)*'|"(?:[^"\\]|\\.)*")
      | (?P<number>[-+]?(?:0x[0-9a-fA-F]+|\d+\.?\d*(?:[eE][-+]?\d+)?|\.\d+))
      | (?P<word>true|false|nothing|just)\b
      | (?P<type>@[a-z{}()*?]+ | (?:boolean|byte|u?int(?:16|32|64)|handle|double|string)\b
          | (?:objectpath|signature)\b)
      | (?P<mark>[\[\](){}<>,:]) )""",
    re.VERBOSE,
)


def read_dconf(data: bytes, path: str, name: str) -> Located:
    """Return the value ``name`` of the group ``path`` (``/org/example/app``).

    Raises:
        Unreadable: The value is not a GVariant text.
        NotThere: There is no such value.
    """
    for number, line in enumerate(_lines(data), start=1):
        if line.group == path.strip("/") and line.key == name:
            return Located(parse_gvariant(line.text), number)
    raise NotThere(f"has no {path}/{name}")


def parse_gvariant(text: str) -> Raw:
    """Return a GVariant text as plain values: tuples and arrays as lists, dictionaries as such.

    Raises:
        Unreadable: It is none.
    """
    tokens: list[tuple[str, str]] = []
    position = 0
    while text[position:].strip():
        match = _TOKEN.match(text, position)
        if match is None:
            raise Unreadable(f'holds "{text[:40]}", which is not a settings value')
        tokens.append((str(match.lastgroup), match[str(match.lastgroup)]))
        position = match.end()
    parser = _Parser(tokens)
    value = parser.value()
    if parser.tokens:
        raise Unreadable(f'holds "{text[:40]}", which is not a settings value')
    return value


class _Parser:
    def __init__(self, tokens: list[tuple[str, str]]) -> None:
        self.tokens = tokens[::-1]
        self._depth = 0

    def _take(self) -> tuple[str, str]:
        if not self.tokens:
            raise Unreadable("holds a settings value that ends too early")
        return self.tokens.pop()

    def value(self) -> Raw:
        self._depth += 1
        if self._depth > 100:
            raise Unreadable("holds a settings value nested too deep")
        kind, text = self._take()
        try:
            return self._typed(kind, text)
        finally:
            self._depth -= 1

    def _typed(self, kind: str, text: str) -> Raw:
        if kind == "type" or text == "just":
            return self.value()
        try:
            if kind == "text":
                return str(ast.literal_eval(text))
            if kind == "number":
                whole = not re.search(r"[.eE]", text) or "x" in text
                return int(text, 0) if whole else float(text)
        except (ValueError, SyntaxError) as error:
            raise Unreadable(f"holds {text[:40]!r}, which is not a settings value") from error
        if kind == "word":
            return {"true": True, "false": False, "nothing": None}[text]
        closing = {"[": "]", "(": ")", "{": "}", "<": ">"}.get(text)
        if closing is None:
            raise Unreadable(f'holds "{text}" where a settings value should be')
        return self._dictionary() if text == "{" else self._list(text, closing)

    def _list(self, opening: str, closing: str) -> Raw:
        values: list[Raw] = []
        while not self.tokens or self.tokens[-1][1] != closing:
            values.append(self.value())
            if self.tokens and self.tokens[-1][1] == ",":
                self._take()
        self._take()
        return values[0] if opening == "<" and values else values

    def _dictionary(self) -> Raw:
        values: dict[str, Raw] = {}
        while not self.tokens or self.tokens[-1][1] != "}":
            key = self.value()
            if self._take()[1] not in (":", ","):
                raise Unreadable("holds a dictionary without values")
            values[str(key)] = self.value()
            if self.tokens and self.tokens[-1][1] == ",":
                self._take()
        self._take()
        return dict(values)


# Many values, and writing them


def dconf_below(data: bytes, path: str) -> dict[str, str]:
    """Return the texts of all values below ``path`` (``/org/example/app``), by their names below.

    Raises:
        NotThere: There is none.
    """
    wanted = path.strip("/")
    found = {
        name[len(wanted) :].lstrip("/"): line.text
        for name, line in _values_of(_lines(data)).items()
        if not wanted or name.startswith(f"{wanted}/")
    }
    if not found:
        raise NotThere(f"has nothing below {path}")
    return found


class _Line(NamedTuple):
    """A line of the text form: its group, the key in it and its value, and the line as it is."""

    group: str
    key: str
    text: str
    whole: str


def _lines(data: bytes) -> list[_Line]:
    found, group = [], ""
    for whole in decode(data)[0].splitlines(keepends=True):
        text = whole.strip()
        if text.startswith("[") and text.endswith("]"):
            group = text[1:-1].strip("/")
            found.append(_Line(group, "", "", whole))
        else:
            key, equals, value = text.partition("=")
            found.append(_Line(group, key if equals else "", value, whole))
    return found


def _values_of(lines: Iterable[_Line]) -> dict[str, _Line]:
    named = (line for line in lines if line.key)
    return {f"{line.group}/{line.key}".lstrip("/"): line for line in named}


def write_dconf(values: Mapping[str, str]) -> bytes:
    """Return values (by their names with ``/``) as ``dconf dump`` writes them, ``load`` reads."""
    groups: dict[str, list[str]] = {}
    for name, text in sorted(values.items()):
        group, _, key = name.rpartition("/")
        groups.setdefault(group, []).append(f"{key}={text}\n")
    parts = (f"[{group or '/'}]\n{''.join(lines)}" for group, lines in sorted(groups.items()))
    return "\n".join(parts).encode()


def edit_dconf(data: bytes, changes: Mapping[str, str | None]) -> bytes:
    """Return a settings text with values set, or gone where the text is ``None``; others stay."""
    lines = _lines(data)
    for name, text in changes.items():
        group, _, key = name.strip("/").rpartition("/")
        at = next((n for n, x in enumerate(lines) if (x.group, x.key) == (group, key)), None)
        if text is None:
            if at is not None:
                del lines[at]
                lines = _without_empty(lines, group)
            continue
        line = _Line(group, key, text, f"{key}={text}\n")
        if at is not None:
            lines[at] = line
            continue
        mine = [n for n, x in enumerate(lines) if x.group == group and (x.key or _is_head(x))]
        if mine:
            lines.insert(mine[-1] + 1, line)
            continue
        gap = [_Line("", "", "", "\n")] if lines else []
        lines += [*gap, _Line(group, "", "", f"[{group or '/'}]\n"), line]
    return "".join(line.whole for line in lines).encode()


def _is_head(line: _Line) -> bool:
    return line.whole.strip().startswith("[")


def _without_empty(lines: list[_Line], group: str) -> list[_Line]:
    """Return lines without the head of a group that holds nothing, and the gap before it."""
    if any(line.key for line in lines if line.group == group):
        return lines
    at = next((n for n, x in enumerate(lines) if x.group == group and _is_head(x)), None)
    if at is None:
        return lines
    begin = at - 1 if at and not lines[at - 1].whole.strip() else at
    return [*lines[:begin], *lines[at + 1 :]]


def gvariant_texts(text: str) -> list[str]:
    """Return the texts of a value that is one, or a list of them; none of any other.

    Raises:
        Unreadable: It is not a GVariant text.
    """
    value = parse_gvariant(text)
    if isinstance(value, str):
        return [value]
    listed = value if isinstance(value, list) and text.lstrip().startswith("[") else []
    return [v for v in listed if isinstance(v, str)] if _all_texts(listed) else []


def _all_texts(values: list[Raw]) -> bool:
    return all(isinstance(value, str) for value in values)


def gvariant_with(text: str, texts: list[str]) -> str:
    """Return a value with the texts that ``gvariant_texts`` gave of it replaced."""
    if not texts:
        return text
    quoted = [_quoted(one) for one in texts]
    return f"[{', '.join(quoted)}]" if text.lstrip().startswith("[") else quoted[0]


def _quoted(text: str) -> str:
    """Return a text as GVariant prints it: in the quotes that need no escape, if there are such."""
    mark = '"' if "'" in text and '"' not in text else "'"
    escapes = {"\\": "\\\\", mark: f"\\{mark}", "\n": "\\n", "\t": "\\t", "\r": "\\r"}
    return mark + "".join(escapes.get(c, c) for c in text) + mark


DCONF = Form("dconf", "name", holder="settings")
