"""Windows: known folders, and before system 6.0 its shell folders; its file naming conventions.

``config`` and ``preferences`` roam with the account; ``data``, ``state`` and ``cache`` are local.
"""

from __future__ import annotations

import re
from collections.abc import Mapping

from widetrail.machine.platforms.rules import (
    LONGEST,
    NO_MATCH,
    PlatformRules,
    Sample,
    Scope,
    Sensitive,
    roots_from,
    trouble_with_any_name,
)

_DEVICE = r"(?i:con|prn|aux|nul|conin\$|conout\$|com[0-9¹²³]|lpt[0-9¹²³])"
_RESERVED = re.compile(rf"{_DEVICE}(\..*)?")
_UNFIT = re.compile(rf'[%/\\:*?"<>|\x00-\x1f\x7f]|[. ]$|^(?={_DEVICE}(\.|$)).')

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


def _is_before_6(system: str) -> bool:
    """Return whether a release keeps accounts in the older layout."""
    major = system.partition(".")[0]
    return major.isdigit() and int(major) < 6


def _home(system: str, user: str) -> str:
    return f"C:/Documents and Settings/{user}" if _is_before_6(system) else f"C:/Users/{user}"


def _roots(system: str, home: str) -> Mapping[str, str]:
    return roots_from(_WINDOWS_BEFORE_6 if _is_before_6(system) else _WINDOWS, home)


def _account_variables(user: str, roots: Mapping[str, str]) -> dict[str, str]:
    home = roots["home"]
    return {
        "USERPROFILE": home,
        "USERNAME": user,
        "HOMEDRIVE": home[:2],
        "HOMEPATH": home[2:],
        "APPDATA": roots["config"],
        "LOCALAPPDATA": roots["data"],
        "PROGRAMDATA": roots["shared"],
        "PROGRAMFILES": roots["programs"],
        "SYSTEMDRIVE": home[:2],
        "TEMP": roots["temp"],
    }


def _trouble_with_name(name: str) -> str:
    if why := trouble_with_any_name(name):
        return why
    if bad := sorted(set(name) & set('<>:"|?*\\')) or [c for c in name if ord(c) < 32]:
        return f"holds {' '.join(map(repr, bad))}"
    if _RESERVED.fullmatch(name):
        return "is a reserved name"
    if name[-1] in " .":
        return "ends in a space or dot"
    return f"is longer than {LONGEST} characters" if len(name) > LONGEST else ""


def is_device(name: str) -> bool:
    """Return whether a name is that of a device on Windows, wherever it stands."""
    return _RESERVED.fullmatch(name) is not None


def fit_name(name: str) -> str:
    """Return a name with what cannot stand in one percent-encoded (RFC 3986, section 2.1).

    No two names become one.
    """
    return _UNFIT.sub(lambda m: "".join(f"%{b:02X}" for b in m.group().encode()), name)


WINDOWS = PlatformRules(
    name="windows",
    title="Windows",
    host="win32",
    ignores_case=True,
    drive_letters=True,
    names_are_text=True,
    has_modes=False,
    trouble_with_name=_trouble_with_name,
    fit_name=fit_name,
    variable=re.compile(r"%([^%]+)%"),
    list_separator=";",
    home=_home,
    roots=_roots,
    account_variables=_account_variables,
    given_variables={
        "USERPROFILE": "home",
        "USERNAME": "user",
        "APPDATA": "config",
        "LOCALAPPDATA": "data",
        "PROGRAMDATA": "shared",
        "TEMP": "temp",
        "TMP": "temp",
    },
    searched=("C:/Windows",),
    stores=frozenset({"registry"}),
    mounted=NO_MATCH,
    scope=Scope(
        top=(
            "Windows",
            "Program Files",
            "Program Files (x86)",
            "Recovery",
            "PerfLogs",
            "Config.Msi",
            "$WinREAgent",
            "$Windows.~BT",
            "MSOCache",
        ),
        each_disk=("$Recycle.Bin", "System Volume Information", "RECYCLER"),
        homes=("users", "documents and settings"),
    ),
    sensitive=Sensitive(
        starts=(
            ("config", "Microsoft/Windows/Start Menu/Programs/Startup"),
            ("shared", "Microsoft/Windows/Start Menu/Programs/StartUp"),
            ("home", "Start Menu/Programs/Startup"),
            ("documents", "WindowsPowerShell"),
            ("documents", "PowerShell"),
        ),
        starts_anywhere=("/Windows", "/ProgramData/Microsoft/Windows/Start Menu/Programs/StartUp"),
        systems=("Windows", "Program Files", "Program Files (x86)", "ProgramData"),
    ),
    sample=Sample(
        program="{{programs}}/{folder}/{name}.exe",
        disks=(("C", "disks/C"), ("D", "disks/D")),
        second="D:",
        system="11.0",
    ),
)
