"""The registry of this machine under Windows, through the system's own calls.

``winreg`` opens keys; values are read and written byte by byte, since it changes what is not quite
as its type asks for: a text without its end, a number of an unusual size, an empty text in a list.
"""

from __future__ import annotations

import sys

if sys.platform == "win32":
    import ctypes
    import winreg
    from collections.abc import Iterator, Sequence
    from contextlib import contextmanager, suppress
    from ctypes import wintypes

    from widetrail.formats import Unreadable
    from widetrail.formats.registry import Key, RegistryValue, full_key, type_name, type_number
    from widetrail.formats.registry_writing import KEY, Edit
    from widetrail.machine.effects import Effects

    _HIVES = {
        "HKEY_LOCAL_MACHINE": winreg.HKEY_LOCAL_MACHINE,
        "HKEY_CURRENT_USER": winreg.HKEY_CURRENT_USER,
        "HKEY_CLASSES_ROOT": winreg.HKEY_CLASSES_ROOT,
        "HKEY_USERS": winreg.HKEY_USERS,
        "HKEY_CURRENT_CONFIG": winreg.HKEY_CURRENT_CONFIG,
    }
    _VIEWS = {"32": winreg.KEY_WOW64_32KEY, "64": winreg.KEY_WOW64_64KEY}
    _NAME_MOST = 16_384
    """Characters of a value's name, at most, with its end."""

    _BEHIND = b"\x01\x01"
    """What stands behind the bytes of a value: where a text lacks its end and zeros follow by
    chance, the system takes them for that."""

    _NO_MORE, _MORE = 259, 234

    _ADVANCED = ctypes.WinDLL("advapi32")
    _HANDLE = wintypes.HANDLE
    _ADVANCED.RegEnumValueW.argtypes = [_HANDLE, wintypes.DWORD, *[ctypes.c_void_p] * 6]
    _ADVANCED.RegSetValueExW.argtypes = [
        _HANDLE,
        wintypes.LPCWSTR,
        wintypes.DWORD,
        wintypes.DWORD,
        ctypes.c_char_p,
        wintypes.DWORD,
    ]

    class LiveRegistry:
        """See ``Registry``; every changed value or key is an effect of its own."""

        def __init__(self, effects: Effects) -> None:
            self._effects = effects

        def key(self, path: str, view: str = "64") -> Key | None:
            with _refused(path), suppress(FileNotFoundError), _opened(path, view) as handle:
                return _key(handle, full_key(path, view))
            return None

        def tree(self, path: str, view: str = "64") -> tuple[Key, ...]:
            with _refused(path), suppress(FileNotFoundError), _opened(path, view) as handle:
                return tuple(_below(handle, full_key(path, view), view))
            return ()

        def edit(self, edits: Sequence[Edit], view: str = "64") -> None:
            for edit in edits:
                shown = edit.key if edit.name in (None, KEY) else f"{edit.key}\\{edit.name}"
                with self._effects.storing(shown):
                    if edit.name is None:
                        _remove(edit.key, view)
                    else:
                        _put(edit.key, edit.name, edit.value, view)
            for hive in sorted({full_key(edit.key).partition("\\")[0] for edit in edits}):
                with self._effects.storing(hive):  # once for all, since it takes a while
                    winreg.FlushKey(_HIVES[hive])

    def _start(path: str) -> tuple[int, str]:
        hive, _, below = full_key(path).partition("\\")
        if hive not in _HIVES:
            raise Unreadable(f"{hive} is no hive")
        return _HIVES[hive], below

    def _opened(path: str, view: str) -> winreg.HKEYType:
        hive, below = _start(path)
        return winreg.OpenKey(hive, below, 0, winreg.KEY_READ | _VIEWS[view])

    @contextmanager
    def _refused(path: str) -> Iterator[None]:
        try:
            yield
        except FileNotFoundError:
            raise
        except OSError as error:
            why = f"{error.strerror} (code {error.winerror})"
            raise Unreadable(f"the registry key {path} cannot be read: {why}") from error

    def _key(handle: winreg.HKEYType, path: str) -> Key:
        return Key(path, {value.name.casefold(): value for value in _values(handle)})

    def _below(handle: winreg.HKEYType, path: str, view: str) -> Iterator[Key]:
        yield _key(handle, path)
        for name in [winreg.EnumKey(handle, n) for n in range(winreg.QueryInfoKey(handle)[0])]:
            with winreg.OpenKey(handle, name, 0, winreg.KEY_READ | _VIEWS[view]) as inner:
                yield from _below(inner, f"{path}\\{name}", view)

    def _values(handle: winreg.HKEYType) -> Iterator[RegistryValue]:
        name, room = ctypes.create_unicode_buffer(_NAME_MOST), 4096
        number = 0
        while True:
            length, kind = wintypes.DWORD(_NAME_MOST), wintypes.DWORD()
            size, data = wintypes.DWORD(room), ctypes.create_string_buffer(room)
            told = [ctypes.byref(one) for one in (kind, data, size)]
            code = _ADVANCED.RegEnumValueW(
                handle.handle, number, name, ctypes.byref(length), None, *told
            )
            if code == _NO_MORE:
                return
            if code == _MORE:
                room = max(size.value, room * 2)
                continue
            if code:
                raise ctypes.WinError(code)
            yield RegistryValue(
                ctypes.wstring_at(name, length.value), type_name(kind.value), data.raw[: size.value]
            )
            number += 1

    def _put(key: str, name: str, value: RegistryValue | None, view: str) -> None:
        """Set or take away one value, or make a key."""
        hive, below = _start(key)
        access = winreg.KEY_READ | winreg.KEY_WRITE | _VIEWS[view]
        if value is None and name != KEY:
            with suppress(FileNotFoundError), winreg.OpenKey(hive, below, 0, access) as handle:
                winreg.DeleteValue(handle, name)
            return
        with winreg.CreateKeyEx(hive, below, 0, access) as handle:
            if value is not None:
                kind, size = type_number(value.type), len(value.data)
                data = value.data + _BEHIND
                code = _ADVANCED.RegSetValueExW(handle.handle, name, 0, kind, data, size)
                if code:
                    raise ctypes.WinError(code)

    def _remove(path: str, view: str) -> None:
        """Take a key away with all below it."""
        hive, below = _start(path)
        with suppress(FileNotFoundError):
            with winreg.OpenKey(hive, below, 0, winreg.KEY_READ | _VIEWS[view]) as handle:
                names = [key.path for key in _below(handle, full_key(path), view)]
            for name in reversed(names):
                winreg.DeleteKeyEx(hive, name.partition("\\")[2], _VIEWS[view])
