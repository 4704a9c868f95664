"""Ini files: ``[section]``, ``key = value``, comments with ``;`` or ``#``.

There is no standard; this follows what the profile functions of Windows and most toolkits
accept: sections and keys are compared without case, white space around them does not count, a
value in double quotes is taken without them, the first of two equal keys counts.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from fnmatch import fnmatchcase

from widetrail.formats.form import (
    Entry,
    Form,
    NamedValues,
    insist_held,
    name_matches,
    put_each,
    spliced,
)
from widetrail.formats.interface import Located, NotThere, Raw, Scalar, Spot, Unwritable
from widetrail.formats.texts import decode, encode
from widetrail.lazily import dataclass


def read_ini(data: bytes, at: str) -> Located:
    """Return the value at ``section/key`` (``key`` alone: before the first section).

    Raises:
        NotThere: There is no such section or key.
    """
    section, _, key = at.rpartition("/")
    seen = not section
    for line, current, name, value in _keys(decode(data)[0]):
        if name is None:
            seen = seen or _same(current, section)
        elif _same(current, section) and _same(name.strip(), key):
            return Located(_unquoted(value.strip()), line.number)
    missing = f'has no key "{key}" in [{section}]' if seen else f"has no section [{section}]"
    raise NotThere(missing)


def ini_sections(data: bytes, pattern: str) -> list[dict[str, str]]:
    """Return each section whose name matches the glob ``pattern``, as its keys and values.

    Keys are in small letters; the name of the section stands under ``[]``.
    """
    found: list[dict[str, str]] = []
    current: dict[str, str] | None = None
    for _, section, key, value in _keys(decode(data)[0]):
        if key is None:
            matches = fnmatchcase(section.casefold(), pattern.casefold())
            current = {"[]": section} if matches else None
            if current is not None:
                found.append(current)
        elif current is not None:
            current.setdefault(key.strip().casefold(), _unquoted(value.strip()))
    return found


def _same(one: str, other: str) -> bool:
    return one.casefold() == other.casefold()


def _unquoted(value: str) -> str:
    """Return a value without the double quotes around it, if it has both."""
    if len(value) > 1 and value[0] == value[-1] == '"':
        return value[1:-1]
    return value


def read(data: bytes, at: str) -> list[Located]:
    """Return the value at ``section/key``."""
    return [read_ini(data, at)]


def value(data: bytes, at: str) -> Raw:
    """Return the value at ``section/key``."""
    return read_ini(data, at).value


def entries(data: bytes, at: str) -> list[Entry]:
    """Return the sections that a glob names."""
    return list(ini_sections(data, at))


def entry_at(at: str, name: str) -> str:
    """Return where the value of a name stands in all sections that a glob names."""
    return f"{at}/{name}"


def spots(data: bytes, at: str) -> list[Spot]:
    """Return the values at ``section/key``, in which ``*`` stands for any characters."""
    section, _, key = at.rpartition("/")
    found: dict[str, Spot] = {}
    for line, current, name, value in _keys(decode(data)[0]):
        if name is None or not name_matches(current, section):
            continue
        where = f"{current}/{name.strip()}" if current else name.strip()
        if name_matches(name.strip(), key) and where.casefold() not in found:
            found[where.casefold()] = Spot(where, _unquoted(value.strip()), line.number)
    return list(found.values())


def put(data: bytes, at: str, changes: Mapping[str, str]) -> bytes:
    """Return the file with other values at the places of ``changes``."""
    return insist_held(put_each(data, changes, add), spots, at, changes)


def add(data: bytes, at: str, scalar: Scalar) -> bytes:
    """Return the file with a value; a key and a section that are missing are added.

    Raises:
        Unwritable: It is not a line, or the file's encoding cannot hold it.
    """
    text, codec = decode(data)
    written = encode(_with_value(text, at, str(scalar), _as_ini), codec, data)
    if value(written, at) != str(scalar):
        raise Unwritable("holds another value once it is written as ini")
    return written


@dataclass(frozen=True)
class _Line:
    """A line of a text: where it begins and ends, where the next one begins, and its number."""

    start: int
    end: int
    after: int
    number: int = 0


def _lines(text: str) -> list[_Line]:
    """Return the lines of a text as ``str.splitlines`` has them."""
    found, at = [], 0
    for number, whole in enumerate(text.splitlines(keepends=True), start=1):
        bare = whole.splitlines()[0]
        found.append(_Line(at, at + len(bare), at + len(whole), number))
        at += len(whole)
    return found


def _with_value(text: str, at: str, told: str, as_written: Callable[[str, str], str]) -> str:
    """Return an ini file with the value at ``section/key``, which is added where it is missing.

    ``as_written`` is told the value and what is written there now, and says what is written.

    Raises:
        Unwritable: The value is not one line.
    """
    if len(f"{told}.".splitlines()) > 1:
        raise Unwritable("is an ini file, where a value is one line")
    section, _, key = at.rpartition("/")
    last = None if section else _Line(0, 0, 0)
    styles: dict[bool, str] = {}
    """How the first key is set, in the section and anywhere."""
    for line, current, name, old in _keys(text):
        if name is None:
            last = line if _same(current, section) and last is None else last
            continue
        content = text[line.start : line.end]
        if _same(current, section):
            if _same(name.strip(), key):
                begin = line.start + len(name) + 1 + len(old) - len(old.lstrip())
                end = line.start + len(content.rstrip())
                begin = min(begin, line.end) if old.strip() else line.start + len(name) + 1
                end = max(begin, end)
                return text[:begin] + as_written(told, text[begin:end]) + text[end:]
            last = line
        spaced = name != name.rstrip() and old != old.lstrip()
        for where in {False, _same(current, section)}:
            styles.setdefault(where, " = " if spaced else "=")
    ends = "\r\n" if "\r\n" in text else "\n"
    equals = styles.get(True, styles.get(False, "="))
    line_text = f"{key}{equals}{as_written(told, '')}{ends}"
    if last is None:
        gap = "" if not text or text.endswith(("\n", "\r")) else ends
        return f"{text}{gap}[{section}]{ends}{line_text}"
    before = text[: last.after]
    gap = "" if not before or before.endswith(("\n", "\r")) else ends
    return f"{before}{gap}{line_text}{text[last.after :]}"


def _keys(text: str) -> Iterator[tuple[_Line, str, str | None, str]]:
    """Give each line that has a section's name or a key: its section, and the key and value as they
    stand there, or ``None``."""
    current = ""
    for line in _lines(text):
        content = text[line.start : line.end]
        stripped = content.strip()
        if stripped.startswith("[") and "]" in stripped:
            current = stripped[1 : stripped.index("]")].strip()
            yield line, current, None, ""
        elif stripped and stripped[0] not in ";#" and "=" in stripped:
            name, _, value = content.partition("=")
            yield line, current, name, value


def written_values(data: bytes) -> dict[str, str]:
    """Return all values as they are written, by ``section/key``; of equal keys the first counts."""
    found: dict[str, tuple[str, str]] = {}
    for where, value, _ in written_lines(data):
        found.setdefault(where.casefold(), (where, value))
    return dict(found.values())


def written_lines(data: bytes) -> Iterator[tuple[str, str, int]]:
    """Give each ``section/key`` with its value as it is written, and its line."""
    for line, section, name, value in _keys(decode(data)[0]):
        if name is not None:
            where = f"{section}/{name.strip()}" if section else name.strip()
            yield where, value.strip(), line.number


def change_written(data: bytes, changes: Mapping[str, str | None]) -> bytes:
    """Return the file with values set as they are written, or gone.

    Raises:
        Unwritable: It cannot hold one.
    """
    text, codec = decode(data)
    for where, told in changes.items():
        if told is None:
            text = _without(text, where)
        else:
            text = _with_value(text, where, told, lambda value, _: value)
    return encode(text, codec, data)


def _without(text: str, at: str) -> str:
    section, _, key = at.rpartition("/")
    gone = [
        line
        for line, current, name, _ in _keys(text)
        if name is not None and _same(current, section) and _same(name.strip(), key)
    ]
    return spliced(text, [(line.start, line.after, "") for line in gone])


def _as_ini(value: str, old: str) -> str:
    """Return a value as it stands in an ini file, in quotes where the old one or the value asks."""
    quoted = len(old) > 1 and old[0] == old[-1] == '"'
    looks_quoted = len(value) > 1 and value[0] == value[-1] == '"'
    return f'"{value}"' if quoted or looks_quoted or value != value.strip() else value


INI = Form(
    "ini",
    "pointer",
    tells=True,
    folds_names=True,
    read=read,
    spots=spots,
    put=put,
    value=value,
    add=add,
    entries=entries,
    entry_at=entry_at,
    named=NamedValues(written_values, change_written, folds_names=True),
)
