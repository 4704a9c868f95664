"""What there is to know of a platform: one value, which everything else asks."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from dataclasses import field
from typing import Literal

from widetrail.lazily import dataclass

StoreName = Literal["registry", "dconf"]
"""A store of named values that a platform has: the registry, or the desktop's settings."""


@dataclass(frozen=True, eq=False, repr=False)
class Sample:
    """How a new recipe's sample machines look on a platform.

    ``program`` is where a program's file usually is, with ``{folder}`` and ``{name}`` for its
    folder and command; ``disks`` are two disks with the folders that play them, and ``second`` is
    what paths on the second begin with; ``system`` is a release of the system.
    """

    program: str
    disks: tuple[tuple[str, str], tuple[str, str]]
    second: str
    system: str


@dataclass(frozen=True, eq=False, repr=False)
class Scope:
    """What of a computer is the system's: a survey passes it by, and little of it is a place.

    ``top`` are folders at the top of the disk with the account's home, ``each_disk`` those at the
    top of any; ``homes`` what the folder is called that holds the homes of accounts, in small
    letters; ``installed_outside`` tells that roots outside the home hold what is installed;
    ``other_homes`` are homes of other accounts that lie elsewhere; ``mount_folder`` is a folder at
    the top that holds disks, and is not the system's.
    """

    top: tuple[str, ...]
    each_disk: tuple[str, ...]
    homes: tuple[str, ...]
    installed_outside: bool = False
    other_homes: tuple[str, ...] = ()
    mount_folder: str = ""


@dataclass(frozen=True, eq=False, repr=False)
class Sensitive:
    """Where a file does more than lie there.

    ``starts`` are folders and files from which programs start by themselves, below a root;
    ``starts_anywhere`` those of the system, from the top of a disk; ``systems`` are folders at the
    top of a disk that are the system's; ``devices`` those that hold devices, or views of the
    system, and no files.
    """

    starts: tuple[tuple[str, str], ...]
    starts_anywhere: tuple[str, ...]
    systems: tuple[str, ...]
    devices: tuple[str, ...] = ()


@dataclass(frozen=True, eq=False, repr=False)
class PlatformRules:
    """All rules of a platform.

    ``title`` is its name for people, ``host`` what Python calls it (``sys.platform``). With
    ``drive_letters`` paths begin with the letter of a drive or the name of a share, and programs
    write them with backslashes.
    ``names_are_text`` tells that a name cannot hold bytes that are no text; ``trouble_with_name``
    says why a volume cannot hold a name, or nothing; ``fit_name`` gives the nearest one that it can
    hold. ``has_modes`` tells that modes say who may read a file.

    ``variable`` finds the variables in a text, ``list_separator`` parts the paths of one.
    ``home`` is the home of an account by the system's release and the account's name, ``roots``
    where everything is by the release and the home. ``account_variables`` are those of an account,
    by its name and its roots; ``given_variables`` and ``own_variables`` name the roots and ``user``
    that programs are given as variables, where an account's own variables come before or after
    them. ``searched`` are the folders in which a command is looked for, where that is not
    everywhere. ``mounted`` matches paths on disks that are connected.
    """

    name: str
    title: str
    host: str
    ignores_case: bool
    drive_letters: bool
    names_are_text: bool
    has_modes: bool
    trouble_with_name: Callable[[str], str]
    fit_name: Callable[[str], str]
    variable: re.Pattern[str]
    list_separator: str
    home: Callable[[str, str], str]
    roots: Callable[[str, str], Mapping[str, str]]
    account_variables: Callable[[str, Mapping[str, str]], dict[str, str]]
    given_variables: Mapping[str, str]
    scope: Scope
    sensitive: Sensitive
    sample: Sample
    mounted: re.Pattern[str]
    stores: frozenset[StoreName] = frozenset()
    follows_xdg: bool = False
    own_variables: Mapping[str, str] = field(default_factory=dict)
    searched: tuple[str, ...] | None = None

    @property
    def separator(self) -> str:
        """What parts the names of a path as programs write it."""
        return "\\" if self.drive_letters else "/"


NO_MATCH = re.compile("(?!)")
"""Matches nothing."""

LONGEST = 255
"""Bytes of a name that every platform holds; characters on Windows."""


def trouble_with_any_name(name: str) -> str:
    """Return why no volume can hold ``name``, or an empty text."""
    if not name or name in (".", "..") or "/" in name or "\0" in name:
        return "is not a name that a file can have"
    return ""


def trouble_in_bytes(name: str) -> str:
    """Return why a volume that counts bytes cannot hold ``name``, or an empty text."""
    too_long = len(name.encode("utf-8", "surrogateescape")) > LONGEST
    return trouble_with_any_name(name) or (f"is longer than {LONGEST} bytes" if too_long else "")


def roots_from(table: Mapping[str, str], home: str) -> Mapping[str, str]:
    """Return the roots of a table, in which ``{home}`` is the account's home and ``{system}`` the
    drive that it is on."""
    drive = home.partition("/")[0]
    return {name: path.format(home=home, system=drive) for name, path in table.items()}


UNIX_VARIABLE = re.compile(r"\$(?:\{(\w+)\}|(\w+))")

SHELL_STARTS = (
    ".bashrc",
    ".bash_profile",
    ".bash_login",
    ".bash_logout",
    ".bash_aliases",
    ".profile",
    ".zshrc",
    ".zshenv",
    ".zprofile",
    ".zlogin",
    ".zlogout",
    ".kshrc",
    ".cshrc",
    ".tcshrc",
    ".login",
    ".logout",
    ".inputrc",
    ".xinitrc",
    ".xprofile",
    ".xsession",
    ".xsessionrc",
    ".pam_environment",
)
"""The start-up files of the shells, as their manuals name them, and of the X Window System."""


def unix_account_variables(user: str, roots: Mapping[str, str]) -> dict[str, str]:
    """Return the variables of an account that name it and its home."""
    return {"HOME": roots["home"], "USER": user, "LOGNAME": user}
