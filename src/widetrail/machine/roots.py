"""Where each platform keeps the folders that recipes begin their paths with.

Sources: the known folders of Windows and, before system 6.0, its shell folders; the standard
folders of macOS; the XDG Base Directory and user-dirs specifications for Linux. On Windows
``config`` and ``preferences`` roam with the account; ``data``, ``state`` and ``cache`` are local.
"""

from __future__ import annotations

import re
from collections.abc import Mapping

from widetrail.formats.interface import Platform
from widetrail.formats.registry import Key

_WINDOWS = {
    "home": "{home}",
    "documents": "{home}/Documents",
    "desktop": "{home}/Desktop",
    "downloads": "{home}/Downloads",
    "music": "{home}/Music",
    "pictures": "{home}/Pictures",
    "videos": "{home}/Videos",
    "saved_games": "{home}/Saved Games",
    "config": "{home}/AppData/Roaming",
    "data": "{home}/AppData/Local",
    "cache": "{home}/AppData/Local",
    "state": "{home}/AppData/Local",
    "preferences": "{home}/AppData/Roaming",
    "shared": "{system}/ProgramData",
    "programs": "{system}/Program Files",
    "temp": "{home}/AppData/Local/Temp",
}
_WINDOWS_BEFORE_6 = {
    **_WINDOWS,
    "documents": "{home}/My Documents",
    "downloads": "{home}/My Documents/Downloads",
    "music": "{home}/My Documents/My Music",
    "pictures": "{home}/My Documents/My Pictures",
    "videos": "{home}/My Documents/My Videos",
    "saved_games": "{home}/My Documents/My Games",
    "config": "{home}/Application Data",
    "data": "{home}/Local Settings/Application Data",
    "cache": "{home}/Local Settings/Application Data",
    "state": "{home}/Local Settings/Application Data",
    "preferences": "{home}/Application Data",
    "shared": "{system}/Documents and Settings/All Users/Application Data",
    "temp": "{home}/Local Settings/Temp",
}
_MACOS = {
    "home": "{home}",
    "documents": "{home}/Documents",
    "desktop": "{home}/Desktop",
    "downloads": "{home}/Downloads",
    "music": "{home}/Music",
    "pictures": "{home}/Pictures",
    "videos": "{home}/Movies",
    "saved_games": "{home}/Library/Application Support",
    "config": "{home}/Library/Application Support",
    "data": "{home}/Library/Application Support",
    "cache": "{home}/Library/Caches",
    "state": "{home}/Library/Application Support",
    "preferences": "{home}/Library/Preferences",
    "shared": "/Library/Application Support",
    "programs": "/Applications",
    "temp": "{home}/Library/Caches/TemporaryItems",
}
_LINUX = {
    "home": "{home}",
    "documents": "{home}/Documents",
    "desktop": "{home}/Desktop",
    "downloads": "{home}/Downloads",
    "music": "{home}/Music",
    "pictures": "{home}/Pictures",
    "videos": "{home}/Videos",
    "saved_games": "{home}/.local/share",
    "config": "{home}/.config",
    "data": "{home}/.local/share",
    "cache": "{home}/.cache",
    "state": "{home}/.local/state",
    "preferences": "{home}/.config",
    "shared": "/usr/local/share",
    "programs": "/usr/bin",
    "temp": "/tmp",
}


def before_windows_6(platform: Platform, system: str) -> bool:
    """Return whether a Windows of this release keeps accounts in the older layout."""
    major = system.partition(".")[0]
    return platform == "windows" and major.isdigit() and int(major) < 6


def default_home(platform: Platform, system: str, user: str) -> str:
    """Return where a platform keeps the account ``user`` unless it was told otherwise."""
    if platform == "windows":
        old = before_windows_6(platform, system)
        return f"C:/Documents and Settings/{user}" if old else f"C:/Users/{user}"
    return f"/Users/{user}" if platform == "macos" else f"/home/{user}"


def standard_roots(platform: Platform, system: str, home: str) -> dict[str, str]:
    """Return every root of an account whose home is ``home``, before any redirection."""
    if platform == "windows":
        table = _WINDOWS_BEFORE_6 if before_windows_6(platform, system) else _WINDOWS
    else:
        table = _MACOS if platform == "macos" else _LINUX
    drive = home.partition("/")[0] if platform == "windows" else ""
    return {name: path.format(home=home, system=drive) for name, path in table.items()}


SHELL_FOLDERS = (
    r"HKEY_CURRENT_USER\Software\Microsoft\Windows\CurrentVersion\Explorer\User Shell Folders"
)
"""Where Windows notes folders that an account has redirected."""

_SHELL_NAMES = {
    "personal": "documents",
    "desktop": "desktop",
    "{374de290-123f-4565-9164-39c4925e467b}": "downloads",
    "my music": "music",
    "my pictures": "pictures",
    "my video": "videos",
    "{4c5c32ff-bb9d-43b0-b5b4-2d72e54eaaa4}": "saved_games",
    "appdata": "config",
    "local appdata": "data",
}
_XDG_HOMES = {
    "XDG_CONFIG_HOME": ("config", "preferences"),
    "XDG_DATA_HOME": ("data",),
    "XDG_CACHE_HOME": ("cache",),
    "XDG_STATE_HOME": ("state",),
}
_LONGEST = 4096
"""Characters of a folder that is redirected to, at most; no system takes a longer path."""

_USER_DIR = re.compile(r'^\s*XDG_([A-Z]+)_DIR\s*=\s*"([^"\n]*)"', re.MULTILINE)
_USER_DIRS = {
    "DOCUMENTS": "documents",
    "DESKTOP": "desktop",
    "DOWNLOAD": "downloads",
    "MUSIC": "music",
    "PICTURES": "pictures",
    "VIDEOS": "videos",
}


def expand_variables(text: str, variables: Mapping[str, str], platform: Platform) -> str | None:
    """Return ``text`` with the platform's way of naming variables replaced.

    ``%NAME%`` on Windows (where case does not count), ``$NAME`` and ``${NAME}`` elsewhere.
    ``None`` where a variable is named that is not known.
    """
    known = {n.upper(): v for n, v in variables.items()} if platform == "windows" else variables
    pattern = r"%([^%]+)%" if platform == "windows" else r"\$(?:\{(\w+)\}|(\w+))"
    missing = False

    def value(match: re.Match[str]) -> str:
        nonlocal missing
        name = next(group for group in match.groups() if group is not None)
        found = known.get(name.upper() if platform == "windows" else name)
        missing = missing or found is None
        return found or ""

    expanded = re.sub(pattern, value, text)
    return None if missing else expanded


def redirected_by_shell(key: Key, variables: Mapping[str, str]) -> dict[str, str]:
    """Return the roots that the registry's shell folders redirect."""
    found: dict[str, str] = {}
    for name, value in key.values.items():
        root = _SHELL_NAMES.get(name)
        path = expand_variables(str(value.plain), variables, "windows")
        if root is not None and path and len(path) <= _LONGEST:
            found[root] = path.replace("\\", "/").rstrip("/")
    for local in ("state", "cache"):
        if "data" in found:
            found[local] = found["data"]
    if "config" in found:
        found["preferences"] = found["config"]
    return found


def redirected_by_xdg(variables: Mapping[str, str]) -> dict[str, str]:
    """Return the roots that XDG variables move; relative ones do not count (XDG Base Directory)."""
    return {
        root: variables[name].rstrip("/")
        for name, roots in _XDG_HOMES.items()
        if variables.get(name, "").startswith("/") and len(variables[name]) <= _LONGEST
        for root in roots
    }


def redirected_by_user_dirs(text: str, home: str) -> dict[str, str]:
    """Return the roots that a ``user-dirs.dirs`` file names.

    A folder that is the home itself means that the account has none of its own (xdg-user-dirs).
    """
    found = {}
    for name, value in _USER_DIR.findall(text):
        if len(value) > _LONGEST:
            continue
        path = re.sub(r"^\$HOME(?=/|$)", lambda _: home, value).rstrip("/")
        if name in _USER_DIRS and path.startswith("/") and path != home:
            found[_USER_DIRS[name]] = path
    return found
