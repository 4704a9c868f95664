"""Where each platform keeps the folders that recipes begin their paths with.

Sources: the known folders of Windows and, before system 6.0, its shell folders; the standard
folders of macOS; the XDG Base Directory and user-dirs specifications for Linux. On Windows
``config`` and ``preferences`` roam with the account; ``data``, ``state`` and ``cache`` are local.
"""

from __future__ import annotations

from widetrail.formats.interface import Platform

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
