"""YAML in which every scalar is text, read with positions.

PyYAML's C parser gives the events; what they become is our own, because the recipe language
keeps ``1.10`` and ``no`` as they are written and refuses aliases, tags, merge keys and duplicate
keys (YAML 1.2, sections 3.2.2.2, 6.9 and 7.1 describe what is refused).
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any

import yaml

from widetrail.findings import MOST, Finding
from widetrail.lazily import dataclass

DEPTH = 40
SIZE = 4 * 1024 * 1024
VALUES = 200_000
"""Keys, values and ends of what holds them in one document, at most."""


@dataclass(frozen=True, slots=True)
class Mark:
    """A position in a text; line and column count from 1."""

    line: int
    column: int


class Text(str):
    """A scalar: its text, where it stands, and whether it was written plain."""

    mark: Mark
    plain: bool

    def respelled(self, word: str) -> Text:
        """Return ``word`` as it would be at the same position."""
        other = Text(word)
        other.mark, other.plain = self.mark, self.plain
        return other


class Map(dict[str, Any]):
    """A mapping with the position of itself and of each of its keys."""

    mark: Mark
    keys_at: dict[str, Mark]


class Seq(list[Any]):
    """A sequence with its position."""

    mark: Mark


@dataclass(slots=True)
class _Open:
    """A collection whose end was not reached yet."""

    value: Map | Seq
    key: Text | None = None
    flow: bool = False


def read_marked(text: str, file: str) -> tuple[Map | Seq | Text | None, tuple[Finding, ...]]:
    """Read one YAML document; return its tree and what is wrong with its notation.

    ``file`` is the name that findings carry. The tree is ``None`` where the text has no
    readable structure at all. Nothing is raised for any text.
    """
    builder = _Builder(file)
    if len(text) > SIZE:
        builder.find(Mark(0, 0), "yaml-size", f"longer than {SIZE} characters")
        return None, tuple(builder.findings)
    try:
        for event in yaml.parse(text, Loader=yaml.CSafeLoader):
            if not builder.take(event):
                break
    except yaml.YAMLError as error:
        builder.broken(error, text)
    except (ValueError, RecursionError) as error:
        builder.find(Mark(0, 0), "yaml", f"cannot be read as YAML: {error}")
    return builder.root, tuple(sorted(builder.findings))


class _Builder:
    """Builds the tree from parser events, collecting findings on the way."""

    def __init__(self, file: str) -> None:
        self.file = file
        self.root: Map | Seq | Text | None = None
        self.findings: list[Finding] = []
        self._open: list[_Open] = []
        self._documents = self._values = 0

    def find(self, mark: Mark, rule: str, message: str, hint: str = "") -> None:
        where = ".".join(_names(self._open))
        self.findings.append(Finding(self.file, mark.line, mark.column, rule, where, message, hint))

    def broken(self, error: yaml.YAMLError, text: str) -> None:
        problem = getattr(error, "problem", None) or str(error)
        at = getattr(error, "problem_mark", None)
        mark = Mark(at.line + 1, at.column + 1) if at is not None else Mark(0, 0)
        line = text.splitlines()[at.line] if at and at.line < len(text.splitlines()) else ""
        hint = ""
        if "escape" in problem:
            hint = "Write texts that hold \\ in single quotes"
        elif "alias" in problem or "*" in line[max(0, mark.column - 3) : mark.column + 1]:
            hint = 'Put quotes around a glob that begins with *: "**/x"'
        elif "\t" in line:
            hint = "Indent with spaces, not tabs"
        elif ": " in line and "mapping values" in problem:
            hint = "Put quotes around a text that holds a colon and a space"
        self.find(mark, "yaml", f"this is not readable YAML: {problem}", hint)

    def take(self, event: yaml.Event) -> bool:
        """Take one event; return whether reading goes on."""
        kind = type(event)
        if kind in _ENDS:
            closed = self._open.pop()
            self._brace_trap(closed)
            self._put(closed.value, closed.value.mark)
            return True
        at = event.start_mark
        mark = Mark(at.line + 1, at.column + 1) if at is not None else Mark(0, 0)
        self._values += 1
        if self._values > VALUES:
            self.find(mark, "yaml-size", f"more than {VALUES:,} keys and values")
            return False
        if len(self.findings) > MOST:
            return False
        if kind is yaml.ScalarEvent:  # as most are
            assert isinstance(event, yaml.ScalarEvent)
            if event.anchor is not None or event.tag is not None:
                self._refuse_extras(event, mark)
            self._scalar(event, mark)
        elif isinstance(event, yaml.DocumentStartEvent):
            self._documents += 1
            if self._documents > 1:
                self.find(
                    mark, "yaml-documents", "a second document begins here; only one is allowed"
                )
                return False
        elif isinstance(event, yaml.AliasEvent):
            hint = f'Put quotes around a glob that begins with *: "*{event.anchor}"'
            self.find(mark, "yaml-alias", "aliases are not used here", hint)
            self._put(_text("", mark, plain=False), mark)
        elif isinstance(event, yaml.MappingStartEvent | yaml.SequenceStartEvent):
            self._refuse_extras(event, mark)
            value: Map | Seq = Map() if isinstance(event, yaml.MappingStartEvent) else Seq()
            value.mark = mark
            if isinstance(value, Map):
                value.keys_at = {}
            self._open.append(_Open(value, flow=bool(event.flow_style)))
            if len(self._open) > DEPTH:
                self.find(mark, "yaml-depth", f"nested more than {DEPTH} deep")
                return False
        return True

    def _refuse_extras(self, event: Any, mark: Mark) -> None:
        if event.anchor is not None:
            self.find(mark, "yaml-anchor", f"anchors (&{event.anchor}) are not used here")
        if event.tag is not None:
            self.find(mark, "yaml-tag", f"tags ({event.tag}) are not used here")

    def _scalar(self, event: yaml.ScalarEvent, mark: Mark) -> None:
        if event.style == '"' and _CONTROL(event.value):
            hint = r"In double quotes \n, \t and their like are escapes; use single quotes"
            self.find(mark, "yaml-escape", "this text holds a control character", hint)
        self._put(_text(event.value, mark, plain=event.style is None or event.style == ""), mark)

    def _brace_trap(self, closed: _Open) -> None:
        value = closed.value
        if not (closed.flow and isinstance(value, Map) and value):
            return
        if all(isinstance(v, Text) and v.plain and v == "" for v in value.values()):
            name = ", ".join(value)
            hint = f'Put quotes around it: "{{{name}}}…"'
            self.find(value.mark, "yaml-braces", "braces without quotes make a mapping", hint)

    def _put(self, value: Map | Seq | Text, mark: Mark) -> None:
        if not self._open:
            self.root = value
            return
        top = self._open[-1]
        if isinstance(top.value, Seq):
            top.value.append(value)
        elif top.key is None:
            self._key(top, value, mark)
        else:
            top.value[top.key] = value
            top.key = None

    def _key(self, top: _Open, value: Map | Seq | Text, mark: Mark) -> None:
        assert isinstance(top.value, Map)
        if not isinstance(value, Text):
            self.find(mark, "yaml-key", "a key must be a single text", 'Put quotes around "{…}"')
            value = _text(f"?{mark.line}:{mark.column}", mark, plain=False)
        if value == "<<" and value.plain:
            self.find(mark, "yaml-merge", "merge keys (<<) are not used here")
        if value in top.value.keys_at:
            first = top.value.keys_at[value]
            self.find(
                mark,
                "duplicate-key",
                f'the key "{value}" is repeated',
                f"It is first at line {first.line}",
            )
        else:
            top.value.keys_at[str(value)] = mark
        top.key = value


_ENDS = frozenset({yaml.MappingEndEvent, yaml.SequenceEndEvent})
_CONTROL = re.compile("[\0-\x1f]").search


def _text(value: str, mark: Mark, *, plain: bool) -> Text:
    text = Text(value)
    text.mark = mark
    text.plain = plain
    return text


def _names(opened: Sequence[_Open]) -> list[str]:
    return [
        str(o.key) if isinstance(o.value, Map) else str(len(o.value))
        for o in opened
        if o.key is not None or isinstance(o.value, Seq)
    ]
