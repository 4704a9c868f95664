"""This machine under Windows: its known folders, registry, programs and drives."""

from __future__ import annotations

import sys

if sys.platform == "win32":
    import ctypes
    import os
    import platform as system_platform
    import uuid
    from ctypes import wintypes
    from functools import cached_property
    from pathlib import Path

    from widetrail.errors import InputUnusable
    from widetrail.formats.outside import SafePath
    from widetrail.formats.outside.windows import is_kept_in_step
    from widetrail.machine import paths
    from widetrail.machine.effects import Effects
    from widetrail.machine.live import LiveMachine
    from widetrail.machine.platforms.windows import WINDOWS
    from widetrail.machine.registries import Registry
    from widetrail.machine.roots import SHELL_FOLDERS, redirected_by_shell, standard_roots
    from widetrail.machine.windows_processes import processes_of
    from widetrail.machine.windows_registry import LiveRegistry
    from widetrail.machine.windows_told import installed_program, services_folders

    _KNOWN_FOLDERS = {
        "documents": "fdd39ad0-238f-46af-adb4-6c85480369c7",
        "desktop": "b4bfcc3a-db2c-424c-b029-7fe99a87c641",
        "downloads": "374de290-123f-4565-9164-39c4925e467b",
        "music": "4bd8d571-6d19-48d3-be97-422220080e43",
        "pictures": "33e28130-4e1e-4676-835a-98395c3bc3bb",
        "videos": "18989b1d-99b5-455b-841c-ab7c74e4ddfc",
        "saved_games": "4c5c32ff-bb9d-43b0-b5b4-2d72e54eaaa4",
        "config": "3eb685db-65f9-4cf6-a03a-e3ef65729f3d",
        "data": "f1b32785-6fba-4fcf-9d55-7b8e7f157091",
        "shared": "62ab5d82-fdc1-4dc3-a9dd-070d1d495d97",
        "programs": "905e63b6-c1bf-494e-b29c-65b732d3d21a",
    }
    """The roots by the numbers that the system knows their folders by (``knownfolders.h``)."""

    _UNLOOKED = 0x4000
    """KF_FLAG_DONT_VERIFY: the path is told though nothing is there."""

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

        @property
        def registry(self) -> Registry:
            return LiveRegistry(self.effects)

        def _hardware(self) -> str:
            path = r"HKEY_LOCAL_MACHINE\Software\Microsoft\Cryptography"
            key = LiveRegistry(Effects()).key(path)
            value = key.values.get("machineguid") if key is not None else None
            return str(value.plain) if value is not None else system_platform.node()

        @cached_property
        def _roots(self) -> dict[str, str]:
            roots = standard_roots(WINDOWS.name, self.system, self._home)
            if not self._mine:
                return roots
            key = self.registry.key(SHELL_FOLDERS)
            told = redirected_by_shell(key, os.environ) if key is not None else {}
            known = {name: found for name in _KNOWN_FOLDERS if (found := known_folder(name))}
            alike = {"cache": "data", "state": "data", "preferences": "config"}
            more = {name: known[like] for name, like in alike.items() if like in known}
            temp = {"temp": _long_name(os.environ["TEMP"])} if "TEMP" in os.environ else {}
            return {**roots, **told, **known, **more, **temp}

        def command(self, name: str) -> str | None:
            return super().command(name) or installed_program(self, name)

        def running(self, program: str) -> list[str]:
            return [f"process {pid}" for pid in processes_of(program)]

        def synced(self, path: str) -> str:
            for folder, service in self._services:
                if paths.is_within(path, folder, self.platform):
                    return service
            at = SafePath(path)
            for above in (at, *at.parents):
                try:
                    if is_kept_in_step(above.lstat()):
                        return "a service of this computer"
                except OSError:
                    continue
            return ""

        def shares(self) -> tuple[tuple[str, str], ...]:
            return (*super().shares(), *self._services)

        @cached_property
        def _services(self) -> tuple[tuple[str, str], ...]:
            return services_folders(self.registry)

        def _at_home(self, home: str) -> LiveMachine:
            return WindowsMachine("", self.effects, home)

        def _scratch_environment(self) -> dict[str, str]:
            return {
                "USERPROFILE": self._home,
                "APPDATA": f"{self._home}/AppData/Roaming",
                "LOCALAPPDATA": f"{self._home}/AppData/Local",
            }

    def _long_name(path: str) -> str:
        """Return a path without short names (``ADA~1``), with ``/``; itself where nothing is."""
        told = ctypes.create_unicode_buffer(32_768)
        ctypes.windll.kernel32.GetLongPathNameW(path, told, len(told))
        return (told.value or path).replace("\\", "/").rstrip("/")

    def known_folder(root: str) -> str:
        """Return where the system says that a root is, with ``/``; an empty text where it has none.

        Source: ``SHGetKnownFolderPath`` of Microsoft's documentation.
        """
        number = (ctypes.c_byte * 16).from_buffer_copy(uuid.UUID(_KNOWN_FOLDERS[root]).bytes_le)
        told = ctypes.c_void_p()
        asked = ctypes.windll.shell32.SHGetKnownFolderPath
        asked.argtypes = [ctypes.c_void_p, wintypes.DWORD, wintypes.HANDLE, ctypes.c_void_p]
        try:
            if asked(ctypes.byref(number), _UNLOOKED, None, ctypes.byref(told)) or not told:
                return ""
            return ctypes.wstring_at(told.value or 0).replace("\\", "/").rstrip("/")
        finally:
            ctypes.windll.ole32.CoTaskMemFree(told)
