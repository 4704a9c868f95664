"""Where a survey looks: the disks of a machine, but for what is the system's or somebody else's."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

from widetrail.errors import InputUnusable
from widetrail.formats.interface import Platform
from widetrail.machine import Machine
from widetrail.machine.own import OWN_STATE
from widetrail.machine.paths import base, is_within, join, key, parent, upwards, written_by_machine

_SYSTEM: dict[Platform, tuple[str, ...]] = {
    "windows": (
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
    "macos": (
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
    "linux": (
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
}
"""Folders at the top of the disk with the account's home that hold the system and its programs."""

_ON_EACH_DISK: dict[Platform, tuple[str, ...]] = {
    "windows": ("$Recycle.Bin", "System Volume Information", "RECYCLER"),
    "macos": (".Spotlight-V100", ".Trashes", ".fseventsd", ".DocumentRevisions-V100"),
    "linux": ("lost+found",),
}

_HOMES: dict[Platform, tuple[str, ...]] = {
    "windows": ("users", "documents and settings"),
    "macos": ("users",),
    "linux": ("home",),
}

SYSTEM, ANOTHER, OWN = "the system's", "another account's", "Wide Trail's own"


@dataclass(frozen=True, slots=True)
class Grounds:
    """Where a survey looks, in the machine's own paths.

    ``starts`` are walked, ``passed`` are not, by key with the reason. ``edges`` are keys of folders
    that are told apart from what lies in them: roots and starts. ``homes`` is the key of the folder
    that holds the homes of accounts, ``own`` those in it that are this one's or everybody's.
    """

    starts: tuple[str, ...]
    passed: dict[str, str] = field(default_factory=dict)
    edges: frozenset[str] = frozenset()
    homes: str = ""
    own: frozenset[str] = frozenset()

    def is_another_account(self, folded: str) -> bool:
        """Return whether the folder of that key is the home of another account."""
        return folded.rpartition("/")[0] == self.homes and folded not in self.own


ROOTS_TOLD_APART = (
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


def grounds_of(machine: Machine, below: str = "") -> Grounds:
    """Return where a survey of ``machine`` looks: everywhere, or at and below one folder.

    Raises:
        InputUnusable: ``below`` is no folder of the machine.
    """
    platform, home = machine.platform, machine.root("home")
    if below:
        below = _folder(machine, below)
    roots = {machine.root(name) for name in ROOTS_TOLD_APART}
    disks = [disk for disk in machine.disks() if not _in_system(disk, home, platform)]
    top = max((d for d in disks if is_within(home, d, platform)), key=len, default="")
    passed = dict(_passed(machine, disks, top, home))
    outer = [r for r in sorted(roots) if any(key(p, platform) in passed for p in upwards(r))]
    if platform == "linux":
        outer = []  # there they hold what is installed
    starts = dict.fromkeys([below] if below else [*disks, home, *outer])
    edges = {key(path, platform) for path in (*roots, *starts, *map(parent, roots))}
    homes = key(parent(home), platform)
    if base(homes) not in _HOMES[platform]:
        homes = "none"
    common = {f"{homes}/{name}" for name in ("public", "shared", "all users")}
    return Grounds(
        tuple(starts), passed, frozenset(edges), homes, frozenset({key(home, platform), *common})
    )


def _folder(machine: Machine, path: str) -> str:
    """Return a folder as the machine writes it."""
    path = written_by_machine(path, machine.platform)
    there = machine.look(path)
    if there is None or there.kind != "folder":
        what = "nothing is there" if there is None else f"it is a {there.kind}"
        raise InputUnusable("is no folder of the machine", where=path, why=what)
    return path


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
        if platform == "linux" and home != "/root":
            yield join(disk, "root"), ANOTHER
    yield key(machine.root("temp"), platform), "temporary"
    for root in ("state", "cache"):
        yield key(join(machine.root(root), OWN_STATE), platform), OWN
