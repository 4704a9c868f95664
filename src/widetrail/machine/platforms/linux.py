"""Linux: the XDG Base Directory and user-dirs specifications, and the Filesystem Hierarchy
Standard."""

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


def _roots(system: str, home: str) -> Mapping[str, str]:
    return {name: path.format(home=home) for name, path in _LINUX.items()}


LINUX = PlatformRules(
    name="linux",
    host="linux",
    ignores_case=False,
    drive_letters=False,
    names_are_text=False,
    has_modes=True,
    trouble_with_name=trouble_in_bytes,
    fit_name=str,
    variable=UNIX_VARIABLE,
    list_separator=":",
    home=lambda system, user: f"/home/{user}",
    roots=_roots,
    account_variables=unix_account_variables,
    given_variables={"USER": "user", "LOGNAME": "user"},
    own_variables={
        "XDG_CONFIG_HOME": "config",
        "XDG_DATA_HOME": "data",
        "XDG_CACHE_HOME": "cache",
        "XDG_STATE_HOME": "state",
    },
    stores=frozenset({"dconf"}),
    follows_xdg=True,
    mounted=re.compile("/media/.|/run/media/."),  # FHS 3.0, 3.11; udisks
    scope=Scope(
        top=(
            "bin",
            "boot",
            "dev",
            "etc",
            "lib",
            "lib32",
            "lib64",
            "libx32",
            "lost+found",
            "opt",
            "proc",
            "run",
            "sbin",
            "snap",
            "sys",
            "tmp",
            "usr",
            "var",
        ),
        each_disk=("lost+found",),
        homes=("home",),
        installed_outside=True,
        other_homes=("root",),
    ),
    sensitive=Sensitive(
        starts=(
            *(("home", name) for name in SHELL_STARTS),
            ("config", "autostart"),
            ("config", "autostart-scripts"),
            ("config", "systemd"),
            ("config", "environment.d"),
            ("config", "fish"),
            ("config", "plasma-workspace"),
            ("data", "systemd"),
            ("data", "dbus-1"),
            ("home", ".local/bin"),
            ("home", "bin"),
        ),
        starts_anywhere=(
            "/etc",
            "/var/spool/cron",
            "/var/spool/at",
            "/usr/lib/systemd",
            "/lib/systemd",
            "/usr/local/bin",
            "/usr/local/sbin",
        ),
        systems=(
            "bin",
            "boot",
            "dev",
            "etc",
            "lib",
            "lib32",
            "lib64",
            "libx32",
            "nix",
            "opt",
            "proc",
            "root",
            "run",
            "sbin",
            "snap",
            "sys",
            "usr",
            "var",
        ),
        devices=("dev", "proc", "sys"),
    ),
    sample=Sample(
        program="{{programs}}/{name}",
        disks=(("/", "disks/root"), ("/data", "disks/data")),
        second="/data",
        system="12",
    ),
)
