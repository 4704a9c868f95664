"""The parts of what a program keeps: files, and the values in them and in the system's stores."""

from __future__ import annotations

import os
import shutil
from collections import Counter, defaultdict
from collections.abc import Callable, Iterable, Iterator, Mapping

from widetrail.errors import MachineUnusable
from widetrail.finding.stores import (
    Store,
    StoreKind,
    file_with,
    is_value,
    shown_name,
    texts_of,
    with_texts,
)
from widetrail.formats import Unreadable
from widetrail.formats.companions import SQLITE
from widetrail.formats.forms import FORMS
from widetrail.formats.interface import Unwritable
from widetrail.formats.parser_process import ask, ask_form
from widetrail.machine import FolderMachine, Machine
from widetrail.machine.host import READ_MOST
from widetrail.machine.paths import base
from widetrail.tracing.lists import any_entry, inner_texts
from widetrail.tracing.record import Part

VALUES_MOST = 1024 * 1024
"""Bytes of a file whose values are looked at one by one."""

RECORDS = 3
"""Files with values of the same names that are records of data, at least."""

_HIVE = "HKEY_CURRENT_USER"
_SUFFIXES: dict[str, StoreKind] = {
    "json": "json",
    "toml": "toml",
    "yaml": "yaml",
    "yml": "yaml",
    "plist": "plist",
    "xml": "xml",
    "ini": "ini",
    "conf": "ini",
    "cfg": "ini",
}


def form_of(path: str, data: bytes) -> StoreKind | None:
    """Return the form of a file that holds values by name, or ``None``.

    Its name suggests one, its contents decide: a file that cannot be read as it is none.
    """
    for form in _suggested(path, data):
        if _values(form, data):
            return form
    return None


def _suggested(path: str, data: bytes) -> Iterator[StoreKind]:
    if len(data) > VALUES_MOST or data.startswith(SQLITE):
        return
    named = _SUFFIXES.get(base(path).rpartition(".")[2].casefold())
    begins = data.lstrip(b"\xef\xbb\xbf \t\r\n")[:1]
    if data.startswith(b"bplist") or b"<plist" in data[:1000]:
        yield "plist"
    elif named is not None:
        yield named
    elif begins == b"{":
        yield "json"
    elif begins != b"<" and b"\0" not in data and _mostly_assigns(data):
        yield "ini"


def _mostly_assigns(data: bytes) -> bool:
    lines = [line.strip() for line in data.splitlines()]
    told = [x for x in lines if x and not x.startswith((b"#", b";", b"["))]
    return bool(told) and all(b"=" in line for line in told)


def _values(form: StoreKind, data: bytes) -> dict[str, str]:
    named = FORMS[form].named
    assert named is not None, "only such forms are suggested"
    try:
        return ask(named.read, data)
    except Unreadable:
        return {}


def values_in(form: StoreKind, data: bytes) -> dict[str, str]:
    """Return the values of a file as texts that people read, by where they stand."""
    found = {}
    for at, literal in _values(form, data).items():
        found[at] = _plain(form, data, at, literal)
    return found


def _plain(form: StoreKind, data: bytes, at: str, literal: str) -> str:
    read = FORMS[form].read
    assert read is not None, "a form of named values is read"
    try:
        value = ask_form(FORMS[form], read, data, at)[0].value
    except (Unreadable, IndexError):
        return literal
    if isinstance(value, bool) or value is None:
        return literal
    return str(value) if isinstance(value, str | int | float) else literal


def _stores_of(machine: Machine) -> Iterator[Store]:
    """Give the system's stores that the account has."""
    for kind, place in (("registry", _HIVE), ("dconf", "/")):
        if kind in machine.rules.stores:
            yield Store(machine, kind, place)


def store_values(machine: Machine) -> dict[Part, str]:
    """Return the texts of all values in the system's stores of the account."""
    found = {}
    for store in _stores_of(machine):
        try:
            for name, text in store.read().items():
                if is_value(name):
                    found[Part(store.place, store.kind, name)] = _told(store, name, text)
        except (Unreadable, MachineUnusable):
            continue
    return found


def _told(store: Store, name: str, text: str) -> str:
    kind, _, data = text.partition(":")
    if store.kind == "registry" and kind in ("REG_DWORD", "REG_QWORD"):
        return str(int.from_bytes(bytes.fromhex(data), "little"))
    spots = texts_of(store.kind, store.place, name, text)
    return spots[0].text if len(spots) == 1 else text


def shown(part: Part) -> str:
    """Return a part as people and recipes name it."""
    if part.is_file:
        return part.path
    if part.form == "registry":
        return f"{part.path}\\{shown_name('registry', part.at)}".replace("/", "\\")
    return part.at if part.form == "dconf" else f"{part.path} {part.at}"


def value_parts(machine: Machine, path: str) -> dict[Part, str]:
    """Return the values of a file of the machine; none of one that holds none by name."""
    return _parts(machine, path, values_in)


def texts_in_lists(machine: Machine, path: str) -> dict[Part, str]:
    """Return the texts in the lists that values of a file of the machine are."""
    return _parts(machine, path, inner_texts)


def _parts(
    machine: Machine, path: str, read: Callable[[StoreKind, bytes], dict[str, str]]
) -> dict[Part, str]:
    data = data_of(machine, path)
    form = form_of(path, data)
    if form is None:
        return {}
    return {Part(path, form, at): text for at, text in read(form, data).items()}


def settings_among(machine: Machine, paths: Iterable[str]) -> set[str]:
    """Return the paths of files that hold values by name, but for those of which several end alike
    and have values of the same names: these are records."""
    shapes: dict[str, tuple[str, frozenset[str]]] = {}
    for path in paths:
        if names := frozenset(part.at for part in value_parts(machine, path)):
            shapes[path] = (base(path).rpartition(".")[2], names)
    counted = Counter(shapes.values())
    return {path for path, shape in shapes.items() if counted[shape] < RECORDS}


def data_of(machine: Machine, path: str) -> bytes:
    """Return the bytes of a file; none of one that is too large, gone, or no plain file."""
    try:
        return machine.read(path, READ_MOST)
    except MachineUnusable:
        return b""


def take_away(machine: FolderMachine, parts: Iterable[Part]) -> None:
    """Take parts away from a copy of a machine; what is not there or cannot go is passed."""
    values: dict[tuple[str, str], list[str]] = defaultdict(list)
    for part in parts:
        if part.is_file:
            _remove(str(machine.host(part.path)))
        else:
            values[part.path, part.form].append(part.at)
    for (path, form), names in values.items():
        change_values(machine, path, form, dict.fromkeys(names))


def _remove(path: str) -> None:
    if os.path.isdir(path) and not os.path.islink(path):  # noqa: PTH112, PTH114
        shutil.rmtree(path, ignore_errors=True)
    elif os.path.lexists(path):
        os.unlink(path)  # noqa: PTH108


def change_values(
    machine: FolderMachine, path: str, form: str, changes: dict[str, str | None]
) -> None:
    """Change values of a copy of a machine, one after the other; what cannot be is passed."""
    if form in ("registry", "dconf"):
        store = Store(machine, form, path)  # type: ignore[arg-type]
        try:
            store.change(_as_stored(store, changes))
        except (Unreadable, Unwritable):
            return
        return
    data = data_of(machine, path)
    known = set(_values(form, data))  # type: ignore[arg-type]
    for at, text in changes.items():
        try:
            if text is None:
                gone: dict[str, str | None] = {at: None} if at in known else {}
                data = file_with(form, data, gone)  # type: ignore[arg-type]
            else:
                data = _with(form, data, at, text)  # type: ignore[arg-type]
        except (Unreadable, Unwritable):
            continue
    if machine.look(path) is not None:
        machine.host(path).write_bytes(data)


def _as_stored(store: Store, changes: Mapping[str, str | None]) -> dict[str, str | None]:
    """Return texts as a store has them, each of the type that its value has there."""
    there, found = store.read(), dict[str, str | None]()
    for name, text in changes.items():
        spots = texts_of(store.kind, store.place, name, there.get(name, ""))
        if text is None or not spots:
            found[name] = None if text is None else there.get(name)
        else:
            now = {spots[0].where: text}
            found[name] = with_texts(store.kind, store.place, name, there[name], now)
    return found


def _with(form: StoreKind, data: bytes, at: str, text: str) -> bytes:
    known = FORMS[form]
    if known.add is not None and at in _values(form, data):
        return ask_form(known, known.add, data, at, text)
    if known.put is None or known.spots is None:
        raise Unwritable("has no values that can be set")
    pattern = at if form == "xml" else any_entry(form, at)
    there = [spot.where for spot in ask_form(known, known.spots, data, pattern)]
    mine = [where for where in there if where == at] or there
    return ask_form(known, known.put, data, pattern, dict.fromkeys(mine, text))
