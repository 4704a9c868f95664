"""Names that are made, exchanged and removed where what is there may come from outside."""

from __future__ import annotations

import ctypes
import errno
import os
import stat
import sys
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

from widetrail.formats.outside import macos, windows
from widetrail.formats.outside.attributes import set_mode
from widetrail.formats.outside.opening import (
    AT_ONCE,
    LIBC,
    StrPath,
    as_called,
    forget_folders,
    held,
    names_in,
    open_at,
    open_folder,
    status_of,
)

_RENAME_NOREPLACE = 1


def make_folder(path: StrPath, mode: int = 0o777, *, named: bool = False) -> None:
    """Make one folder; ``named`` as in ``read_outside``."""
    if named:
        os.mkdir(path, mode)
        return
    with held(path) as (above, name):
        os.mkdir(name, mode) if above is None else os.mkdir(name, mode, dir_fd=above)


def make_link(path: StrPath, target: str, mtime_ns: int | None = None) -> None:
    """Make a symbolic link, with a time of change of its own where the system has that."""
    with held(path) as (above, name):
        if above is None:  # on Windows a link says whether it leads to a folder
            forget_folders()
            leads_to = os.path.isdir(os.path.join(os.path.dirname(name), target))
            os.symlink(target, name, target_is_directory=leads_to)
            os.lstat(name)  # wine claims to make links
            return
        os.symlink(target, name, dir_fd=above)
        if mtime_ns is not None and os.utime in os.supports_follow_symlinks:
            os.utime(name, ns=(mtime_ns, mtime_ns), dir_fd=above, follow_symlinks=False)


def make_hard_link(path: StrPath, to: StrPath) -> None:
    """Give the file at ``to`` another name."""
    with held(path) as (above, name), held(to) as (other, there):
        if above is None or other is None:
            os.link(there, name)
        else:
            os.link(there, name, src_dir_fd=other, dst_dir_fd=above, follow_symlinks=False)


def make_pipe(path: StrPath) -> None:
    """Make a pipe, where the system has such."""
    if sys.platform != "win32":
        with held(path) as (above, name):
            os.mkfifo(name, dir_fd=above)


def remove_file(path: StrPath, holder: int | None = None) -> None:
    """Remove one file or link; ``holder`` is the open folder that holds it, where ``path`` is only
    its name there."""
    if holder is not None:
        os.unlink(path, dir_fd=holder)
        return
    with held(path) as (above, name):
        if above is None:
            _take_away(name)
        else:
            os.unlink(name, dir_fd=above)


def remove_folder(path: StrPath, holder: int | None = None) -> None:
    """Remove one empty folder; ``holder`` as in ``remove_file``."""
    if holder is not None:
        os.rmdir(path, dir_fd=holder)
        return
    with held(path) as (above, name):
        if above is None:
            _take_away(name)
        else:
            os.rmdir(name, dir_fd=above)


def _take_away(name: str) -> None:
    """Remove one file, link or empty folder on Windows, also one that is read-only or in use for
    a moment."""
    if sys.platform != "win32":
        return
    folder = stat.S_ISDIR(os.lstat(name).st_mode)  # so is a junction, and a link to a folder
    _though_read_only(lambda: os.rmdir(name) if folder else os.unlink(name), name)


def _though_read_only(change: Callable[[], None], name: str) -> None:
    """Make a change on Windows that takes ``name`` away, also where it is read-only or in use for a
    moment; where that fails it stays as it was."""
    if sys.platform == "win32":
        forget_folders()
        give_back = windows.make_removable(name)
        try:
            windows.patiently(change, name)
        except OSError:
            give_back()
            raise


def replace(path: StrPath, to: StrPath) -> None:
    """Rename within a volume over what is at ``to``."""
    with held(path) as (above, name), held(to) as (other, there):
        if above is None or other is None:
            _move_over(name, there)
        else:
            os.replace(name, there, src_dir_fd=above, dst_dir_fd=other)


def _move_over(name: str, there: str) -> None:
    if sys.platform == "win32":
        _though_read_only(lambda: windows.move(name, there, replace=True), there)


def rename(path: StrPath, to: StrPath) -> None:
    """Rename within a volume; what is at ``to`` already is never replaced."""
    with held(path) as (above, name), held(to) as (other, there):
        if above is None or other is None:
            if sys.platform == "win32":
                forget_folders()
                windows.patiently(lambda: windows.move(name, there), name)
            return
        if LIBC is not None and hasattr(LIBC, "renameat2"):
            names = os.fsencode(name), os.fsencode(there)
            if LIBC.renameat2(above, names[0], other, names[1], _RENAME_NOREPLACE) == 0:
                return
            code = ctypes.get_errno()
            if code not in (errno.EINVAL, errno.ENOSYS, errno.ENOTSUP):
                raise OSError(code, os.strerror(code), str(to))
        if sys.platform == "darwin" and macos.rename_new(above, name, other, there):
            return
        with suppress(FileNotFoundError):  # a volume without the flag: look, then rename
            os.stat(there, dir_fd=other, follow_symlinks=False)
            raise FileExistsError(errno.EEXIST, os.strerror(errno.EEXIST), str(to))
        os.rename(name, there, src_dir_fd=above, dst_dir_fd=other)


def cut(path: StrPath, size: int) -> None:
    """Cut a regular file to its first ``size`` bytes."""
    handle = open_at(path, os.O_WRONLY | AT_ONCE)
    try:
        os.ftruncate(handle, size)
    finally:
        os.close(handle)


def flush(handle: int) -> None:
    """Make what was written to an open file durable."""
    if sys.platform == "darwin":
        macos.flush(handle)
    else:
        os.fsync(handle)


def flush_folder(path: StrPath) -> None:
    """Make the names in a folder durable, where the system and the volume can."""
    if sys.platform == "win32":
        windows.flush_folder(as_called(path))
        return
    handle = open_folder(path)
    try:
        flush(handle)
    except OSError as error:
        if error.errno not in (errno.EINVAL, errno.ENOTSUP):  # some FUSE volumes refuse
            raise
    finally:
        os.close(handle)


def flush_files(path: StrPath) -> None:
    """Make the contents of the file at ``path``, or of all files below the folder there, durable
    one by one, for systems on which a volume is not made so as a whole."""
    mode = status_of(path).st_mode
    if stat.S_ISDIR(mode):
        for name in names_in(path):
            flush_files(Path(path) / name)
        flush_folder(path)
        return
    if not stat.S_ISREG(mode):
        return
    if not mode & stat.S_IWUSR:  # only what may be written to can be flushed
        set_mode(path, stat.S_IMODE(mode) | stat.S_IWUSR)
    try:
        handle = open_at(path, os.O_RDWR)
        try:
            flush(handle)
        finally:
            os.close(handle)
    finally:
        if not mode & stat.S_IWUSR:
            set_mode(path, stat.S_IMODE(mode))
