"""Places that hold named values: registry keys, desktop settings, and settings files of which an
item takes one value and another.

Each is read as plain texts by name, so that what is taken, merged, saved and given back is the same
for all of them. Names are those below the place: a key and a value name parted by a null character
in the registry, a path with ``/`` elsewhere.
"""

from __future__ import annotations

import plistlib
import re
from collections.abc import Iterable, Mapping
from typing import Literal

from widetrail.formats import Unreadable
from widetrail.formats.dconf import (
    dconf_below,
    gvariant_texts,
    gvariant_with,
    parse_gvariant,
    write_dconf,
)
from widetrail.formats.form import NamedValues, changed_alone, name_matches
from widetrail.formats.forms import FORMS
from widetrail.formats.interface import NotThere, Spot, Unwritable
from widetrail.formats.parser_process import ask
from widetrail.formats.reg import changed_value, registry_spots
from widetrail.formats.registry import (
    ITSELF,
    Key,
    RegistryValue,
    full_key,
    registry_text,
    registry_tree,
)
from widetrail.formats.registry_writing import KEY, Edit, write_registry
from widetrail.machine import Machine
from widetrail.recipe import Globs, Item
from widetrail.recipe.places import PlaceKind

StoreKind = Literal["registry", "dconf", "plist", "ini", "qt_ini", "json", "yaml", "toml", "xml"]
"""The system's stores; else the form of the file that holds the values."""


def carried_as(kind: StoreKind) -> str:
    """Return the name of the file in which values travel: for the system's stores the text form
    that its own tool reads, else a file of their form."""
    return f"values.{'reg' if kind == 'registry' else kind}"


_MARK = "\0"


def store_kind(item: Item, place: str, kind: PlaceKind) -> StoreKind | None:
    """Return the kind of store that an item's place is, or ``None`` where it is files."""
    if kind == "key":
        return "registry"
    if kind == "dconf":
        return "dconf"
    if kind != "file":
        return None
    some = item.kind == "settings" and bool(item.take or item.leave)
    return item.values or ("plist" if some and place.endswith(".plist") else None)


def in_file(kind: StoreKind) -> bool:
    """Return whether values of that kind stand in a file, which is changed as one."""
    return kind not in ("registry", "dconf")


def folds_names(kind: StoreKind) -> bool:
    """Return whether names of values are the same whatever their case."""
    return kind == "registry" or (in_file(kind) and _named(kind).folds_names)


def _named(kind: StoreKind) -> NamedValues:
    named = FORMS[kind].named
    assert named is not None, "recipes name such forms only"
    return named


class Store:
    """The named values at one place of a machine."""

    def __init__(self, machine: Machine, kind: StoreKind, place: str) -> None:
        self.machine, self.kind, self.place = machine, kind, place

    def read(self) -> dict[str, str]:
        """Return the texts of all values by name; none where nothing is there.

        Raises:
            Unreadable: They cannot be read.
            MachineUnusable: They cannot be read.
        """
        if self.kind == "registry":
            return _of_keys(self.machine.registry.tree(self.place), full_key(self.place))
        try:
            if self.kind == "dconf":
                return dconf_below(self.machine.desktop_settings(), self.place)
            if self.machine.look(self.place) is None:
                return {}
            return decode_values(self.kind, self.machine.read(self.place), "")
        except NotThere:
            return {}

    def change(self, changes: Mapping[str, str | None]) -> None:
        """Set values, or take them away where the text is ``None``; the same again is harmless.

        Raises:
            Unreadable: There is no such store here that can be changed.
            Unwritable: It cannot hold a value.
            WideTrailError: The system refuses.
        """
        if self.kind == "dconf":
            top = self.place.strip("/")
            self.machine.edit_desktop({f"/{top}/{n}": text for n, text in changes.items()})
            return
        assert self.kind == "registry", "what stands in a file is changed as one"
        edits = [
            _edit(self.place, name, text)
            for name, text in sorted(changes.items())
            if is_value(name) or text is not None
        ]
        self.machine.registry.edit(edits)
        gone = (name for name, text in changes.items() if text is None and not is_value(name))
        for key in sorted((_key_of(self.place, name) for name in gone), reverse=True):
            tree = self.machine.registry.tree(key)
            if len(tree) == 1 and not tree[0].values:
                self.machine.registry.edit([Edit(key)])


def _of_keys(keys: Iterable[Key], base: str) -> dict[str, str]:
    found: dict[str, str] = {}
    for key in keys:
        below = key.path[len(base) :].strip("\\")
        found[f"{below}{_MARK}{KEY}"] = ""
        for value in key.values.values():
            found[f"{below}{_MARK}{value.name}"] = f"{value.type}:{value.data.hex()}"
    return found


def _key_of(place: str, name: str) -> str:
    below = name.partition(_MARK)[0]
    return f"{place}\\{below}" if below else place


def _edit(place: str, name: str, text: str | None) -> Edit:
    own = name.partition(_MARK)[2]
    value = _registry_value(own, text) if text else None
    return Edit(_key_of(place, name), own, value)


def _registry_value(name: str, text: str) -> RegistryValue:
    kind, _, data = text.partition(":")
    return RegistryValue(name, kind, bytes.fromhex(data))


# What is taken


def selected(kind: StoreKind, item: Item, values: Mapping[str, str]) -> dict[str, str]:
    """Return the values that an item takes; globs see their names with ``/``."""
    ignore_case = folds_names(kind)
    take = Globs(item.take or ("**",), ignore_case=ignore_case)
    leave = Globs(item.leave, ignore_case=ignore_case)
    chosen = {n: t for n, t in values.items() if _mine(shown_name(kind, n), take, leave)}
    if kind != "registry":
        return chosen
    needed = {n.partition(_MARK)[0] for n in chosen if is_value(n)}
    keys = {n: t for n, t in values.items() if not is_value(n)}
    held = {n: t for n, t in keys.items() if n.partition(_MARK)[0] in needed}
    return {**held, **chosen}


def _mine(name: str, take: Globs, leave: Globs) -> bool:
    return take(name) and not leave(name)


def shown_name(kind: StoreKind, name: str) -> str:
    """Return a value's name as globs and people see it."""
    if kind != "registry":
        return name.lstrip("/")
    below, _, own = name.partition(_MARK)
    shown = below.replace("\\", "/")
    return shown if own == KEY else f"{shown}/{own or '@'}".lstrip("/")


def is_value(name: str) -> bool:
    """Return whether a name is a value's, and not that of a key that only is there."""
    return not name.endswith(KEY * 2)


# How they travel


def encode_values(kind: StoreKind, place: str, values: Mapping[str, str]) -> bytes:
    """Return values as the text that the system's own tool reads."""
    if kind == "dconf":
        return write_dconf(values)
    if in_file(kind):
        return file_with(kind, b"", values)
    keys: dict[str, Key] = {}
    for name, text in values.items():
        below, _, own = name.partition(_MARK)
        key = keys.setdefault(below, Key(_key_of(full_key(place), name)))
        if own != KEY:
            key.values[own.casefold()] = _registry_value(own, text)
    return write_registry(keys.values())


def decode_values(kind: StoreKind, data: bytes, place: str) -> dict[str, str]:
    """Return the values that ``encode_values`` wrote, or a system's own tool.

    Raises:
        Unreadable: They are not of that kind.
    """
    if kind == "dconf":
        try:
            return dconf_below(data, "")
        except NotThere:
            return {}
    if in_file(kind):
        return ask(_named(kind).read, data)
    try:
        keys = ask(registry_tree, data, full_key(place))
    except NotThere:
        return {}
    return _of_keys(keys, full_key(place))


def file_with(kind: StoreKind, data: bytes, changes: Mapping[str, str | None]) -> bytes:
    """Return a file with values set, or gone; all else in it stays.

    Raises:
        Unreadable: It is not of that form.
        Unwritable: It cannot hold a value beside its own.
    """
    named = _named(kind)
    return ask(changed_alone, data, dict(changes), named.read, named.change)


# The texts in values of the system's stores, for paths


def texts_of(kind: StoreKind, place: str, name: str, text: str) -> list[Spot]:
    """Return the texts of a value: one, or those of a list; none of a number or other data."""
    if kind == "registry":
        own = name.partition(_MARK)[2]
        return [] if own == KEY else registry_spots(_key_of(place, name), _value_of(name, text))
    try:
        found = gvariant_texts(text)
    except Unreadable:
        return []
    return [Spot(f"{name}{_MARK}{number}", one) for number, one in enumerate(found)]


def with_texts(
    kind: StoreKind, place: str, name: str, text: str, changes: Mapping[str, str]
) -> str:
    """Return a value with the texts changed that ``texts_of`` gave, by where they stand."""
    if kind == "registry":
        value = changed_value(_value_of(name, text), _key_of(place, name), changes)
        return f"{value.type}:{value.data.hex()}"
    spots = texts_of(kind, place, name, text)
    texts = [changes.get(spot.where, spot.text) for spot in spots]
    return gvariant_with(text, texts)


def _value_of(name: str, text: str) -> RegistryValue:
    return _registry_value(name.partition(_MARK)[2], text)


def named_at(kind: StoreKind, place: str, name: str, at: str) -> bool:
    """Return whether a rule that says where paths stand means this value."""
    if kind == "registry":
        own = name.partition(_MARK)[2]
        return name_matches(f"{_key_of(full_key(place), name)}\\{own or '@'}", at)
    return name_matches(f"/{place.strip('/')}/{name}", at)


# One value


def name_in(kind: StoreKind, at: str) -> str:
    """Return the name of a value that a recipe names by ``at``, directly at the place."""
    return f"{_MARK}{'' if at == ITSELF else at}" if kind == "registry" else at


def as_value(kind: StoreKind, name: str, text: str, old: str | None) -> str:
    """Return a text as the value of a store, of the type that ``old`` has.

    Raises:
        Unwritable: It cannot be taken as that type.
    """
    if kind == "registry":
        return _as_registry(text, old.partition(":")[0] if old is not None else "REG_SZ")
    if old is None or gvariant_texts(old):
        return gvariant_with("", [text])
    was, now = parse_gvariant(old), _parsed(text)
    if type(was) is not type(now):
        raise Unwritable("has a value of another type there than the text to be written")
    head = re.match(r"(?:@\S+|[a-z]+\d*)\s+", old)
    return f"{head[0] if head and not isinstance(was, bool) else ''}{text}"


def one_value(kind: StoreKind, name: str) -> dict[str, str]:
    """Return a text under a name, as a store of that kind that held nothing would tell it."""
    at, text = f"/{name}", '"1"'
    match kind:
        case "registry":
            at = f"{_MARK}{name}"
            text = as_value(kind, at, "1", None)
        case "dconf":
            at, text = name, "'1'"
        case "ini" | "qt_ini":
            at, text = f"{name}/{name}", "1"
        case "xml":
            at, text = f"/{name}/{name}", "text 1"
        case "plist":
            text = plistlib.dumps({"value": "1"}).decode()
    return {at: text}


def _parsed(text: str) -> object:
    try:
        return parse_gvariant(text)
    except Unreadable:
        return text


def _as_registry(text: str, kind: str) -> str:
    if kind in ("REG_SZ", "REG_EXPAND_SZ"):
        return f"{kind}:{registry_text('', text).data.hex()}"
    size = {"REG_DWORD": 4, "REG_QWORD": 8}.get(kind)
    if size is None or not text.isdecimal() or int(text) >= 1 << (8 * size):
        raise Unwritable(f"has a value of {kind} there; the text to be written is not one")
    return f"{kind}:{int(text).to_bytes(size, 'little').hex()}"
