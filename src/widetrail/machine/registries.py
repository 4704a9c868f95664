"""The registries of machines: one interface for a text, hives of a dead disk, and a live one."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Protocol

from widetrail.errors import MachineUnusable
from widetrail.formats import Unreadable
from widetrail.formats.hive import hive_key, hive_tree
from widetrail.formats.interface import NotThere
from widetrail.formats.outside import SafePath, read_outside
from widetrail.formats.parser_process import ask
from widetrail.formats.registry import Key, full_key, registry_key, registry_tree
from widetrail.formats.registry_writing import Edit, edit_registry
from widetrail.machine import paths

HIVE_MOST = 256 * 1024 * 1024
"""Bytes of a registry that is read at once, at most."""


class Registry(Protocol):
    """The registry of a machine, as programs of one view (``64`` or ``32``) see it.

    Every method raises ``Unreadable`` where there is no registry, or it cannot be read.
    """

    def key(self, path: str, view: str = ...) -> Key | None:
        """Return a key with its values, or ``None`` where it is not there."""

    def tree(self, path: str, view: str = ...) -> tuple[Key, ...]:
        """Return a key and all those below it, each with its whole path; none if it is not there.

        Each key stands before those below it.
        """

    def edit(self, edits: Sequence[Edit], view: str = ...) -> None:
        """Change values and keys, all at once where the registry can.

        Raises ``Unreadable`` where nothing of it can be changed, ``Unwritable`` where it cannot
        hold a value, ``EffectFailed`` where the system refuses.
        """


class NoRegistry:
    """What a platform has that knows of no registry."""

    def key(self, path: str, view: str = "64") -> Key | None:
        raise Unreadable("there is no registry on this platform")

    def tree(self, path: str, view: str = "64") -> tuple[Key, ...]:
        raise Unreadable("there is no registry on this platform")

    def edit(self, edits: Sequence[Edit], view: str = "64") -> None:
        raise Unreadable("there is no registry on this platform")


class TextRegistry:
    """A registry in one text (``.reg``); ``put`` writes it anew."""

    def __init__(self, text: SafePath, put: Callable[[SafePath, bytes], None]) -> None:
        self._text, self._put = text, put

    def _data(self) -> bytes:
        try:
            return read_outside(self._text, HIVE_MOST)
        except OSError as error:
            raise Unreadable(f"the registry cannot be read: {error.strerror}") from error

    def key(self, path: str, view: str = "64") -> Key | None:
        try:
            return ask(registry_key, self._data(), full_key(path, view))
        except NotThere:
            return None

    def tree(self, path: str, view: str = "64") -> tuple[Key, ...]:
        try:
            return ask(registry_tree, self._data(), full_key(path, view))
        except NotThere:
            return ()

    def edit(self, edits: Sequence[Edit], view: str = "64") -> None:
        seen = [Edit(full_key(e.key, view), e.name, e.value) for e in edits]
        self._put(self._text, ask(edit_registry, self._data(), seen))


class HiveRegistry:
    """The registry of an account as its files hold it; ``read`` reads one of the machine's."""

    def __init__(self, home: str, read: Callable[[str, int], bytes]) -> None:
        self._home, self._read = home, read

    def _hive(self, path: str) -> tuple[bytes, str]:
        """Return the file that holds a key, and the key's path within it."""
        hive, below = _hive_of(self._home, path)
        try:
            return self._read(hive, HIVE_MOST), below
        except MachineUnusable as error:
            raise Unreadable(str(error)) from error

    def key(self, path: str, view: str = "64") -> Key | None:
        try:
            return ask(hive_key, *self._hive(full_key(path, view)))
        except NotThere:
            return None

    def tree(self, path: str, view: str = "64") -> tuple[Key, ...]:
        full = full_key(path, view)
        data, below = self._hive(full)
        try:
            keys = ask(hive_tree, data, below)
        except NotThere:
            return ()
        return tuple(Key(full + k.path[len(below.strip("\\")) :], k.values) for k in keys)

    def edit(self, edits: Sequence[Edit], view: str = "64") -> None:
        raise Unreadable("there is no registry that can be changed")


def _hive_of(home: str, key: str) -> tuple[str, str]:
    """Return the hive file that holds a full key, and the key's path in it."""
    hive, _, rest = key.partition("\\")
    first, _, below = rest.partition("\\")
    if hive == "HKEY_CURRENT_USER":
        return paths.join(home, "NTUSER.DAT"), rest
    if hive == "HKEY_LOCAL_MACHINE" and first.casefold() in ("software", "system"):
        folder = paths.join(home[:2], "Windows/System32/config")
        return paths.join(folder, first.upper()), below
    raise Unreadable(f"no hive file holds {key}")
