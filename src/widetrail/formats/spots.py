"""Many values of one file: listed with where each stands, and changed where they stand.

In ini, JSON, TOML, YAML, registry and plain text every other byte is kept; XML and property lists
are written anew around the changed values (XML with its declaration, line ends and comments).
"""

from __future__ import annotations

import json
import plistlib
import re
from collections.abc import Callable, Mapping
from fnmatch import fnmatchcase
from typing import Any

import yaml

from widetrail.formats.ini import unquoted
from widetrail.formats.interface import Raw, Spot, Unreadable, Unwritable
from widetrail.formats.registry import Edit, RegistryText, RegistryValue, edit_registry
from widetrail.formats.rewriting import write_value
from widetrail.formats.texts import decode, encode
from widetrail.formats.trees import LINES_MOST, line_of, parse_tree, pointer_names, pointer_to

ANYTHING = "*"
"""In a pointer, every member; in an ini section, key or registry name any characters."""

LINES_OF = 200
"""Values of one file whose lines are looked for, at most."""

WRITTEN_ANEW = frozenset({"xml", "plist"})
"""The forms in which more than the value may look otherwise afterwards."""


def list_values(form: str, data: bytes, at: str) -> list[Spot]:
    """Return the text values at ``at``; none where nothing stands there.

    ``ini``: ``section/key``, ``json toml yaml plist``: a pointer, ``reg``: a key and a value name
    joined with a backslash; ``*`` stands for any. ``xml``: an XPath, ``text``: an expression with
    one group.

    Raises:
        Unreadable: ``data`` is not of that form.
    """
    if form in ("json", "toml", "yaml", "plist"):
        return _in_tree(form, data, at)
    return _LISTED[form](data, at)


def put_values(form: str, data: bytes, at: str, changes: Mapping[str, str]) -> bytes:
    """Return ``data`` with the values at ``changes`` (by their ``where``) replaced.

    Raises:
        Unreadable: ``data`` is not of that form.
        Unwritable: The form or the file's encoding cannot hold a value; nothing was changed.
    """
    written = _put(form, data, at, changes)
    now = {spot.where: spot.text for spot in list_values(form, written, at)}
    if any(now.get(where) != text for where, text in changes.items()):
        raise Unwritable("would hold another value once it is written")
    return written


def _put(form: str, data: bytes, at: str, changes: Mapping[str, str]) -> bytes:
    if form in _PUT:
        return _PUT[form](data, at, changes)
    for where, text in changes.items():
        data = write_value(form, data, where, text)
    return data


# Ini


def _in_ini(data: bytes, at: str) -> list[Spot]:
    section, _, key = at.rpartition("/")
    found: dict[str, Spot] = {}
    current = ""
    for number, line in enumerate(decode(data)[0].splitlines(), start=1):
        text = line.strip()
        if text.startswith("[") and "]" in text:
            current = text[1 : text.index("]")].strip()
        elif text and text[0] not in ";#" and "=" in text and name_matches(current, section):
            name, _, value = text.partition("=")
            where = f"{current}/{name.strip()}" if current else name.strip()
            if name_matches(name.strip(), key) and where.casefold() not in found:
                found[where.casefold()] = Spot(where, unquoted(value.strip()), number)
    return list(found.values())


def name_matches(name: str, pattern: str) -> bool:
    """Return whether a name is what a pattern says, in which only ``*`` stands for others."""
    plain = pattern.casefold().replace("[", "[[]")
    return fnmatchcase(name.casefold(), plain.replace("?", "[?]"))


# Trees


def _in_tree(form: str, data: bytes, at: str) -> list[Spot]:
    pointer = at if not at or at.startswith("/") else f"/{at}"
    found = _pointed(parse_tree(form, data), pointer_names(pointer), "")
    several = len(found) > LINES_OF or len(data) > LINES_MOST
    return [Spot(w, t, 0 if several else line_of(form, data, w)) for w, t in found]


def _pointed(node: Raw, tokens: list[str], here: str) -> list[tuple[str, str]]:
    if not tokens:
        if isinstance(node, list):
            return [(f"{here}/{n}", v) for n, v in enumerate(node) if isinstance(v, str)]
        return [(here, node)] if isinstance(node, str) else []
    wanted, rest = tokens[0], tokens[1:]
    members: dict[str, Raw] = {}
    if isinstance(node, dict):
        members = node
    elif isinstance(node, list):
        members = {str(n): value for n, value in enumerate(node)}
    found = []
    for name, value in members.items():
        if wanted in (ANYTHING, name):
            found += _pointed(value, rest, pointer_to(here, name))
    return found


def _put_plist(data: bytes, at: str, changes: Mapping[str, str]) -> bytes:
    document: Any = plistlib.loads(data)
    for where, text in changes.items():
        *above, last = pointer_names(where)
        holder = document
        for token in above:
            holder = holder[int(token) if isinstance(holder, list) else token]
        holder[int(last) if isinstance(holder, list) else last] = text
    return dump_plist(document, data)


def dump_plist(document: Any, like: bytes) -> bytes:
    """Return a property list in the form, XML or binary, that ``like`` has.

    Raises:
        Unwritable: A property list cannot hold it.
    """
    binary = like.startswith(b"bplist")
    form = plistlib.FMT_BINARY if binary else plistlib.FMT_XML
    try:
        return plistlib.dumps(document, fmt=form, sort_keys=False)
    except (TypeError, ValueError, OverflowError) as error:
        raise Unwritable(f"is a property list, which cannot hold it: {error}") from error


def _put_yaml(data: bytes, at: str, changes: Mapping[str, str]) -> bytes:
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
    return encode(head + _spliced(marked, spans), codec, data)


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


# XML


def _xml(data: bytes, at: str) -> tuple[Any, list[Any]]:
    from widetrail.formats.xml import find_xml

    return find_xml(data, at)


def _in_xml(data: bytes, at: str) -> list[Spot]:
    found = []
    for number, match in enumerate(_xml(data, at)[1]):
        element = match if hasattr(match, "tag") else getattr(match, "getparent", lambda: None)()
        if element is not None and not len(match if hasattr(match, "tag") else ()):
            text = (match.text or "") if hasattr(match, "tag") else str(match)
            found.append(Spot(str(number), text, element.sourceline or 0))
    return found


def _put_xml(data: bytes, at: str, changes: Mapping[str, str]) -> bytes:
    from lxml import etree

    tree, matches = _xml(data, at)
    try:
        for where, text in changes.items():
            match = matches[int(where)]
            if hasattr(match, "tag"):
                match.text = text
            elif match.is_attribute:
                match.getparent().set(match.attrname, text)
            elif match.is_text:
                match.getparent().text = text
            else:
                match.getparent().tail = text
    except ValueError as error:
        raise Unwritable(f"is XML, which cannot hold it: {error}") from error
    text, codec = decode(data)
    before = _BEFORE.match(text)
    assert before is not None
    root = tree.getroot()
    nodes = [root, *root.itersiblings()]
    inner = "\n".join(etree.tostring(n, encoding="unicode", with_tail=False) for n in nodes)
    if "\r\n" in text:
        inner = inner.replace("\n", "\r\n")
    whole = f"{before[0]}{inner}{text[text.rindex('>') + 1 :]}"
    named = re.search(r"""<\?xml[^>]*encoding\s*=\s*["']([\w.-]+)""", before[0])
    if codec in ("utf-16", "utf-8-sig"):
        return encode(whole, codec, data)
    try:
        return whole.encode(named[1] if named else "utf-8")
    except (LookupError, UnicodeEncodeError) as error:
        raise Unwritable("is XML in an encoding that lacks a character of it") from error


_BEFORE = re.compile(r"\ufeff?(?:\s|<\?(?:(?!\?>).)*+\?>|<!--(?:(?!-->).)*+-->)*+", re.DOTALL)
"""What may stand before the root element of a document (XML 1.0, production 22)."""


# Text


def _in_text(data: bytes, at: str) -> list[Spot]:
    text = decode(data)[0]
    spans = _spans(text, at)
    return [
        Spot(str(number), text[begin:end], text.count("\n", 0, begin) + 1)
        for number, (begin, end) in enumerate(spans)
    ]


def _spans(text: str, at: str) -> list[tuple[int, int]]:
    """Return where the group of each match begins and ends, without a line's own end."""
    found = (match.span(1) for match in _expression(at).finditer(text))
    return [(b, e - text[b:e].endswith("\r")) for b, e in found if b >= 0]


def _put_text(data: bytes, at: str, changes: Mapping[str, str]) -> bytes:
    text, codec = decode(data)
    spans = _spans(text, at)
    told = [(*spans[int(where)], new) for where, new in changes.items()]
    return encode(_spliced(text, told), codec, data)


def _expression(at: str) -> re.Pattern[str]:
    try:
        expression = re.compile(at, re.MULTILINE)
    except (re.error, OverflowError, RecursionError) as error:
        raise Unreadable(f"cannot be searched for {at}: {error}") from error
    if expression.groups < 1:
        raise Unreadable(f"cannot be searched for {at}: it has no group")
    return expression


def _spliced(text: str, spans: list[tuple[int, int, str]]) -> str:
    for begin, end, told in sorted(spans, reverse=True):
        text = text[:begin] + told + text[end:]
    return text


# Registry texts


def _in_reg(data: bytes, at: str) -> list[Spot]:
    wanted, _, pattern = at.rpartition("\\")
    found = []
    for key in RegistryText(data).keys.values():
        if not name_matches(key.path, wanted):
            continue
        for value in key.values.values():
            if name_matches(value.name or "@", pattern):
                found += registry_spots(key.path, value)
    return found


def registry_spots(key: str, value: RegistryValue) -> list[Spot]:
    """Return the texts of a registry value: one, or those of a list."""
    where, plain = f"{key}\\{value.name or '@'}", value.plain
    if value.type in ("REG_SZ", "REG_EXPAND_SZ", "REG_LINK") and isinstance(plain, str):
        return [Spot(where, plain, value.line)]
    if value.type == "REG_MULTI_SZ" and isinstance(plain, list):
        return [Spot(f"{where}\0{n}", str(text), value.line) for n, text in enumerate(plain)]
    return []


def changed_value(value: RegistryValue, key: str, changes: Mapping[str, str]) -> RegistryValue:
    """Return a registry value with its texts changed; its type stays."""
    spots = registry_spots(key, value)
    texts = [changes.get(spot.where, spot.text) for spot in spots]
    if not spots or texts == [spot.text for spot in spots]:
        return value
    if value.type == "REG_MULTI_SZ":
        data = ("\0".join(texts) + "\0\0").encode("utf-16-le", "surrogatepass")
    else:
        data = f"{texts[0]}\0".encode("utf-16-le", "surrogatepass")
    return RegistryValue(value.name, value.type, data)


def _put_reg(data: bytes, at: str, changes: Mapping[str, str]) -> bytes:
    edits = []
    for key in RegistryText(data).keys.values():
        for value in key.values.values():
            now = changed_value(value, key.path, changes)
            if now is not value:
                edits.append(Edit(key.path, value.name, now))
    return edit_registry(data, edits)


_LISTED: dict[str, Callable[[bytes, str], list[Spot]]] = {
    "ini": _in_ini,
    "xml": _in_xml,
    "text": _in_text,
    "reg": _in_reg,
}
_PUT: dict[str, Callable[[bytes, str, Mapping[str, str]], bytes]] = {
    "plist": _put_plist,
    "yaml": _put_yaml,
    "xml": _put_xml,
    "text": _put_text,
    "reg": _put_reg,
}
