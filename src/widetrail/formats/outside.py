"""The one way to read a file that others may have made: of a parcel, a recipe, a journal.

Only a regular file is read, never through a link at its name, never waiting for a pipe, and never
more than was said. Folders on the way to it are looked at by who knows where its own begins.
"""

from __future__ import annotations

import errno
import os
import stat
from collections.abc import Iterable
from pathlib import Path

DOCUMENT_MOST = 16 * 1024 * 1024
"""Bytes of a document, at most."""

JOURNAL_MOST = 1 << 30
"""Bytes of a journal, or of what a machine's registry is kept in, at most."""

FILE_FLAGS = (
    os.O_RDONLY | getattr(os, "O_NOFOLLOW", 0) | getattr(os, "O_NONBLOCK", 0)
    | getattr(os, "O_BINARY", 0)
)  # fmt: skip
"""How a file of others is opened: never through a link, never waiting for a pipe."""


def read_outside(path: Path, most: int = DOCUMENT_MOST, *, follow: bool = False) -> bytes:
    """Return the bytes of a regular file of at most ``most`` bytes.

    ``follow`` lets its name be a link, where a person named it.

    Raises:
        OSError: It is not there, is no regular file, is larger, or the system refuses.
    """
    flags = FILE_FLAGS & ~getattr(os, "O_NOFOLLOW", 0) if follow else FILE_FLAGS
    handle = os.open(path, flags)
    try:
        status = os.fstat(handle)
        if not stat.S_ISREG(status.st_mode):
            raise OSError(errno.EINVAL, "is no regular file", str(path))
        if status.st_size > most:
            raise OSError(errno.EFBIG, f"has more than {most:,} bytes", str(path))
        with os.fdopen(handle, "rb", closefd=False) as file:
            data = file.read(most + 1)
    finally:
        os.close(handle)
    if len(data) > most:
        raise OSError(errno.EFBIG, f"has more than {most:,} bytes", str(path))
    return data


def no_plain_folder(top: Path, names: Iterable[str]) -> Path | None:
    """Return the first of the folders ``names`` below ``top`` that is there and is none itself, but
    a link or a file; each folder on the way to it counts too."""
    for name in names:
        at = top
        for part in name.split("/"):
            at /= part
            try:
                status = at.lstat()
            except OSError:
                break
            if not stat.S_ISDIR(status.st_mode):
                return at
    return None
