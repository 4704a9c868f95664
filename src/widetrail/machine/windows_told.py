"""What a computer with Windows tells of programs installed and of folders that services keep.

It holds for a live machine and for a folder machine alike, since only the registry and the Start
menu are read. Sources: "Application Registration" (App Paths), "Uninstall Registry Key" and
"Register a sync root" of Microsoft's documentation.
"""

from __future__ import annotations

from collections.abc import Iterator
from itertools import chain

from widetrail.errors import MachineUnusable
from widetrail.formats import Unreadable
from widetrail.formats.parser_process import ask
from widetrail.formats.registry import Key, RegistryValue
from widetrail.formats.shell_link import shortcut_target
from widetrail.machine import paths
from widetrail.machine.interface import Machine
from widetrail.machine.registries import Registry
from widetrail.machine.roots import expand_variables

_VERSION = r"Software\Microsoft\Windows\CurrentVersion"
_HIVES = (("HKEY_CURRENT_USER", "64"), ("HKEY_LOCAL_MACHINE", "64"), ("HKEY_LOCAL_MACHINE", "32"))
"""Where programs are registered: for the account, for all, and for all by programs of 32 bits."""

_SERVICES = rf"HKEY_LOCAL_MACHINE\{_VERSION}\Explorer\SyncRootManager"
_MENU = "Microsoft/Windows/Start Menu/Programs"
_MENU_DEEPEST = 6
_SHORTCUT_MOST = 1024 * 1024


def installed_program(machine: Machine, name: str) -> str | None:
    """Return where the program ``name`` is installed, with ``/``, as Windows was told; or ``None``.

    Its registered path comes first, then an entry of the Start menu of that name, then an entry
    that uninstalls it.
    """
    # One after the other, since the Start menu and the list of what can be uninstalled are long.
    for found in chain.from_iterable(
        way(machine, name) for way in (_registered, _in_menu, _listed)
    ):
        path = _path(machine, found)
        if path is not None:
            try:
                there = machine.look(path)
            except MachineUnusable:
                continue
            if there is not None and there.kind == "file":
                return path
    return None


def _path(machine: Machine, text: str) -> str | None:
    full = expand_variables(text.strip('" '), machine.variables(), machine.platform)
    return full.replace("\\", "/") if full and full[1:3] in (":\\", ":/") else None


def _registered(machine: Machine, name: str) -> Iterator[str]:
    for hive, view in _HIVES:
        key = _key(machine.registry, rf"{hive}\{_VERSION}\App Paths\{name}.exe", view)
        yield from _texts(key, "")


def _in_menu(machine: Machine, name: str) -> Iterator[str]:
    for root in ("config", "shared"):
        menu = paths.join(machine.root(root), _MENU)
        try:
            if machine.look(menu) is None:
                continue
            for entry in machine.walk(menu, _MENU_DEEPEST):
                if paths.base(entry.path).casefold() == f"{name}.lnk".casefold():
                    data = machine.read(paths.join(menu, entry.path), _SHORTCUT_MOST)
                    yield ask(shortcut_target, data)
        except (MachineUnusable, Unreadable):
            continue


def _listed(machine: Machine, name: str) -> Iterator[str]:
    """Give where the entries that uninstall programs say that ``name.exe`` is."""
    wanted = f"{name}.exe".casefold()
    for hive, view in _HIVES:
        try:
            keys = machine.registry.tree(rf"{hive}\{_VERSION}\Uninstall", view)
        except Unreadable:
            continue
        for key in keys:
            for icon in _texts(key, "displayicon"):
                shown = icon.rpartition(",")[0] or icon
                if shown.strip('"').replace("\\", "/").rpartition("/")[2].casefold() == wanted:
                    yield shown
            for folder in _texts(key, "installlocation"):
                yield f"{folder.rstrip(chr(92))}\\{name}.exe"


def services_folders(registry: Registry) -> tuple[tuple[str, str], ...]:
    """Return the folders that services keep in step with other computers, each with its service;
    none where the registry cannot tell."""
    found = []
    try:
        keys = registry.tree(_SERVICES)
    except Unreadable:
        return ()
    for key in keys:
        *_, service, last = key.path.split("\\")
        if last.casefold() == "usersyncroots":
            for value in key.values.values():
                folder = str(value.plain).replace("\\", "/").rstrip("/")
                found.append((folder, service.partition("!")[0]))
    return tuple(sorted(found))


def _key(registry: Registry, path: str, view: str) -> Key | None:
    try:
        return registry.key(path, view)
    except Unreadable:
        return None


def _texts(key: Key | None, name: str) -> Iterator[str]:
    value: RegistryValue | None = key.values.get(name) if key is not None else None
    if value is not None and value.type in ("REG_SZ", "REG_EXPAND_SZ") and value.plain:
        yield str(value.plain)
