"""Documents that are trees: JSON, YAML, TOML and property lists, addressed by pointers.

A pointer is a JSON Pointer (RFC 6901); a key path of a property list is the same without the
leading ``/``.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping
from datetime import date, datetime, time

import yaml

from widetrail.formats.flaws import flaw
from widetrail.formats.form import Entry
from widetrail.formats.interface import Located, NotThere, Raw, Spot, Unreadable
from widetrail.formats.texts import decode
from widetrail.lazily import dataclass

Parse = Callable[[bytes], Raw]
LineOf = Callable[[bytes, str], int]
"""Told a document and a pointer; returns the line of the value there, or 0."""

ANYTHING = "*"
"""In a pointer, every member."""

DEEP = "**"
"""In a pointer that is read, any number of members on the way."""

LINES_OF = 200
"""Values of one file whose lines are looked for, at most."""


def pointer_names(pointer: str) -> list[str]:
    """Return the names that a pointer holds, in order (RFC 6901, section 4)."""
    return [t.replace("~1", "/").replace("~0", "~") for t in pointer.split("/")[1:]]


def pointer_to(above: str, name: str) -> str:
    """Return the pointer to a name below what ``above`` points to (RFC 6901, section 3)."""
    return f"{above}/{name.replace('~', '~0').replace('/', '~1')}"


def first_line(error: Exception) -> str:
    return (str(error).splitlines() or [type(error).__name__])[0][:200]


def plain(value: object, depth: int = 0) -> Raw:
    if depth > 200:
        raise Unreadable("is nested more than 200 deep")
    match value:
        case None | bool() | int() | float() | str():
            return value
        case bytes():
            return value.hex()
        case dict():
            return {str(k): plain(v, depth + 1) for k, v in value.items()}
        case list() | tuple():
            return [plain(v, depth + 1) for v in value]
        case datetime() | date() | time():
            return value.isoformat()
    return str(value)


@dataclass(frozen=True)
class Tree:
    """How the documents of one form are read, whose places are pointers.

    ``parse`` gives a whole document, ``line_of`` the line of a value; both are functions of a
    module, so that a method of this can be asked within bounds. ``pointer`` makes a pointer of what
    the form takes for one.
    """

    parse: Parse
    line_of: LineOf
    pointer: Callable[[str], str] = str

    def read(self, data: bytes, at: str) -> list[Located]:
        """Return the value that a pointer leads to; where it has ``*`` or ``**``, the list of all.

        Raises:
            Unreadable: It is not a document of that form.
            NotThere: Nothing stands there, or nothing on the way to the first ``*``.
        """
        pointer = self.pointer(at)
        names = pointer_names(pointer) if pointer.startswith("/") else []
        first = next((n for n, name in enumerate(names) if name in (ANYTHING, DEEP)), None)
        if first is not None:
            above = "/".join(pointer.split("/")[: first + 1])
            found = _below(follow_pointer(self.parse(data), above), names[first:], "", deep=True)
            return [Located(list(found.values()), 0)]
        value = self.value(data, at)
        line = self.line_of(data, self.pointer(at)) if len(data) < LINES_MOST else 0
        return [Located(value, line)]

    def value(self, data: bytes, at: str) -> Raw:
        """Return what a pointer leads to."""
        return follow_pointer(self.parse(data), self.pointer(at))

    def spots(self, data: bytes, at: str) -> list[Spot]:
        """Return the texts that a pointer leads to, in which ``*`` stands for any member."""
        names = pointer_names(slashed(at))
        found = list(_texts(_below(self.parse(data), names, "", deep=False)))
        several = len(found) > LINES_OF or len(data) > LINES_MOST
        return [Spot(w, t, 0 if several else self.line_of(data, w)) for w, t in found]

    def entries(self, data: bytes, at: str) -> list[Entry]:
        """Return the entries of an index."""
        return list(_listed(self.value(data, at)))


def slashed(at: str) -> str:
    """Return a pointer, of which the first ``/`` may be missing."""
    return at if not at or at.startswith("/") else f"/{at}"


LINES_MOST = 1024 * 1024
"""Bytes of a document in which the line of a value is looked for, at most."""


def no_line(data: bytes, pointer: str) -> int:
    """Return 0: the form has no lines."""
    return 0


def line_in_yaml(data: bytes, pointer: str) -> int:
    """Return the line of a value of a YAML or JSON document, or 0 where it is not found."""
    try:  # JSON but for its tabs is YAML too
        node = yaml.compose(decode(data)[0].replace("\t", " "), Loader=yaml.CSafeLoader)
    except (yaml.YAMLError, ValueError, RecursionError):
        return 0
    for token in pointer_names(pointer):
        node = _inner(node, token)
    mark = getattr(node, "start_mark", None)
    return mark.line + 1 if mark is not None else 0


def _inner(node: object, token: str) -> yaml.Node | None:
    if isinstance(node, yaml.MappingNode):
        return next((v for k, v in node.value if getattr(k, "value", None) == token), None)
    if isinstance(node, yaml.SequenceNode) and token.isdigit() and int(token) < len(node.value):
        found: yaml.Node = node.value[int(token)]
        return found
    return None


def follow_pointer(document: Raw, pointer: str) -> Raw:
    """Return what the JSON Pointer leads to.

    Raises:
        Unreadable: The pointer is malformed.
        NotThere: Nothing stands there.
    """
    if pointer and not pointer.startswith("/"):
        raise Unreadable(_NO_POINTER.format(pointer))
    node = document
    for token in pointer_names(pointer):
        if isinstance(node, dict) and token in node:
            node = node[token]
        elif isinstance(node, list) and re.fullmatch(r"0|[1-9]\d{0,9}", token):
            if int(token) >= len(node):
                raise NotThere(f"has only {len(node)} entries on the way to {pointer}")
            node = node[int(token)]
        else:
            raise NotThere(f'has no "{token}" on the way to {pointer}')
    return node


def _members(node: Raw) -> Mapping[str, Raw]:
    """Return what is right below a mapping or list, by name."""
    if isinstance(node, list):
        return {str(number): value for number, value in enumerate(node)}
    return node if isinstance(node, dict) else {}


def _below(node: Raw, names: list[str], here: str, *, deep: bool) -> dict[str, Raw]:
    """Return all that names lead to, by where it stands, in the order of the document.

    ``deep`` tells that ``**`` stands for any number of members.
    """
    if not names:
        return {here: node}
    wanted, rest = names[0], names[1:]
    any_depth = deep and wanted == DEEP
    found: dict[str, Raw] = _below(node, rest, here, deep=deep) if any_depth else {}
    for name, value in _members(node).items():
        if any_depth or wanted in (ANYTHING, name):
            left = names if any_depth else rest
            found |= _below(value, left, pointer_to(here, name), deep=deep)
    return found


def _texts(found: Mapping[str, Raw]) -> Iterator[tuple[str, str]]:
    """Give the texts among values and right in lists among them, with where each stands."""
    for here, value in found.items():
        if isinstance(value, str):
            yield here, value
        elif isinstance(value, list):
            yield from ((f"{here}/{n}", v) for n, v in enumerate(value) if isinstance(v, str))


def _listed(value: Raw) -> list[dict[str, Raw]]:
    """Return the entries of an index: those of a list, or of a mapping with their keys as ``key``.

    Raises:
        Unreadable: It is neither.
    """
    if isinstance(value, dict):
        return [{"key": k, **v} for k, v in value.items() if isinstance(v, dict)]
    if isinstance(value, list):
        return [entry for entry in value if isinstance(entry, dict)]
    raise Unreadable("holds no list of folders there")


def path_in_entries(at: str, name: str) -> str:
    """Return where the value of a name stands in all entries of an index at ``at``."""
    return pointer_to(f"{at}/*", name)


def pointer_tokens(pointer: str) -> list[str]:
    """Return the names that a pointer holds.

    Raises:
        Unreadable: It is none.
    """
    if not pointer.startswith("/"):
        raise Unreadable(_NO_POINTER.format(pointer))
    return pointer_names(pointer)


def check_pointer(at: str) -> str:
    """Return a pointer.

    Raises:
        PydanticCustomError: It is none.
    """
    if not at.startswith("/"):
        raise flaw("place", _NO_POINTER.format(at))
    return at


_NO_POINTER = '"{}" is not a JSON Pointer; it begins with /'
