"""A machine in a temporary folder, with a recipe for it."""

from __future__ import annotations

import shutil
from collections.abc import Mapping, Sequence
from contextlib import AbstractContextManager
from pathlib import Path

from widetrail.errors import MachineUnusable
from widetrail.formats.outside import SafePath
from widetrail.machine import Effects, Machine, Room
from widetrail.machine.host import HostMachine
from widetrail.machine.platforms.linux import LINUX

RECIPE = """
recipe: 1
revision: 1
application: {id: fernbook, name: Fernbook}
recognise: [{sign: {file: "{home}/fernbook.ini"}}]
places: {notes: {folder: "{home}/notes"}}
items: {notes: {title: Notes, from: notes, routes: [{name: copy, legs: [{new: [copy]}]}]}}
"""
"""The recipe of a fake item, where a test gives none of its own."""


class TempMachine(HostMachine):
    """A Linux machine whose root is a folder, which needs to hold nothing."""

    def __init__(self, folder: Path, effects: Effects | None = None) -> None:
        self.name, self.identity, self.user = "test", "test", "ada"
        self.platform, self.system = LINUX.name, "12"
        self.administrator, self.network = False, True
        self.effects = effects or Effects()
        self._folder = SafePath(folder.resolve())

    def host(self, path: str) -> SafePath:
        return self._folder / path.lstrip("/")

    def root(self, name: str) -> str:
        return LINUX.roots(self.system, LINUX.home(self.system, self.user))[name]

    def variables(self) -> Mapping[str, str]:
        return LINUX.account_variables(self.user, {"home": self.root("home")})

    def disks(self) -> tuple[str, ...]:
        return ("/",)

    def room(self, path: str) -> Room:
        return Room("/", shutil.disk_usage(self._folder).free)

    def running(self, program: str) -> list[str]:
        return []

    def command(self, name: str) -> str | None:
        return None

    def _command(self, program: str) -> tuple[list[str], dict[str, str], str]:
        raise MachineUnusable("is not installed", where=program)

    def scratch(self, copies: Sequence[str]) -> AbstractContextManager[Machine]:
        raise MachineUnusable("has no scratch copy", where=self.name)
