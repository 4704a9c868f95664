"""Whose a path of a machine is: the account's, the program's own folder, or the system's."""

from __future__ import annotations

import os
from typing import Literal

from widetrail.machine import FolderMachine
from widetrail.machine.paths import is_within, join, key, parent, upwards
from widetrail.survey.scope import grounds_of

Zone = Literal["account", "program", "temporary", "system"]


class Zones:
    """The zones of a machine, for one program."""

    def __init__(self, machine: FolderMachine, program: str) -> None:
        self.platform = machine.platform
        self._passed = grounds_of(machine).passed
        self._program = parent(program)
        self._home, self._temp = machine.root("home"), machine.root("temp")
        self._disks = {mount: str(machine.host(mount or "/")) for mount in machine.disks()}

    def of(self, path: str) -> Zone:
        """Return whose a path of the machine is."""
        if is_within(path, self._temp, self.platform):
            return "temporary"
        if is_within(path, self._program, self.platform):
            return "program"
        if is_within(path, self._home, self.platform):
            return "account"
        passed = any(key(p, self.platform) in self._passed for p in upwards(path))
        return "system" if passed else "account"

    @property
    def folders(self) -> tuple[str, ...]:
        """The folders of this computer that play the disks."""
        return tuple(dict.fromkeys(self._disks.values()))

    def inside(self, machine: FolderMachine, path: str) -> str | None:
        """Return the machine's own path of one that a program of it asked for."""
        return self.own(path) if machine.not_isolated else path

    def own(self, host: str) -> str | None:
        """Return the machine's own path of one of this computer, or ``None`` outside its disks."""
        for mount, folder in sorted(self._disks.items(), key=lambda d: -len(d[1])):
            if host == folder:
                return mount
            if host.startswith(f"{folder}{os.sep}"):
                return join(mount, host[len(folder) + 1 :].replace(os.sep, "/"))
        return None
