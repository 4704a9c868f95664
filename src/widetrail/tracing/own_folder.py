"""The folder that is a program's own: the highest one above a file that it mostly uses."""

from __future__ import annotations

from collections.abc import Set as AbstractSet

from widetrail.machine import Machine
from widetrail.machine.paths import base, key, parent
from widetrail.recipe.templates import ROOTS

MOSTLY = 0.5
"""The part of the files in a folder that a program uses, from which on the folder is its own."""


def own_folder(
    machine: Machine, path: str, used: AbstractSet[str], program: str = ""
) -> str | None:
    """Return the highest folder above a file that is mostly the program's, below all roots.

    ``used`` are the keys of the files that it uses. A folder above one that is called as the
    ``program`` and holds nothing else is its maker's.
    """
    edges = {key(machine.root(name), machine.platform) for name in ROOTS}
    edges |= {key(parent(edge), machine.platform) for edge in edges}
    edges |= {key(disk, machine.platform) for disk in machine.disks()}
    folder, best, count = parent(path), None, 0
    called: tuple[str, int] | None = None
    while key(folder, machine.platform) not in edges and folder != parent(folder):
        files = [e.path for e in machine.walk(folder) if e.kind == "file"]
        mine = sum(key(f"{folder}/{name}", machine.platform) in used for name in files)
        if best is not None and mine < MOSTLY * len(files):
            break
        if _plain(base(folder)) == _plain(base(program)):
            called = folder, len(files)
        best, folder, count = folder, parent(folder), len(files)
    return called[0] if called and called[1] == count else best


def _plain(name: str) -> str:
    stem = name.casefold().removesuffix(".exe").removesuffix(".app")
    return "".join(letter for letter in stem if letter.isalnum())
