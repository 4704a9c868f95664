"""Where a survey looks: the disks of a machine, but for what is the system's or somebody else's."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import field

from widetrail.errors import InputUnusable
from widetrail.lazily import dataclass
from widetrail.machine import Machine
from widetrail.machine.own_folders import OWN_STATE
from widetrail.machine.paths import base, is_within, join, key, parent, upwards, written_by_machine
from widetrail.machine.platforms import PLATFORMS, Platform
from widetrail.machine.sensitive import ACCOUNT_ROOTS

SYSTEM, ANOTHER, OWN = "the system's", "another account's", "Wide Trail's own"


@dataclass(frozen=True)
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


def grounds_of(machine: Machine, below: str = "") -> Grounds:
    """Return where a survey of ``machine`` looks: everywhere, or at and below one folder.

    Raises:
        InputUnusable: ``below`` is not a folder of the machine.
    """
    platform, home = machine.platform, machine.root("home")
    if below:
        below = _folder(machine, below)
    roots = {machine.root(name) for name in ACCOUNT_ROOTS}
    disks = [disk for disk in machine.disks() if not _in_system(disk, home, platform)]
    top = max((d for d in disks if is_within(home, d, platform)), key=len, default="")
    passed = dict(_passed(machine, disks, top, home))
    outer = [r for r in sorted(roots) if any(key(p, platform) in passed for p in upwards(r))]
    if PLATFORMS[platform].scope.installed_outside:
        outer = []
    starts = dict.fromkeys([below] if below else [*disks, home, *outer])
    edges = {key(path, platform) for path in (*roots, *starts, *map(parent, roots))}
    homes = key(parent(home), platform)
    if base(homes) not in PLATFORMS[platform].scope.homes:
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
        raise InputUnusable("is not a folder of the machine", where=path, why=what)
    return path


def _in_system(disk: str, home: str, platform: Platform) -> bool:
    first = disk.strip("/").split("/")[0]
    rules = PLATFORMS[platform]
    return not rules.drive_letters and first in {*rules.scope.top} - {"", rules.scope.mount_folder}


def _passed(machine: Machine, disks: list[str], top: str, home: str) -> Iterator[tuple[str, str]]:
    platform, scope = machine.platform, PLATFORMS[machine.platform].scope
    for disk in disks:
        names = (*scope.each_disk, *(scope.top if disk == top else ()))
        for name in names:
            path = join(disk, name)
            if not is_within(home, path, platform):
                yield key(path, platform), SYSTEM
        for other in scope.other_homes:
            if home != join("/", other):
                yield join(disk, other), ANOTHER
    yield key(machine.root("temp"), platform), "temporary"
    for root in ("state", "cache"):
        yield key(join(machine.root(root), OWN_STATE), platform), OWN
