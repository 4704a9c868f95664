"""The text form of a desktop's settings database, as ``dconf dump /`` writes it.

Groups are paths without the first ``/``; values are GVariant texts (GLib, "GVariant Text Format").
"""

from __future__ import annotations

import ast
import re

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
        Unreadable: The value is no GVariant text.
        NotThere: There is no such value.
    """
    group, wanted = "", path.strip("/")
    for number, line in enumerate(decode(data)[0].splitlines(), start=1):
        text = line.strip()
        if text.startswith("[") and text.endswith("]"):
            group = text[1:-1].strip("/")
        elif group == wanted and text.partition("=")[0] == name:
            return Located(parse_gvariant(text.partition("=")[2]), number)
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
            raise Unreadable(f'holds "{text[:40]}", which is no settings value')
        tokens.append((str(match.lastgroup), match[str(match.lastgroup)]))
        position = match.end()
    parser = _Parser(tokens)
    value = parser.value()
    if parser.tokens:
        raise Unreadable(f'holds "{text[:40]}", which is no settings value')
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
        if kind == "text":
            return str(ast.literal_eval(text))
        if kind == "number":
            return float(text) if re.search(r"[.eE]", text) and "x" not in text else int(text, 0)
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
