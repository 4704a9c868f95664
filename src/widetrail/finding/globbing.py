"""What of a machine's files a path with globs matches."""

from __future__ import annotations

import re

from widetrail.errors import MachineUnusable
from widetrail.machine import Entry, Machine
from widetrail.machine.paths import join
from widetrail.recipe import Globs

MOST = 500_000
"""Names that are looked at for one glob, at most."""


def has_glob(path: str) -> bool:
    """Return whether a path holds a glob."""
    return bool(re.search(r"[*?\[]", path))


def split_glob(path: str) -> tuple[str, str]:
    """Return the folder before the first segment with a glob, and the rest."""
    segments = path.split("/")
    first = next(n for n, segment in enumerate(segments) if has_glob(segment))
    return "/".join(segments[:first]) or "/", "/".join(segments[first:])


def matching(machine: Machine, path: str) -> list[tuple[str, Entry]]:
    """Return the paths that match, in order, with their entries; links are not followed.

    Raises:
        MachineUnusable: A folder cannot be read, or there is too much to look at.
    """
    folder, glob = split_glob(path)
    if machine.look(folder) is None:
        return []
    matches = Globs([glob], ignore_case=machine.rules.ignores_case)
    deepest = None if "**" in glob else glob.count("/") + 1
    found = []
    for number, entry in enumerate(machine.walk(folder, deepest)):
        if number > MOST:
            why = f"more than {MOST} names lie below {folder}"
            raise MachineUnusable("the pattern matches too many files", where=path, why=why)
        if matches(entry.path):
            found.append((join(folder, entry.path), entry))
    return found


def kind_at(machine: Machine, path: str) -> str | None:
    """Return what is at ``path``, or ``None`` where nothing is or it cannot be looked at."""
    try:
        entry = machine.look(path)
    except MachineUnusable:
        return None
    return entry.kind if entry is not None else None
