"""Where the paths of a folder machine lie: below the folders that are its disks."""

from __future__ import annotations

import os
from collections.abc import Mapping

from widetrail.errors import MachineUnusable
from widetrail.formats.outside import SafePath, leads_on, names_in
from widetrail.machine import paths
from widetrail.machine.machine_file import FILE, Disk
from widetrail.machine.platforms import PLATFORMS, Platform


class DiskFolders:
    """The disks of a machine in ``folder``; ``at`` holds where each lies, by its drive or mount
    point: ``D:``, ``/media/x``, and an empty text for the root."""

    def __init__(self, folder: SafePath, platform: Platform, disks: Mapping[str, Disk]) -> None:
        """
        Raises:
            MachineUnusable: The folder of a disk is not there, or lies elsewhere.
        """
        self._platform, self._rules = platform, PLATFORMS[platform]
        self._disks = {self._mount(name): disk for name, disk in disks.items()}
        self.at: dict[str, str] = {}
        for name, disk in self._disks.items():
            at = self.at[name] = os.path.realpath(folder / disk.folder)
            if not (at.startswith(f"{folder}{os.sep}") and SafePath(at).is_dir()):
                raise MachineUnusable(
                    "the folder of a disk is not there",
                    where=str(folder / disk.folder),
                    why=f"{FILE} gives it to {name or '/'}",
                )

    def _mount(self, name: str) -> str:
        return f"{name[0].upper()}:" if self._rules.drive_letters else name.rstrip("/")

    def of(self, path: str) -> tuple[str, Disk]:
        """Return the mount point that a path lies below, and its disk.

        Raises:
            MachineUnusable: There is none.
        """
        mounts = [m for m in self._disks if paths.is_within(path, m or "/", self._platform)]
        if not mounts or not path:
            anchor = path.split("/")[0] or "/"
            raise MachineUnusable("disk not found", where=path, why=f"{anchor} does not exist")
        mount = max(mounts, key=len)
        return mount, self._disks[mount]

    def as_written(self, path: str) -> str:
        """Return where a path lies if each folder on the way is spelled so and none is a link; an
        empty text where that cannot be so."""
        mount, _ = self.of(path)
        segments = path[len(mount) :].split("/")
        if "." in segments or ".." in segments:
            return ""
        return "".join([self.at[mount], *(f"{os.sep}{s}" for s in segments if s)])

    def host(self, path: str) -> SafePath:
        """Return where a path lies, spelled as the disk spells it.

        Raises:
            MachineUnusable: It leads through a link, holds ``..``, or there is no such disk.
        """
        mount, _ = self.of(path)
        at = self.at[mount]
        segments = [s for s in path[len(mount) :].split("/") if s]
        for number, segment in enumerate(segments):
            if segment in (".", ".."):
                raise MachineUnusable("a path must not contain `..`", where=path)
            if number and leads_on(at):
                why = f"{at.rpartition(os.sep)[2]} is one"
                raise MachineUnusable("leads through a link", where=path, why=why)
            at = f"{at}{os.sep}{self._spelled(at, segment)}"
        return SafePath(at)

    def _spelled(self, folder: str, name: str) -> str:
        """Return how the folder itself spells ``name``, on volumes where spelling is free."""
        if not self._rules.ignores_case or os.path.lexists(f"{folder}{os.sep}{name}"):
            return name
        try:
            listed = sorted(names_in(folder))
        except OSError:
            return name
        wanted = paths.key(name, self._platform)
        return next((n for n in listed if paths.key(n, self._platform) == wanted), name)
