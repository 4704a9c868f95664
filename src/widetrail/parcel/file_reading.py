"""Reading files that may change meanwhile, as they are packed."""

from __future__ import annotations

import hashlib
import json
import os
import time
from base64 import b64encode
from collections.abc import Iterable, Mapping
from typing import Any, BinaryIO

from widetrail.errors import MachineUnusable
from widetrail.formats.outside import changed_ns
from widetrail.machine import Entry
from widetrail.parcel.segments import CHUNK
from widetrail.steps.cargo import UnreadableFile


class Reading:
    """Tells which file it is that the system cannot read.

    Effects raise errors of their own, so that what comes here is of reading.
    """

    __slots__ = ("_path",)

    def __init__(self, entry: Entry) -> None:
        self._path = entry.path

    def __enter__(self) -> None:
        pass

    def __exit__(self, kind: object, error: BaseException | None, trace: object) -> None:
        if isinstance(error, MachineUnusable):
            raise UnreadableFile(self._path, error) from error
        if isinstance(error, OSError):
            why = error.strerror or str(error)
            told = MachineUnusable("cannot be read", where=self._path, why=why)
            raise UnreadableFile(self._path, told) from error


def read_whole(file: BinaryIO, size: int) -> bytes:
    """Return what a file holds that is to have ``size`` bytes; one byte more where it has more.

    Raises:
        OSError: The system refuses.
    """
    data = file.read(size + 1)  # as a rule all of it, by one call of the system
    while len(data) < size and (more := file.read(size + 1 - len(data))):
        data += more
    return data


def is_changed(file: BinaryIO, entry: Entry) -> bool:
    """Return whether an open file is no longer the one that was listed, by its status.

    What has no number was made just now, and is not a file of the machine.
    """
    if not entry.number:
        return False
    status = os.fstat(file.fileno())
    number = f"{status.st_dev}:{status.st_ino}"
    now = number, status.st_size, status.st_mtime_ns, changed_ns(status)
    return now != (entry.number, entry.size, entry.mtime, entry.changed)


COARSE = 2 * 10**9
"""Nanoseconds that times of change are rounded to on FAT volumes (exFAT: 10 ms)."""


def is_fresh(entry: Entry, file: BinaryIO, hashed: Any) -> bool:
    """Return whether a file that was changed a moment ago, on a volume whose times are too coarse
    to tell another change, holds something else than was ``hashed`` when it is read again."""
    coarse = entry.mtime % 10**9 == 0 and bool(entry.number)
    if not coarse or time.time_ns() - max(entry.mtime, entry.changed) > 2 * COARSE:
        return False
    file.seek(0)
    return sha256_of(iter(lambda: file.read(CHUNK), b"")) != str(hashed.hexdigest())


def sha256_of(chunks: Iterable[bytes]) -> str:
    hashed = hashlib.sha256()
    for chunk in chunks:
        hashed.update(chunk)
    return hashed.hexdigest()


def attributes_told(attributes: Mapping[str, bytes]) -> str:
    """Return extended attributes as an entry tells them."""
    if not attributes:
        return ""
    return json.dumps({n: b64encode(v).decode() for n, v in sorted(attributes.items())})
