"""Status beyond contents: folders that are shut, owners, modes and times that are made the same."""

from __future__ import annotations

import os
import stat
import sys
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from widetrail.formats import outside
from widetrail.formats.outside import SafePath, StrPath


def is_shut(folder: Path) -> bool:
    """Return whether a folder of the account's own may not be changed by it."""
    if sys.platform == "win32" or os.geteuid() == 0:
        return False
    try:
        status = outside.status_of(folder)
    except OSError:
        return False
    shut = status.st_mode & 0o300 != 0o300
    return stat.S_ISDIR(status.st_mode) and shut and status.st_uid == os.geteuid()


@contextmanager
def writable(moved: Path | None, *folders: Path) -> Iterator[int | None]:
    """Have names in ``folders`` be changed, and a folder ``moved``, where the account owns them.

    Gives the mode that the moved one is to have again, if it was changed.
    """
    shut = {f: _mode(f) for f in dict.fromkeys(folders) if is_shut(f)}
    mode = _mode(moved) if moved is not None and is_shut(moved) else None
    for folder, before in shut.items():
        outside.set_mode(folder, before | 0o300)
    try:
        if moved is not None and mode is not None:  # its name of the folder above is in it
            outside.set_mode(moved, mode | 0o300)
        yield mode
    finally:
        for folder, before in shut.items():
            outside.set_mode(folder, before)


def _mode(path: Path) -> int:
    return stat.S_IMODE(outside.status_of(path).st_mode)


def more_status(path: Path, to: Path) -> bool:
    """Return whether a copy at ``to`` lacks something that ``Effects.make_same`` would give it.

    A socket or device has no copy.
    """
    status = outside.status_of(path)
    if not SafePath(to).exists():
        return stat.S_ISFIFO(status.st_mode)
    now = outside.status_of(to)
    file = stat.S_ISREG(status.st_mode) or stat.S_ISDIR(status.st_mode)
    other = (now.st_uid, now.st_gid, now.st_mode) != (status.st_uid, status.st_gid, status.st_mode)
    lists = file and outside.access_lists_of(path)
    return bool(lists) or other or now.st_mtime_ns != status.st_mtime_ns


def make_same(path: StrPath, to: StrPath) -> None:
    if sys.platform == "win32":  # there is no more to it there
        return
    status = outside.status_of(path)
    if stat.S_ISFIFO(status.st_mode) and not SafePath(to).exists():
        outside.make_pipe(to)
    now, link = outside.status_of(to), stat.S_ISLNK(status.st_mode)
    if (now.st_uid, now.st_gid) != (status.st_uid, status.st_gid):
        with suppress(PermissionError):  # only an administrator gives files away
            outside.set_owner(to, status.st_uid, status.st_gid)
    if link:
        return
    outside.set_access_lists(to, outside.access_lists_of(path))
    outside.set_mode(to, stat.S_IMODE(status.st_mode))
    outside.set_times(to, status.st_mtime_ns)


PERMISSIONS = 0o1777
"""Bits of a mode that are carried: never set-user-id or set-group-id."""
