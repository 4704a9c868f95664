"""The values of a YAML document, one by one; every other byte is kept where some are changed."""

from __future__ import annotations

import copy
from collections.abc import Iterator, Mapping
from typing import Any

import yaml

from widetrail.formats.form import NamedValues, spliced
from widetrail.formats.interface import Unreadable, Unwritable
from widetrail.formats.texts import decode, encode
from widetrail.formats.trees import first_line, pointer_names, pointer_to

_Edit = tuple[int, int, str]


def _composed(text: str) -> yaml.MappingNode | None:
    """Return the mapping that a document is, or ``None`` of an empty one."""
    try:
        root = yaml.compose(text, Loader=yaml.SafeLoader)
    except (yaml.YAMLError, ValueError, RecursionError) as error:
        raise Unreadable(f"is not yaml: {first_line(error)}") from error
    if root is None or (isinstance(root, yaml.ScalarNode) and not root.value):
        return None
    if not isinstance(root, yaml.MappingNode):
        raise Unreadable("holds no settings by name")
    return root


def _named(data: bytes) -> dict[str, str]:
    """Return the values by name, each as YAML on one line."""
    root = _composed(decode(data)[0].removeprefix("\ufeff"))
    return {where: _one_line(node) for where, node in _leaves(root, "")} if root else {}


def _leaves(mapping: yaml.MappingNode, above: str) -> Iterator[tuple[str, yaml.Node]]:
    for key, node in mapping.value:
        where = pointer_to(above, _name(key))
        if isinstance(node, yaml.MappingNode):
            yield from _leaves(node, where)
        else:
            yield where, node


def _name(key: yaml.Node) -> str:
    if not isinstance(key, yaml.ScalarNode):
        raise Unreadable("has a key that is no text")
    return str(key.value)


def _one_line(node: yaml.Node) -> str:
    node = copy.deepcopy(node)
    _flat(node)
    text: str = yaml.serialize(node, width=1 << 30, allow_unicode=True)
    return text.removesuffix("...\n").rstrip("\n")


def _flat(node: Any) -> None:
    """Say that a value stands in one line, in whatever style that takes."""
    if isinstance(node, yaml.ScalarNode):
        node.style = '"' if "\n" in node.value else None
        return
    node.flow_style = True
    for inner in node.value:
        for one in inner if isinstance(inner, tuple) else (inner,):
            _flat(one)


def _change(data: bytes, changes: Mapping[str, str | None]) -> bytes:
    """Return the document with values set or gone."""
    whole, codec = decode(data)
    text = whole.removeprefix("\ufeff")
    head = whole[: len(whole) - len(text)]
    return encode(head + spliced(text, _Changing(text, changes).edits()), codec, data)


class _Changing:
    """Values that are set in a document, or taken away."""

    def __init__(self, text: str, changes: Mapping[str, str | None]) -> None:
        self._text, self._root = text, _composed(text)
        self._edits: list[_Edit] = []
        self._gone: dict[int, tuple[yaml.MappingNode, list[int]]] = {}
        self._new: dict[int, tuple[yaml.MappingNode, dict[str, Any]]] = {}
        self._top: dict[str, Any] = {}
        for where, told in changes.items():
            self._change(pointer_names(where), told)

    def _change(self, names: list[str], told: str | None) -> None:
        mapping = self._root
        for depth, name in enumerate(names):
            at = self._at(mapping, name) if mapping is not None else None
            if mapping is None or at is None:
                new = self._top if mapping is None else self._new_of(mapping)
                for above in names[depth:-1]:
                    new = new.setdefault(above, {})
                new[names[-1]] = told
                return
            node = mapping.value[at][1]
            if depth + 1 < len(names):
                if not isinstance(node, yaml.MappingNode):
                    raise Unwritable(f"has one value at {name} on the way")
                mapping = node
            elif told is None:
                self._gone.setdefault(id(mapping), (mapping, []))[1].append(at)
            else:
                key, node = mapping.value[at]
                self._edits.append(self._set(key, node, told))

    def _set(self, key: yaml.Node, node: yaml.Node, told: str) -> _Edit:
        """Return what puts a value in the place of another; it begins on the line of its key."""
        end = self._end(node)
        begin = min(node.start_mark.index, end)
        colon = self._text.find(":", key.end_mark.index) + 1
        block = isinstance(node, yaml.ScalarNode) and node.style in ("|", ">")
        ends = "\n" if block and end < len(self._text) else ""
        between = self._text[colon:begin]
        if "\n" in between:
            return colon, end, f" {told}{between.partition(chr(10))[0].rstrip()}{ends}"
        space = "" if self._text[begin - 1 : begin].isspace() else " "
        return begin, end, f"{space}{told}{ends}"

    def _new_of(self, mapping: yaml.MappingNode) -> dict[str, Any]:
        return self._new.setdefault(id(mapping), (mapping, {}))[1]

    @staticmethod
    def _at(mapping: yaml.MappingNode, name: str) -> int | None:
        """Return which entry has that name; of equal ones the last counts."""
        found = [n for n, (key, _) in enumerate(mapping.value) if _name(key) == name]
        return found[-1] if found else None

    def edits(self) -> list[_Edit]:
        """Return what is put in the place of what."""
        for mapping, gone in self._gone.values():
            self._edits += self._without(mapping, gone)
        for mapping, new in self._new.values():
            self._edits.append(self._with(mapping, new))
        if self._top:
            end = len(self._text)
            gap = "" if not self._text or self._text.endswith("\n") else "\n"
            self._edits.append((end, end, gap + _lines(self._top, "")))
        return self._edits

    def _end(self, node: yaml.Node) -> int:
        """Return where what a node says ends; a block of text ends with its last line."""
        if isinstance(node, yaml.CollectionNode) and not node.flow_style and node.value:
            last = node.value[-1]
            return self._end(last[1] if isinstance(last, tuple) else last)
        end: int = node.end_mark.index
        if isinstance(node, yaml.ScalarNode) and node.style in ("|", ">"):
            start = self._text.rfind("\n", 0, end) + 1
            return start if not self._text[start:end].strip() else end
        return end

    def _line_after(self, end: int) -> int:
        """Return where the line begins after that in which something ends."""
        if self._text[end - 1 : end] == "\n":
            return end
        found = self._text.find("\n", end)
        return found + 1 if found >= 0 else len(self._text)

    def _without(self, mapping: yaml.MappingNode, gone: list[int]) -> Iterator[_Edit]:
        if len(gone) == len(mapping.value):
            start, end = mapping.start_mark.index, self._end(mapping)
            gap = "\n" if self._text[end - 1 : end] == "\n" else ""
            yield start, end, "{}" + gap
            return
        if mapping.flow_style:
            kept = (e for at, e in enumerate(mapping.value) if at not in gone)
            inner = (self._text[k.start_mark.index : self._end(v)] for k, v in kept)
            yield mapping.start_mark.index, mapping.end_mark.index, f"{{{', '.join(inner)}}}"
            return
        for at in gone:
            key, node = mapping.value[at]
            begin, end = key.start_mark.index, self._end(node)
            line = self._text.rfind("\n", 0, begin) + 1
            if self._text[line:begin].strip():
                raise Unwritable("has a value on a line with others")
            yield line, self._line_after(end), ""

    def _with(self, mapping: yaml.MappingNode, new: dict[str, Any]) -> _Edit:
        start = mapping.start_mark.index
        if mapping is self._root and not mapping.value:
            end = mapping.end_mark.index
            return start, end, _lines(new, "").rstrip("\n")
        if mapping.flow_style:
            inner = _flow(new)[1:-1]
            return start + 1, start + 1, f"{inner}, " if mapping.value else inner
        at = self._line_after(self._end(mapping))
        gap = "\n" if at and self._text[at - 1] != "\n" else ""
        return at, at, gap + _lines(new, " " * mapping.start_mark.column)


def _lines(new: Mapping[str, Any], indent: str) -> str:
    return "".join(f"{indent}{_key(name)}: {_flow(told)}\n" for name, told in new.items())


def _flow(told: Any) -> str:
    if isinstance(told, str):
        return told
    return "{" + ", ".join(f"{_key(name)}: {_flow(inner)}" for name, inner in told.items()) + "}"


def _key(name: str) -> str:
    return _one_line(yaml.ScalarNode("tag:yaml.org,2002:str", name))


VALUES = NamedValues(_named, _change)
"""How YAML holds values that are taken one by one."""
