"""One layout for recipes: the order of keys, indentation and empty lines; comments stay where they
belong, and what a person wrote in one line stays in one line.

A comment belongs to what comes after it, or to what stands before it in its line.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence

import yaml

from widetrail.errors import InputUnusable
from widetrail.formats.documents import Model
from widetrail.lazily import dataclass
from widetrail.recipe.items import Item
from widetrail.recipe.licence_models import Licence, LicenceRoute
from widetrail.recipe.models import Application, Recipe
from widetrail.recipe.routes import Route

Keys = tuple[str, ...]

STEP = 2
"""Columns by which what is inside stands further right."""

_TOGETHER = ("recipe", "revision")
"""Keys of a recipe that no empty line follows."""


def formatted(text: str, file: str) -> str:
    """Return a recipe in the one layout; ``file`` is the name that an error carries.

    Raises:
        InputUnusable: It is no YAML, or has a notation that is not laid out, such as several
            documents or lists right in lists.
    """
    plain = text.replace("\r\n", "\n").removeprefix("\ufeff")
    try:
        root = yaml.compose(plain, Loader=yaml.CSafeLoader)
    except yaml.YAMLError as error:
        why = (str(error).splitlines() or [""])[0]
        raise InputUnusable("is no YAML", where=file, why=why) from error
    if not isinstance(root, yaml.MappingNode) or root.flow_style:
        raise InputUnusable("is no mapping of keys", where=file)
    try:
        told = "\n".join(_Layout(plain).document(root)) + "\n"
    except _NotLaidOut as error:
        raise InputUnusable("is not laid out", where=file, why=str(error)) from error
    if _value(told) != _value(plain) or _comments(told) != _comments(plain):
        raise InputUnusable("is not laid out", where=file, why="its layout would change it")
    return told


class _NotLaidOut(Exception):
    """A notation that is left as it is."""


@dataclass
class _Entry:
    """An entry as lines, as if it stood at the left edge: what comes before it, and itself."""

    key: str
    lead: list[str]
    lines: list[str]


class _Layout:
    def __init__(self, text: str) -> None:
        self._lines = [line.rstrip() for line in text.split("\n")]
        while self._lines and not self._lines[-1]:
            self._lines.pop()

    def document(self, root: yaml.MappingNode) -> Iterator[str]:
        """Give the lines of the document."""
        entries, rest = self._mapping(root, len(self._lines), ())
        head = self._lines[: root.value[0][0].start_mark.line] if root.value else []
        if _without_empty(head):  # it is of the whole document
            yield from (*_without_empty(head), *([""] if not head[-1] else ()))
        before = ""
        for entry in entries:
            if before not in ("", *_TOGETHER):
                yield ""
            yield from (*_without_empty(entry.lead), *entry.lines)
            before = entry.key
        yield from _without_empty(rest)

    def _mapping(
        self, node: yaml.MappingNode, end: int, keys: Keys
    ) -> tuple[list[_Entry], list[str]]:
        """Return the entries of a mapping in their order, and the lines that are left after it."""
        entries, rest = [], list[str]()
        starts = [key.start_mark.line for key, _ in node.value]
        column = node.value[0][0].start_mark.column if node.value else 0
        for number, (key, value) in enumerate(node.value):
            last = starts[number + 1] if number + 1 < len(starts) else end
            lead = []  # of the first, what holds the mapping has it
            if number:
                lead = _lead(self._lines[starts[number - 1] : starts[number]], column)
            body_end = last - len(_lead(self._lines[starts[number] + 1 : last], column))
            name = str(key.value)
            lines = self._entry(key, value, body_end, (*keys, name))
            if number + 1 == len(starts):
                rest = self._lines[body_end:last]
            entries.append(_Entry(name, _dedented(lead), lines))
        order = _order(keys)
        known = {name: place for place, name in enumerate(order)}
        entries.sort(key=lambda entry: known.get(entry.key, len(known)))
        return entries, rest

    def _entry(self, key: yaml.Node, value: yaml.Node, end: int, keys: Keys) -> list[str]:
        line, column = key.start_mark.line, key.start_mark.column
        head = self._lines[line][column:]
        inner = self._lines[line + 1 : end]
        if not isinstance(value, yaml.CollectionNode) or value.flow_style or not value.value:
            return [head, *_shifted(inner, -column)]
        if value.start_mark.line == line:
            raise _NotLaidOut(f"line {line + 1} begins a list or mapping behind a key")
        between = self._lines[line + 1 : value.start_mark.line]
        told = [" " * STEP + text.strip() for text in between if text.strip()]
        return [head, *told, *_indented(self._block(value, end, keys))]

    def _block(self, node: yaml.CollectionNode, end: int, keys: Keys) -> list[str]:
        if isinstance(node, yaml.MappingNode):
            entries, rest = self._mapping(node, end, keys)
            return [*_joined(entries), *_dedented(_without_empty(rest))]
        return self._sequence(node, end, keys)

    def _sequence(self, node: yaml.CollectionNode, end: int, keys: Keys) -> list[str]:
        found, after = list[str](), list[str]()
        dash = node.start_mark.column
        starts = [self._dash_line(item, dash) for item in node.value]
        for number, item in enumerate(node.value):
            last = starts[number + 1] if number + 1 < len(starts) else end
            lead = _lead(self._lines[starts[number - 1] : starts[number]], dash) if number else []
            after = _lead(self._lines[starts[number] + 1 : last], dash)
            lines = self._item(item, dash, last - len(after), (*keys, "*"))
            found += [*_dedented(lead), *lines]
        return [*found, *_dedented(_without_empty(after))]

    def _dash_line(self, item: yaml.Node, dash: int) -> int:
        line = item.start_mark.line
        if self._lines[line][dash : dash + 1] != "-":
            raise _NotLaidOut(f"line {line + 1} does not begin with - what stands in it")
        return line

    def _item(self, item: yaml.Node, dash: int, end: int, keys: Keys) -> list[str]:
        line = item.start_mark.line
        if isinstance(item, yaml.CollectionNode) and not item.flow_style and item.value:
            if isinstance(item, yaml.SequenceNode):
                raise _NotLaidOut(f"line {line + 1} is a list right in a list")
            lines = self._block(item, end, keys)
        else:
            column = item.start_mark.column
            head = self._lines[line][column:]
            lines = [head, *_shifted(self._lines[line + 1 : end], -column)]
        before = [text for text in lines if text.startswith("#")]
        first = next(n for n, text in enumerate(lines) if text and not text.startswith("#"))
        return [
            *before[:first],
            f"- {lines[first]}",
            *_indented(lines[first + 1 :]),
        ]


def _all(entry: _Entry) -> list[str]:
    return [*entry.lead, *entry.lines]


def _order(keys: Keys) -> Sequence[str]:
    """Return the keys of a part in their order, where it has one."""
    if not keys:
        return _keys_of(Recipe)
    if keys == ("application",):
        return _keys_of(Application)
    if keys[0] == "items" and len(keys) == 2:
        return _with(_keys_of(Item), _keys_of(Licence))
    if keys[0] == "items" and len(keys) == 4 and keys[2] == "routes":
        return _with(_keys_of(Route), _keys_of(LicenceRoute))
    return ()


def _with(keys: Keys, others: Keys) -> Keys:
    """Return keys with those that only others have before the first that both end with."""
    more = tuple(key for key in others if key not in keys)
    at = keys.index("losses")
    return (*keys[:at], *more, *keys[at:])


def _keys_of(model: type[Model]) -> tuple[str, ...]:
    return tuple(field.alias or name for name, field in model.model_fields.items())


def _joined(entries: Sequence[_Entry]) -> list[str]:
    return [line for entry in entries for line in _all(entry)]


def _lead(lines: Sequence[str], column: int) -> list[str]:
    """Return the comments and empty lines at the end of lines that belong to what stands after them
    at a column."""
    at = len(lines)
    while at and _is_lead(lines[at - 1], column):
        at -= 1
    return list(lines[at:])


def _is_lead(line: str, column: int) -> bool:
    plain = line.lstrip()
    return not plain or (plain.startswith("#") and len(line) - len(plain) <= column)


def _without_empty(lines: Sequence[str]) -> list[str]:
    return [line for line in lines if line.strip()]


def _dedented(lines: Sequence[str]) -> list[str]:
    """Return comments at the left edge; of several empty lines one is left."""
    found: list[str] = []
    for line in lines:
        plain = line.strip()
        if plain or not found or found[-1]:
            found.append(plain)
    return found


def _shifted(lines: Sequence[str], by: int) -> list[str]:
    return [f"{' ' * by}{line}" if by > 0 else line[min(-by, _margin(line)) :] for line in lines]


def _margin(line: str) -> int:
    return len(line) - len(line.lstrip())


def _indented(lines: Sequence[str]) -> list[str]:
    return [f"{' ' * STEP}{line}" if line else line for line in lines]


def _value(text: str) -> object:
    return yaml.load(text, Loader=yaml.CBaseLoader)


def _comments(text: str) -> Counter[str]:
    """Return the comments of a text, each as often as it stands there."""
    found = (line.partition("#")[2].strip() for line in text.split("\n") if "#" in line)
    return Counter(found)
