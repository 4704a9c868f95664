"""Modes, times, owners and access lists of what comes from outside."""

from __future__ import annotations

import errno
import os
import stat
import sys
from collections.abc import Iterator, Mapping
from contextlib import contextmanager, suppress

from widetrail.formats.outside.opening import (
    StrPath,
    as_called,
    held,
    open_at,
    open_folder,
    open_regular,
    status_of,
)

_ACLS = ("system.posix_acl_access", "system.posix_acl_default")


@contextmanager
def reached(path: StrPath) -> Iterator[StrPath]:
    """Lend a path by which calls that take no open name reach what is at ``path``, and no link.

    Raises:
        OSError: It is a link, or not there.
    """
    if not sys.platform.startswith("linux"):
        if stat.S_ISLNK(status_of(path).st_mode):
            raise OSError(errno.ELOOP, os.strerror(errno.ELOOP), str(path))
        yield as_called(path)
        return
    handle = open_at(path, os.O_PATH)
    try:
        if stat.S_ISLNK(os.fstat(handle).st_mode):
            raise OSError(errno.ELOOP, os.strerror(errno.ELOOP), str(path))
        yield f"/proc/self/fd/{handle}"
    finally:
        os.close(handle)


def set_mode(path: StrPath | int, mode: int) -> None:
    """Set permission bits of a file or folder, by its path or open."""
    if isinstance(path, int):
        os.chmod(path, mode)
        return
    if sys.platform != "win32":
        with suppress(OSError):  # a file, or a folder that may not be listed
            folder = open_folder(path)
            try:
                os.fchmod(folder, mode)
            finally:
                os.close(folder)
            return
    with reached(path) as itself:
        os.chmod(itself, mode)


def set_times(path: StrPath | int, mtime_ns: int) -> None:
    """Set the time of change of a file or folder, by its path or open, and that of its last
    reading."""
    if isinstance(path, int):
        os.utime(path, ns=(mtime_ns, mtime_ns))
        return
    with reached(path) as itself:
        os.utime(itself, ns=(mtime_ns, mtime_ns))


def set_owner(path: StrPath, uid: int, gid: int) -> None:
    """Give a file, folder or link to an account and group."""
    if sys.platform != "win32":
        with held(path) as (above, name):
            os.chown(name, uid, gid, dir_fd=above, follow_symlinks=False)


def give_tree(path: StrPath, uid: int, gid: int) -> None:
    """Give a folder with all in it to an account and group. What is neither folder nor file, or has
    other names elsewhere, stays whose it is."""
    if sys.platform != "win32":
        _give(open_folder(path), uid, gid)


def _give(folder: int, uid: int, gid: int) -> None:
    if sys.platform == "win32":  # files are not given away there
        return
    try:
        for name in os.listdir(folder):
            status = os.stat(name, dir_fd=folder, follow_symlinks=False)
            with suppress(OSError):  # it went away, or cannot be opened
                if stat.S_ISDIR(status.st_mode):
                    _give(open_folder(name, folder), uid, gid)
                elif stat.S_ISREG(status.st_mode):
                    _give_file(open_regular(name, folder), uid, gid)
        os.fchown(folder, uid, gid)
    finally:
        os.close(folder)


def _give_file(handle: int, uid: int, gid: int) -> None:
    if sys.platform == "win32":
        return
    try:
        if os.fstat(handle).st_nlink == 1:
            os.fchown(handle, uid, gid)
    finally:
        os.close(handle)


def access_lists_of(path: StrPath) -> Mapping[str, bytes]:
    """Return who else may use a file or folder (POSIX ACLs), as the system keeps it."""
    if not sys.platform.startswith("linux"):
        return {}
    with reached(path) as itself:
        return {name: os.getxattr(itself, name) for name in {*os.listxattr(itself)} & {*_ACLS}}


def set_access_lists(path: StrPath, lists: Mapping[str, bytes]) -> None:
    """Say who else may use a file or folder, as far as its volume can."""
    if sys.platform.startswith("linux") and lists:
        with reached(path) as itself:
            for name, value in lists.items():
                with suppress(OSError):  # what the volume refuses it never had
                    os.setxattr(itself, name, value)
