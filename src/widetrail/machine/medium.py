"""The medium that a parcel travels on, and the room there is on it.

A folder with ``medium.yaml`` plays a medium of a given size, as a folder machine plays a
computer; without one, the medium is the volume that the parcel's folder lies on.
"""

from __future__ import annotations

import os
import shutil
from pathlib import Path

from widetrail.formats.documents import Model, load
from widetrail.lazily import dataclass
from widetrail.machine.machine_file import Size

FILE = "medium.yaml"


class MediumFile(Model):
    """What ``medium.yaml`` holds: a name for people, the size, and, for people too, its format."""

    medium: str
    size: Size
    format: str = ""


@dataclass(frozen=True)
class Medium:
    """A medium: its name for people, its free bytes, and whether it keeps who may read a file."""

    name: str
    free: int
    holds_modes: bool = True


def medium_of(parcel: Path) -> Medium:
    """Return the medium that holds, or would hold, the folder ``parcel``.

    Raises:
        DocumentUnusable: A ``medium.yaml`` above it has findings.
    """
    at = parcel.absolute()
    there = next(folder for folder in (at, *at.parents) if folder.is_dir())
    free = shutil.disk_usage(there).free
    for folder in (there, *there.parents):
        if (folder / FILE).is_file():
            file = load(MediumFile, folder / FILE)
            left = max(0, min(free, file.size - _used(folder)))
            modes = holds_modes(file.format) if file.format else _keeps_modes(there)
            return Medium(file.medium, left, modes)
    return Medium(str(there), free, _keeps_modes(there))


_WITHOUT_MODES = ("fat", "msdos", "exfat", "iso9660", "udf")
"""What the names of formats begin with or hold that keep no permission bits."""


def holds_modes(volume_format: str) -> bool:
    """Return whether a format of volumes keeps who may read a file, by its usual name."""
    return not any(name in volume_format.casefold() for name in _WITHOUT_MODES)


def _keeps_modes(folder: Path) -> bool:
    """Return whether the volume of a folder keeps permission bits, as far as the system tells."""
    import psutil

    mounts = [m for m in psutil.disk_partitions(all=True) if folder.is_relative_to(m.mountpoint)]
    found = max(mounts, key=lambda m: len(m.mountpoint), default=None)
    return found is None or holds_modes(found.fstype)


def _used(folder: Path) -> int:
    return sum(
        (Path(top) / name).lstat().st_size for top, _, names in os.walk(folder) for name in names
    )
