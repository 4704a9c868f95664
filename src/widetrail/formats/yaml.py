"""YAML 1.2, of which every scalar is a text; every other byte is kept where one is changed."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from typing import Any

import yaml

from widetrail.formats.form import Form, insist_held, spliced
from widetrail.formats.interface import Raw, Unreadable, Unwritable
from widetrail.formats.texts import decode, encode
from widetrail.formats.trees import (
    Tree,
    check_pointer,
    first_line,
    line_in_yaml,
    path_in_entries,
    plain,
    pointer_names,
)
from widetrail.formats.yaml_values import VALUES


def parse(data: bytes) -> Raw:
    """Return a whole document.

    Raises:
        Unreadable: It is none.
    """
    try:
        return plain(yaml.load(decode(data)[0], Loader=yaml.CBaseLoader))
    except (ValueError, TypeError, LookupError, AttributeError, RecursionError) as error:
        raise Unreadable(f"is not yaml: {first_line(error)}") from error
    except yaml.YAMLError as error:
        raise Unreadable(f"is not yaml: {first_line(error)}") from error


_TREE = Tree(parse, line_in_yaml)


def put(data: bytes, at: str, changes: Mapping[str, str]) -> bytes:
    """Return the document with other texts at the places of ``changes``."""
    return insist_held(_written(data, changes), _TREE.spots, at, changes)


def _written(data: bytes, changes: Mapping[str, str]) -> bytes:
    text, codec = decode(data)
    marked = text.removeprefix("\ufeff")
    head = text[: len(text) - len(marked)]
    try:
        root = yaml.compose(marked, Loader=yaml.SafeLoader)
    except yaml.YAMLError as error:
        raise Unreadable(f"is not yaml: {str(error).splitlines()[0]}") from error
    spans = []
    for where, value in changes.items():
        node = _yaml_node(root, where)
        if node.style in ("|", ">"):
            raise Unwritable("has a block of text there, which is not written")
        told = _yaml_scalar(value, node.style)
        spans.append((node.start_mark.index, node.end_mark.index, told))
    return encode(head + spliced(marked, spans), codec, data)


def _yaml_node(root: Any, where: str) -> yaml.ScalarNode:
    node = root
    try:
        for token in pointer_names(where):
            if isinstance(node, yaml.MappingNode):  # of two with one key, the last one counts
                node = [v for k, v in node.value if getattr(k, "value", None) == token][-1]
            else:
                node = node.value[int(token)]
    except (LookupError, ValueError) as error:
        raise Unwritable(f"has nothing that can be changed at {where}") from error
    if not isinstance(node, yaml.ScalarNode):
        raise Unwritable(f"has no one text at {where}")
    return node


def _yaml_scalar(value: str, style: str | None) -> str:
    """Return a text as a scalar of that style, or quoted where it could be misread."""
    if style is None and _YAML_PLAIN.fullmatch(value) and yaml.safe_load(f"- {value}") == [value]:
        return value
    if style == '"' or not value.isprintable():
        return json.dumps(value, ensure_ascii=False)
    return "'" + value.replace("'", "''") + "'"


_YAML_PLAIN = re.compile(r"[A-Za-z/](?:[^#:{}\[\],&*!|>'\"%@`\s]|:(?=[/\\])| (?! |\Z))*")


YAML = Form(
    "yaml",
    "pointer",
    tells=True,
    read=_TREE.read,
    spots=_TREE.spots,
    put=put,
    value=_TREE.value,
    entries=_TREE.entries,
    entry_at=path_in_entries,
    check_write_at=check_pointer,
    named=VALUES,
)
