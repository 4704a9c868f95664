"""Ini files as Qt programs write them (QSettings): ``at`` is the program's own ``group/…/key``.

A list stands in one value; characters are escaped; a group within another is part of the key. What
is not changed stays as it is written.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping

from widetrail.formats.form import Entry, Form, NamedValues, insist_held, name_matches
from widetrail.formats.ini import change_written, written_lines, written_values
from widetrail.formats.interface import Located, NotThere, Raw, Scalar, Spot, Unreadable, Unwritable
from widetrail.formats.qt_values import (
    as_text,
    held,
    name_of,
    parse_list,
    write_list,
    written_name,
)
from widetrail.formats.trees import pointer_to


def _keys(data: bytes) -> Iterator[tuple[str, str, str, int]]:
    """Give each key: the program's name for it, where it stands, its value there, and its line."""
    for where, raw, line in written_lines(data):
        section, _, key = where.rpartition("/")
        yield name_of(section, key), where, raw, line


def _found(data: bytes, at: str) -> tuple[str, str, int]:
    wanted = at.casefold()
    for name, where, raw, line in _keys(data):
        if name.casefold() == wanted:
            return where, raw, line
    raise NotThere(f'has no key "{at}"')


def read(data: bytes, at: str) -> list[Located]:
    """Return the value of a key; a list where it is one."""
    _, raw, line = _found(data, at)
    return [Located(held(parse_list(raw)).value, line)]


def value(data: bytes, at: str) -> Raw:
    """Return the value of a key."""
    return read(data, at)[0].value


def entries(data: bytes, at: str) -> list[Entry]:
    """Return the entries of an array (``beginWriteArray``), in order, by the keys of each."""
    found: dict[int, dict[str, Raw]] = {}
    for name, _, raw, _ in _keys(data):
        inner = re.fullmatch(rf"{re.escape(at)}/(\d{{1,9}})/(.+)", name, re.IGNORECASE)
        if inner:
            found.setdefault(int(inner[1]), {})[inner[2]] = held(parse_list(raw)).value
    return [found[number] for number in sorted(found)]


def entry_at(at: str, name: str) -> str:
    """Return where the value of a name stands in all entries of an array."""
    return f"{at}/*/{name}"


def spots(data: bytes, at: str) -> list[Spot]:
    """Return the texts of the values of a key, in which ``*`` stands for any characters."""
    found: dict[str, Spot] = {}
    for name, _, raw, line in _keys(data):
        if not name_matches(name, at) or name.casefold() in found:
            continue
        try:
            texts = held(parse_list(raw)).texts
        except Unreadable:
            continue  # the scan for old paths sees what is in it
        for where, text in zip(_wheres(name, len(texts)), texts, strict=True):
            found[where.casefold()] = Spot(where, text, line)
    return list(found.values())


def _wheres(name: str, count: int) -> list[str]:
    """Return where the texts of a value stand: at its name, or several at their numbers."""
    return [name] if count == 1 else [pointer_to(name, str(number)) for number in range(count)]


def put(data: bytes, at: str, changes: Mapping[str, str]) -> bytes:
    """Return the file with other texts at the places of ``changes``."""
    raw_changes: dict[str, str | None] = {}
    ascii_only = data.isascii()
    for name, where, raw, _ in _keys(data):
        if where in raw_changes or not name_matches(name, at):
            continue
        told = held(parse_list(raw)) if _may_change(name, changes) else None
        if told is None:
            continue
        wheres = _wheres(name, len(told.texts))
        new = [changes.get(w, text) for w, text in zip(wheres, told.texts, strict=True)]
        if new != list(told.texts):
            raw_changes[where] = write_list(told.with_texts(new), ascii_only=ascii_only)
    return insist_held(change_written(data, raw_changes), spots, at, changes)


def _may_change(name: str, changes: Mapping[str, str]) -> bool:
    return any(where == name or where.startswith(f"{name}/") for where in changes)


def add(data: bytes, at: str, scalar: Scalar) -> bytes:
    """Return the file with a value; a key and a group that are missing are added."""
    told = write_list([as_text(scalar)], ascii_only=data.isascii())
    written = _change(data, {at: told})
    now = value(written, at)
    if now != (scalar if scalar is None else as_text(scalar).removeprefix("@")):
        raise Unwritable("holds another value once it is written as Qt does")
    return written


def _named(data: bytes) -> dict[str, str]:
    found: dict[str, tuple[str, str]] = {}
    for where, raw in written_values(data).items():
        section, _, key = where.rpartition("/")
        name = name_of(section, key)
        found.setdefault(name.casefold(), (name, write_list(parse_list(raw))))
    return dict(found.values())


def _change(data: bytes, changes: Mapping[str, str | None]) -> bytes:
    there = {name.casefold(): where for name, where, _, _ in _keys(data)}
    told = {there.get(name.casefold(), written_name(name)): raw for name, raw in changes.items()}
    return change_written(data, told)


QT_INI = Form(
    "qt_ini",
    "pointer",
    tells=True,
    folds_names=True,
    one_is_list=True,
    read=read,
    spots=spots,
    put=put,
    value=value,
    add=add,
    entries=entries,
    entry_at=entry_at,
    named=NamedValues(_named, _change, folds_names=True),
)
