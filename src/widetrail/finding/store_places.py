"""Places in the system's stores: the registry's keys and values, the desktop's settings."""

from __future__ import annotations

from widetrail.finding.values import Absent, Found, How, Nowhere, Where
from widetrail.formats import Unreadable
from widetrail.formats.dconf import dconf_below
from widetrail.formats.interface import NotThere
from widetrail.formats.parser_process import ask
from widetrail.machine import Machine
from widetrail.recipe.places import PlaceKind


def in_registry(machine: Machine, path: str, kind: PlaceKind, case: int) -> Where:
    """Return the key or value at a path of the registry."""
    how = How("fixed", case)
    key, name = (path, "") if kind == "key" else path.rsplit("\\", 1)
    try:
        found = machine.registry.key(key)
    except Unreadable as error:
        return Nowhere(f"{path}: {error}")
    there = found is not None and (kind == "key" or name.casefold() in found.values)
    return Found(path, kind, how) if there else Absent(path, kind, how)


def in_desktop(machine: Machine, path: str, case: int) -> Where:
    """Return the settings below a path of the desktop's."""
    how = How("fixed", case)
    try:
        ask(dconf_below, machine.desktop_settings(), path)
    except NotThere:
        return Absent(path, "dconf", how)
    except Unreadable as error:
        return Nowhere(f"{path}: {error}")
    return Found(path, "dconf", how)
