"""Where a survey looks: the disks of a machine, but for what is the system's or somebody else's."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

from widetrail.formats.interface import Platform
from widetrail.machine import Machine
from widetrail.machine.paths import base, is_within, join, key, parent

_SYSTEM: dict[Platform, tuple[str, ...]] = {
    "windows": (
        "Windows", "Program Files", "Program Files (x86)", "Recovery", "PerfLogs", "Config.Msi",
        "$WinREAgent", "$Windows.~BT", "MSOCache",
    ),
    "macos": (
        "System", "Library", "Applications", "Network", "Volumes", "bin", "cores", "dev", "opt",
        "private", "sbin", "usr", "etc", "tmp", "var",
    ),
    "linux": (
        "bin", "boot", "dev", "etc", "lib", "lib32", "lib64", "libx32", "lost+found", "opt",
        "proc", "run", "sbin", "snap", "sys", "tmp", "usr", "var",
    ),
}  # fmt: skip
"""Folders at the top of the disk with the account's home that hold the system and its programs."""

_ON_EACH_DISK: dict[Platform, tuple[str, ...]] = {
    "windows": ("$Recycle.Bin", "System Volume Information", "RECYCLER"),
    "macos": (".Spotlight-V100", ".Trashes", ".fseventsd", ".DocumentRevisions-V100"),
    "linux": ("lost+found",),
}

SYSTEM, ANOTHER, OWN = "the system's", "another account's", "Wide Trail's own"


@dataclass(frozen=True, slots=True)
class Grounds:
    """Where a survey looks, in the machine's own paths.

    ``starts`` are walked, ``passed`` are not, by key with the reason. ``edges`` are keys of folders
    that are told apart from what lies in them: roots and starts.
    """

    starts: tuple[str, ...]
    passed: dict[str, str] = field(default_factory=dict)
    edges: frozenset[str] = frozenset()


ROOTS_TOLD_APART = (
    "home", "documents", "desktop", "downloads", "music", "pictures", "videos", "saved_games",
    "config", "data", "cache", "state", "preferences", "shared",
)  # fmt: skip


def grounds_of(machine: Machine, below: str = "") -> Grounds:
    """Return where a survey of ``machine`` looks: everywhere, or at and below one folder."""
    platform, home = machine.platform, machine.root("home")
    roots = {machine.root(name) for name in ROOTS_TOLD_APART}
    disks = [disk for disk in machine.disks() if not _in_system(disk, home, platform)]
    top = max((d for d in disks if is_within(home, d, platform)), key=len, default="")
    passed = dict(_passed(machine, disks, top, home))
    outer = [r for r in roots if any(key(p, platform) in passed for p in _upwards(r))]
    starts = [below] if below else [*disks, home, *outer]
    starts = [s for s in dict.fromkeys(starts) if below or s not in outer or _apart(s, platform)]
    edges = {key(path, platform) for path in (*roots, *starts, *map(parent, roots))}
    return Grounds(tuple(starts), passed, frozenset(edges))


def _upwards(path: str) -> Iterator[str]:
    while True:
        yield path
        above = parent(path)
        if above == path:
            return
        path = above


def _apart(root: str, platform: Platform) -> bool:
    """Return whether a root in a folder of the system holds what programs keep for all accounts."""
    return platform != "linux"  # there it holds what is installed


def _in_system(disk: str, home: str, platform: Platform) -> bool:
    first = disk.strip("/").split("/")[0]
    return platform != "windows" and first in _SYSTEM[platform] and first not in ("", "Volumes")


def _passed(machine: Machine, disks: list[str], top: str, home: str) -> Iterator[tuple[str, str]]:
    platform = machine.platform
    for disk in disks:
        names = (*_ON_EACH_DISK[platform], *(_SYSTEM[platform] if disk == top else ()))
        for name in names:
            path = join(disk, name)
            if not is_within(home, path, platform):
                yield key(path, platform), SYSTEM
    yield key(machine.root("temp"), platform), SYSTEM
    for root in ("state", "cache"):
        yield key(join(machine.root(root), "widetrail"), platform), OWN


def another_account(path: str, home: str, platform: Platform) -> bool:
    """Return whether ``path`` is the home of another account: it lies beside this one's."""
    if platform == "linux" and path == "/root":
        return home != "/root"
    above = key(parent(path), platform)
    accounts = ("users", "documents and settings") if platform != "linux" else ("home",)
    if above != key(parent(home), platform) or base(above) not in accounts:
        return False
    in_common = key(base(path), platform) in ("public", "shared", "all users")
    return not in_common and key(path, platform) != key(home, platform)
