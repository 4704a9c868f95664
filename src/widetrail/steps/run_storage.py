"""The run's own folders on the volume of what a step changes, and what is kept in them.

They lie in the run's folder where that is on the same volume, else in ``.widetrail/RUN`` in the
topmost folder of the volume that may be written to and that no service keeps in step.
"""

from __future__ import annotations

import os
from collections.abc import Iterator

from widetrail.errors import Halted
from widetrail.machine import Machine
from widetrail.machine.paths import base, join, parent, shared_name

STAGING = "staging"
ASIDE = "aside"
SAVED = "saved"
UNDONE = "undone"
PURPOSES = (STAGING, ASIDE, SAVED, UNDONE)
OWN = ".widetrail"


class Room:
    """The run's folders for one item, on the volume of a path, outside every place."""

    def __init__(self, machine: Machine, workroom: str, target: str, name: str) -> None:
        """Choose where; ``name`` is what the item's things are called there.

        Raises:
            Halted: No folder of the volume may be written to.
        """
        self._machine, self._name = machine, name
        self.home = next(_homes(machine, workroom, target), "")
        if not self.home:
            raise Halted(
                "backups cannot be kept on that disk",
                where=target,
                why="no folder above it is writable",
                todo="Give the account the right to write to one of them, then run this again.",
            )

    def fresh(self, purpose: str) -> str:
        """Return a path under ``purpose`` where nothing is yet; its parent is made."""
        folder = join(self.home, purpose)
        self._machine.effects.keep_private(self._machine.host(folder))
        number, path = 1, join(folder, self._name)
        while self._machine.host(path).exists():
            number += 1
            path = join(folder, f"{self._name}-{number}")
        return path

    def clear(self, path: str) -> None:
        """Remove what this run made at ``path``, and its own folders where they are empty."""
        host = self._machine.host(path)
        if host.is_dir():
            self._machine.effects.remove_tree(host)
        elif host.exists():
            self._machine.effects.remove_file(host)
        self.tidy()

    def tidy(self) -> None:
        """Remove the run's own folders that are empty."""
        for purpose in PURPOSES:
            self._remove_empty(join(self.home, purpose))
        if base(parent(self.home)) == OWN:
            self._remove_empty(self.home)
            self._remove_empty(parent(self.home))

    def _remove_empty(self, folder: str) -> None:
        host = self._machine.host(folder)
        if host.is_empty():
            self._machine.effects.remove_folder(host)


def _homes(machine: Machine, workroom: str, target: str) -> Iterator[str]:
    volume = machine.room(target).volume
    if machine.room(workroom).volume == volume:
        yield workroom
    above = []
    at = target
    while parent(at) != at and machine.room(parent(at)).volume == volume:
        at = parent(at)
        above.append(at)
    shares = machine.shares()
    for folder in reversed(above):
        host = machine.host(folder)
        taken = host / OWN  # of another account's run, perhaps
        free = os.access(taken if taken.is_dir() else host, os.W_OK)
        if free and not shared_name(folder, shares, machine.platform):
            yield join(folder, OWN, base(workroom))
