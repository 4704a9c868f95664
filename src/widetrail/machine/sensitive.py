"""Paths and keys at which a file does more than lie there, or where nothing of a person's belongs.

A program starts from some of them by itself; others open the account to somebody, or are not the
account's own. What arrives at one of them needs a consent of its own. Sources: the XDG autostart
specification, systemd.unit(5), launchd.plist(5), the start-up files of the shells as their manuals
name them, and the run keys and start-up folder of Windows.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Literal

from widetrail.formats.registry import full_key
from widetrail.machine.interface import Machine
from widetrail.machine.own_folders import own_on
from widetrail.machine.paths import (
    is_within,
    join,
    key,
    parent,
    split,
    trouble_with_name,
)
from widetrail.machine.platforms import PLATFORMS, Platform

Attention = Literal["start-up", "access", "outside"]
"""Why a path needs a consent of its own: programs are started from there automatically; it says who
may use the account; it is none of the account's own folders."""

WHY: dict[Attention, str] = {
    "start-up": "programs are started from there automatically",
    "access": "it says who may use the account, or what it may do",
    "outside": "it lies outside the account's own folders",
}

_ACCESS = (".ssh", ".gnupg", ".netrc", ".rhosts", ".shosts", ".Xauthority", ".pki", ".aws", ".kube")
"""What says who may use an account, below its home."""

_START_KEYS = (
    r"Software\Microsoft\Windows\CurrentVersion\Run",
    r"Software\Microsoft\Windows\CurrentVersion\RunOnce",
    r"Software\Microsoft\Windows\CurrentVersion\RunOnceEx",
    r"Software\Microsoft\Windows\CurrentVersion\RunServices",
    r"Software\Microsoft\Windows\CurrentVersion\RunServicesOnce",
    r"Software\Microsoft\Windows\CurrentVersion\Policies\Explorer\Run",
    r"Software\Microsoft\Windows\CurrentVersion\Explorer\Shell Folders",
    r"Software\Microsoft\Windows\CurrentVersion\Explorer\User Shell Folders",
    r"Software\Microsoft\Windows\CurrentVersion\App Paths",
    r"Software\Microsoft\Windows NT\CurrentVersion\Winlogon",
    r"Software\Microsoft\Windows NT\CurrentVersion\Windows",
    r"Software\Microsoft\Windows NT\CurrentVersion\Image File Execution Options",
    r"Software\Microsoft\Command Processor",
    r"Software\Classes",
    r"Environment",
    r"System\CurrentControlSet\Services",
    r"System\CurrentControlSet\Control\Session Manager",
)
"""Keys below a hive from which programs start by themselves; those of 32 bits count too."""

_PERSONS_VOLUMES = ("/media", "/mnt", "/run/media", "/Volumes")
"""Folders in which volumes of a person's appear."""

ACCOUNT_ROOTS = (
    "home",
    "documents",
    "desktop",
    "downloads",
    "music",
    "pictures",
    "videos",
    "saved_games",
    "config",
    "data",
    "cache",
    "state",
    "preferences",
    "shared",
)
"""Roots that belong to an account, or are shared by all of a machine."""


def attention(path: str, machine: Machine, *, told: bool = False) -> Attention | None:
    """Return why something that arrives at ``path`` needs a consent of its own, or ``None``.

    ``told`` is whether a program's settings told the path: then it may lie anywhere, and one
    outside the account's own folders counts too.
    """
    for at, why in _sensitive(machine):
        if is_within(path, at, machine.platform):
            return why
    return "outside" if told and not is_own(path, machine) else None


def attentions(path: str, platform: Platform, roots: Mapping[str, str]) -> set[Attention]:
    """Return why what is put at ``path``, or below it, needs a consent of its own on a platform
    where the roots of an account lie so."""
    return {
        why
        for at, why in _sensitive_by(platform, roots.__getitem__, ("C:",))
        if is_within(path, at, platform) or is_within(at, path, platform)
    }


def attention_key(path: str) -> Attention | None:
    """Return why what is put into a registry key, or below it, needs a consent of its own."""
    try:
        _, _, below = full_key(path).partition("\\")
    except ValueError:
        return None
    seen = below.casefold().replace("software\\wow6432node", "software", 1)
    seen = f"{seen}\\" if seen else ""
    starts = [f"{key.casefold()}\\" for key in _START_KEYS]
    return "start-up" if any(seen.startswith(s) or s.startswith(seen) for s in starts) else None


def sensitive_below(path: str, machine: Machine) -> dict[str, Attention]:
    """Return the start-up places and the like that lie below a folder, by their paths."""
    fold = machine.platform
    return {
        at: why
        for at, why in _sensitive(machine)
        if is_within(at, path, fold) and not is_within(path, at, fold)
    }


def _sensitive(machine: Machine) -> Iterator[tuple[str, Attention]]:
    yield from _sensitive_by(machine.platform, machine.root, machine.disks())


def _sensitive_by(
    platform: Platform, root_of: Callable[[str], str], disks: Sequence[str]
) -> Iterator[tuple[str, Attention]]:
    rules = PLATFORMS[platform]
    for root, name in rules.sensitive.starts:
        yield join(root_of(root), name), "start-up"
    for path in rules.sensitive.starts_anywhere:
        for drive in disks if rules.drive_letters else ("",):
            yield join(drive, path), "start-up"
    for name in _ACCESS:
        yield join(root_of("home"), name), "access"


def is_own(path: str, machine: Machine) -> bool:
    """Return whether a path lies in a folder of the account's own, or on a volume that is not the
    system's."""
    fold = machine.platform
    if any(is_within(path, machine.root(root), fold) for root in ACCOUNT_ROOTS):
        return True
    anchor, segments = split(path)
    home = machine.root("home")
    if PLATFORMS[fold].drive_letters:
        if not anchor or key(anchor, fold) == key(split(home)[0], fold):
            return False  # a share, or the system's drive
        return not segments or key(segments[0], fold) not in _folded(fold)
    if any(is_within(path, folder, fold) for folder in _PERSONS_VOLUMES):
        return True
    if not segments or key(segments[0], fold) in _folded(fold):
        return False
    if is_within(path, parent(home), fold):  # another account's
        return False
    return any(d != "/" and is_within(path, d, fold) for d in machine.disks())


def _folded(platform: Platform) -> set[str]:
    return {key(name, platform) for name in PLATFORMS[platform].sensitive.systems}


def never_a_place(path: str, machine: Machine, *, told: bool) -> str:
    """Return why nothing may be taken from or put at ``path``, whatever anybody consents to, or an
    empty text.

    ``told`` is whether a program's settings told it: the home itself, or what holds it, is then a
    mistake or worse.
    """
    fold, rules = machine.platform, PLATFORMS[machine.platform]
    anchor, segments = split(path.replace("\\", "/") if rules.drive_letters else path)
    if rules.drive_letters and not (len(anchor) == 2 and anchor[1] == ":"):
        if anchor or not path.startswith("//"):
            return "it is not an absolute path"
        if segments and segments[0] in (".", "?"):
            return "it is a device"
    for segment in segments:
        if why := trouble_with_name(segment, fold):
            return f"{segment!r} {why}"
    if segments[:1] and segments[0] in rules.sensitive.devices:
        return "it is a device, or a view of the system"
    if told and is_within(machine.root("home"), path, fold):
        return "it is the home itself, or what holds it"
    own = own_on(machine)
    if is_within(path, own, fold):
        return "Wide Trail keeps its own journals there"
    return ""
