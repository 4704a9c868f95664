"""The medium that a parcel travels on, and the room there is on it.

A folder with ``medium.yaml`` plays a medium of a given size, as a folder machine plays a
computer; without one, the medium is the volume that the parcel's folder lies on.
"""

from __future__ import annotations

import os
import shutil
from dataclasses import dataclass
from pathlib import Path

from widetrail.formats.checked import Model, load
from widetrail.machine.folder import Size

FILE = "medium.yaml"


class MediumFile(Model):
    """What ``medium.yaml`` holds: a name for people, the size, and, for people too, its format."""

    medium: str
    size: Size
    format: str = ""


@dataclass(frozen=True, slots=True)
class Medium:
    """A medium: its name for people, and its free bytes."""

    name: str
    free: int


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
            return Medium(file.medium, left)
    return Medium(str(there), free)


def _used(folder: Path) -> int:
    return sum(
        (Path(top) / name).lstat().st_size for top, _, names in os.walk(folder) for name in names
    )
