"""The registry and the desktop's settings of a folder machine: texts beside its disks, or hives."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from widetrail.formats import Unreadable
from widetrail.formats.dconf import edit_dconf
from widetrail.formats.outside import SafePath, read_outside
from widetrail.machine.effects import Effects
from widetrail.machine.machine_file import DESKTOP_SETTINGS, REGISTRY
from widetrail.machine.platforms import PlatformRules
from widetrail.machine.registries import (
    HIVE_MOST,
    HiveRegistry,
    NoRegistry,
    Registry,
    TextRegistry,
)


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

    @property
    def registry(self) -> Registry:
        if "registry" not in self._rules.stores:
            return NoRegistry()
        text = self._folder / REGISTRY
        if text.is_file():
            return TextRegistry(text, self._put_own)
        return HiveRegistry(self._home, self._read)

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
