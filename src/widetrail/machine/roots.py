"""Where each platform keeps the folders that recipes begin their paths with.

What each platform has by itself stands in ``platforms``; here is what an account redirected.
Sources: the shell folders of Windows; the XDG Base Directory and user-dirs specifications.
"""

from __future__ import annotations

import re
from collections.abc import Mapping

from widetrail.formats.registry import Key
from widetrail.machine.platforms import PLATFORMS, Platform, PlatformRules
from widetrail.machine.platforms.windows import WINDOWS


def default_home(platform: Platform, system: str, user: str) -> str:
    """Return where a platform keeps the account ``user`` unless it was told otherwise."""
    return PLATFORMS[platform].home(system, user)


def standard_roots(platform: Platform, system: str, home: str) -> dict[str, str]:
    """Return every root of an account whose home is ``home``, before any redirection."""
    return dict(PLATFORMS[platform].roots(system, home))


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
    rules = PLATFORMS[platform]
    known = {_name(n, rules): v for n, v in variables.items()}
    missing = False

    def value(match: re.Match[str]) -> str:
        nonlocal missing
        name = next(group for group in match.groups() if group is not None)
        found = known.get(_name(name, rules))
        missing = missing or found is None
        return found or ""

    expanded = rules.variable.sub(value, text)
    return None if missing else expanded


def _name(name: str, rules: PlatformRules) -> str:
    """Return what two spellings of a variable's name have in common."""
    return name.upper() if rules.drive_letters else name


def redirected_by_shell(key: Key, variables: Mapping[str, str]) -> dict[str, str]:
    """Return the roots that the registry's shell folders redirect."""
    found: dict[str, str] = {}
    for name, value in key.values.items():
        root = _SHELL_NAMES.get(name)
        path = expand_variables(str(value.plain), variables, WINDOWS.name)
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
