"""This machine under Windows: ``winreg``, shell folders and drives."""

from __future__ import annotations

import sys

if sys.platform == "win32":
    import ctypes
    import os
    import platform as system_platform
    import winreg
    from collections.abc import Sequence
    from contextlib import suppress
    from functools import cached_property
    from pathlib import Path

    from widetrail.errors import InputUnusable
    from widetrail.formats.registry import TYPES, Key, RegistryValue, full_key, type_name
    from widetrail.formats.registry_writing import KEY, Edit
    from widetrail.machine.effects import Effects
    from widetrail.machine.live import LiveMachine
    from widetrail.machine.platforms.windows import WINDOWS
    from widetrail.machine.roots import SHELL_FOLDERS, redirected_by_shell, standard_roots

    _HIVES = {
        "HKEY_LOCAL_MACHINE": winreg.HKEY_LOCAL_MACHINE,
        "HKEY_CURRENT_USER": winreg.HKEY_CURRENT_USER,
        "HKEY_CLASSES_ROOT": winreg.HKEY_CLASSES_ROOT,
        "HKEY_USERS": winreg.HKEY_USERS,
        "HKEY_CURRENT_CONFIG": winreg.HKEY_CURRENT_CONFIG,
    }

    class WindowsMachine(LiveMachine):
        """This machine under Windows, for the account this process runs under."""

        def __init__(
            self, account: str = "", effects: Effects | None = None, home: str = ""
        ) -> None:
            user = os.environ.get("USERNAME", "")
            if account and account.casefold() != user.casefold():
                raise InputUnusable(
                    "another account cannot be read from here",
                    where=account,
                    why=f"this runs as {user}",
                    todo=f"Run this as {account}.",
                )
            own = home or Path.home().as_posix()
            super().__init__(WINDOWS.name, system_platform.version(), user, own, effects)
            self.administrator = bool(ctypes.windll.shell32.IsUserAnAdmin())

        def _hardware(self) -> str:
            path = r"HKEY_LOCAL_MACHINE\Software\Microsoft\Cryptography"
            key = self.registry_key(path)
            value = key.values.get("machineguid") if key is not None else None
            return str(value.plain) if value is not None else system_platform.node()

        @cached_property
        def _roots(self) -> dict[str, str]:
            roots = standard_roots(WINDOWS.name, self.system, self._home)
            key = self.registry_key(SHELL_FOLDERS) if self._mine else None
            return {**roots, **(redirected_by_shell(key, os.environ) if key is not None else {})}

        def registry_key(self, key: str, view: str = "64") -> Key | None:
            hive, _, path = full_key(key).partition("\\")
            wanted = winreg.KEY_WOW64_32KEY if view == "32" else winreg.KEY_WOW64_64KEY
            try:
                with winreg.OpenKey(_HIVES[hive], path, 0, winreg.KEY_READ | wanted) as handle:
                    return Key(key, dict(_values(handle)))
            except (KeyError, FileNotFoundError):
                return None

        def registry_tree(self, key: str, view: str = "64") -> tuple[Key, ...]:
            found = self.registry_key(key, view)
            if found is None:
                return ()
            wanted = winreg.KEY_WOW64_32KEY if view == "32" else winreg.KEY_WOW64_64KEY
            hive, _, path = full_key(key).partition("\\")
            with winreg.OpenKey(_HIVES[hive], path, 0, winreg.KEY_READ | wanted) as handle:
                names = [winreg.EnumKey(handle, n) for n in range(winreg.QueryInfoKey(handle)[0])]
            inner = [k for name in names for k in self.registry_tree(f"{key}\\{name}", view)]
            return (Key(full_key(key), found.values), *inner)

        def edit_registry(self, edits: Sequence[Edit], view: str = "64") -> None:
            wanted = winreg.KEY_WOW64_32KEY if view == "32" else winreg.KEY_WOW64_64KEY
            for edit in edits:
                hive, _, path = full_key(edit.key).partition("\\")
                if edit.name is None:
                    for key in reversed(self.registry_tree(edit.key, view)):
                        below = key.path.partition("\\")[2]
                        winreg.DeleteKeyEx(_HIVES[hive], below, wanted)
                    continue
                access = winreg.KEY_READ | winreg.KEY_WRITE | wanted
                with winreg.CreateKeyEx(_HIVES[hive], path, 0, access) as handle:
                    if edit.value is not None:
                        kind = TYPES.index(edit.value.type)
                        data = _from_bytes(edit.value.data, kind)
                        winreg.SetValueEx(handle, edit.name, 0, kind, data)
                    elif edit.name != KEY:
                        with suppress(FileNotFoundError):
                            winreg.DeleteValue(handle, edit.name)
                    winreg.FlushKey(handle)

        def _at_home(self, home: str) -> LiveMachine:
            return WindowsMachine("", self.effects, home)

        def _scratch_environment(self) -> dict[str, str]:
            return {
                "USERPROFILE": self._home,
                "APPDATA": f"{self._home}/AppData/Roaming",
                "LOCALAPPDATA": f"{self._home}/AppData/Local",
            }

    def _values(handle: winreg.HKEYType) -> list[tuple[str, RegistryValue]]:
        found = []
        for number in range(winreg.QueryInfoKey(handle)[1]):
            name, data, kind = winreg.EnumValue(handle, number)
            found.append(
                (name.casefold(), RegistryValue(name, type_name(kind), _bytes(data, kind)))
            )
        return found

    def _from_bytes(data: bytes, kind: int) -> bytes | int | str | list[str]:
        """Return data as ``winreg`` takes it for a type of value."""
        if kind in (winreg.REG_SZ, winreg.REG_EXPAND_SZ, winreg.REG_LINK):
            return data.decode("utf-16-le", "surrogatepass").removesuffix("\0")
        if kind == winreg.REG_MULTI_SZ:
            text = data.decode("utf-16-le", "surrogatepass")
            return [part for part in text.split("\0") if part]
        if kind in (winreg.REG_DWORD, winreg.REG_QWORD):
            return int.from_bytes(data, "little")
        return data

    def _bytes(data: object, kind: int) -> bytes:
        match data:
            case bytes():
                return data
            case int():
                order = "big" if kind == winreg.REG_DWORD_BIG_ENDIAN else "little"
                return data.to_bytes(8 if kind == winreg.REG_QWORD else 4, order)  # type: ignore[arg-type]
            case list():
                return ("\0".join(map(str, data)) + "\0\0").encode("utf-16-le")
            case str():
                return (data + "\0").encode("utf-16-le")
        return b""
