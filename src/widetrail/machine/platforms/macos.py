"""macOS: its standard folders."""

from __future__ import annotations

import re
from collections.abc import Mapping

from widetrail.machine.platforms.rules import (
    SHELL_STARTS,
    UNIX_VARIABLE,
    PlatformRules,
    Sample,
    Scope,
    Sensitive,
    trouble_in_bytes,
    unix_account_variables,
)

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


def _roots(system: str, home: str) -> Mapping[str, str]:
    return {name: path.format(home=home) for name, path in _MACOS.items()}


MACOS = PlatformRules(
    name="macos",
    host="darwin",
    ignores_case=True,
    drive_letters=False,
    names_are_text=True,
    has_modes=True,
    trouble_with_name=trouble_in_bytes,
    fit_name=str,
    variable=UNIX_VARIABLE,
    list_separator=":",
    home=lambda system, user: f"/Users/{user}",
    roots=_roots,
    account_variables=unix_account_variables,
    given_variables={"USER": "user", "LOGNAME": "user"},
    searched=("/usr/bin", "/bin", "/usr/local/bin", "/opt/homebrew/bin"),
    mounted=re.compile("/Volumes/."),
    scope=Scope(
        top=(
            "System",
            "Library",
            "Applications",
            "Network",
            "Volumes",
            "bin",
            "cores",
            "dev",
            "opt",
            "private",
            "sbin",
            "usr",
            "etc",
            "tmp",
            "var",
        ),
        each_disk=(".Spotlight-V100", ".Trashes", ".fseventsd", ".DocumentRevisions-V100"),
        homes=("users",),
        mount_folder="Volumes",
    ),
    sensitive=Sensitive(
        starts=(
            *(("home", name) for name in SHELL_STARTS),
            ("home", "Library/LaunchAgents"),
            ("home", "Library/LaunchDaemons"),
            ("home", "Library/StartupItems"),
            ("home", ".config/fish"),
            ("home", "bin"),
        ),
        starts_anywhere=(
            "/Library/LaunchAgents",
            "/Library/LaunchDaemons",
            "/Library/StartupItems",
            "/etc",
            "/private/etc",
            "/usr/local/bin",
            "/var/at",
            "/private/var/at",
        ),
        systems=(
            "System",
            "Library",
            "Applications",
            "Network",
            "bin",
            "cores",
            "dev",
            "opt",
            "private",
            "sbin",
            "usr",
            "etc",
            "var",
        ),
        devices=("dev", "proc", "sys"),
    ),
    sample=Sample(
        program="{{programs}}/{folder}.app/Contents/MacOS/{name}",
        disks=(("/", "disks/root"), ("/Volumes/Data", "disks/data")),
        second="/Volumes/Data",
        system="14.5",
    ),
)
