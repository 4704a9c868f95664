"""The registry and the desktop's settings of a folder machine: texts beside its disks, or hives."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

from widetrail.errors import MachineUnusable
from widetrail.formats import Unreadable
from widetrail.formats.dconf import edit_dconf
from widetrail.formats.hive import hive_key, hive_tree
from widetrail.formats.interface import NotThere
from widetrail.formats.outside import SafePath, read_outside
from widetrail.formats.parser_process import ask
from widetrail.formats.registry import Key, full_key, registry_key, registry_tree
from widetrail.formats.registry_writing import Edit, edit_registry
from widetrail.machine.effects import Effects
from widetrail.machine.machine_file import DESKTOP_SETTINGS, HIVE_MOST, REGISTRY, hive_of
from widetrail.machine.platforms import PlatformRules


class FolderStores:
    """The stores of named values of the machine in ``folder``; see ``Machine``."""

    def __init__(
        self,
        folder: SafePath,
        rules: PlatformRules,
        home: str,
        effects: Effects,
        read: Callable[[str, int], bytes],
    ) -> None:
        self._folder, self._rules, self._home = folder, rules, home
        self._effects, self._read = effects, read

    def registry_key(self, key: str, view: str = "64") -> Key | None:
        if "registry" not in self._rules.stores:
            raise Unreadable("there is no registry on this platform")
        path = full_key(key, view)
        text = self._folder / REGISTRY
        try:
            if text.is_file():
                return ask(registry_key, read_outside(text, HIVE_MOST), path)
            hive, below = hive_of(self._home, path)
            return ask(hive_key, self._read(hive, HIVE_MOST), below)
        except NotThere:
            return None
        except OSError as error:
            raise Unreadable(f"the registry cannot be read: {error.strerror}") from error
        except MachineUnusable as error:
            raise Unreadable(str(error)) from error

    def registry_tree(self, key: str, view: str = "64") -> tuple[Key, ...]:
        path = full_key(key, view)
        if self.registry_key(key, view) is None:
            return ()
        text = self._folder / REGISTRY
        if text.is_file():
            return ask(registry_tree, read_outside(text, HIVE_MOST), path)
        hive, below = hive_of(self._home, path)
        keys = ask(hive_tree, self._read(hive, HIVE_MOST), below)
        return tuple(Key(path + k.path[len(below.strip("\\")) :], k.values) for k in keys)

    def edit_registry(self, edits: Sequence[Edit], view: str = "64") -> None:
        text = self._folder / REGISTRY
        if "registry" not in self._rules.stores or not text.is_file():
            raise Unreadable("there is no registry that can be changed")
        seen = [Edit(full_key(e.key, view), e.name, e.value) for e in edits]
        self._put_own(text, ask(edit_registry, read_outside(text, HIVE_MOST), seen))

    def edit_desktop(self, changes: Mapping[str, str | None]) -> None:
        text = self._folder / DESKTOP_SETTINGS
        if "dconf" not in self._rules.stores or (text.exists() and not text.is_file()):
            raise Unreadable("there is no settings database of the desktop")
        before = read_outside(text, HIVE_MOST) if text.exists() else b""
        self._put_own(text, edit_dconf(before, changes))

    def _put_own(self, path: SafePath, data: bytes) -> None:
        """Write a file of the machine's own whole, in place of what it was."""
        if path.is_file() and read_outside(path, HIVE_MOST) == data:
            return
        beside = path.with_name(f"{path.name}.new")
        if beside.exists():  # it was cut off here
            self._effects.remove_file(beside)
        with self._effects.create(beside) as file:
            file.write(data)
            if path.exists():
                status = path.stat()
                file.set_status(status.st_mode, status.st_mtime_ns)
            file.sync()
        self._effects.replace(beside, path)
        self._effects.sync_folder(path.parent)

    def desktop_settings(self) -> bytes:
        text = self._folder / DESKTOP_SETTINGS
        if "dconf" not in self._rules.stores or not text.is_file():
            raise Unreadable("there is no settings database of the desktop")
        try:
            return read_outside(text, HIVE_MOST)
        except OSError as error:
            raise Unreadable(f"cannot be read: {error.strerror}") from error
