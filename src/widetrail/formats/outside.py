"""The one way to touch files that others may have made: of a parcel, a machine, a recipe.

Each folder on the way to a name is opened below the one that holds it, and never through a link:
somebody who exchanges a folder for a link, at whatever moment, leads nothing anywhere. A link at
the name itself is a link, and nothing is read or written through it. Only a regular file is read,
never waiting for a pipe, and never more than was said.

Linux does that in one call (openat2(2), ``RESOLVE_NO_SYMLINKS``); where that is not to be had, the
folders are opened one after the other. Windows opens no name below a folder: there the folders are
looked at before, and somebody who works there at the same moment can still exchange one.

A path here is whole and holds no link that is meant: who knows where its own begins resolves that.
"""

from __future__ import annotations

import ctypes
import errno
import os
import stat
import sys
from collections.abc import Iterable, Iterator, Mapping
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import IO, Any, BinaryIO

if sys.platform == "win32":
    from pathlib import WindowsPath as _Path
else:
    from pathlib import PosixPath as _Path

DOCUMENT_MOST = 16 * 1024 * 1024
"""Bytes of a document, at most."""

JOURNAL_MOST = 1 << 30
"""Bytes of a journal, or of what a machine's registry is kept in, at most."""

StrPath = Path | str

_BELOW_HANDLES = os.open in os.supports_dir_fd
_NO_LINK = getattr(os, "O_NOFOLLOW", 0)
_AT_ONCE = getattr(os, "O_NONBLOCK", 0)
_PLAIN = getattr(os, "O_BINARY", 0) | getattr(os, "O_CLOEXEC", 0)
_FOLDER = getattr(os, "O_DIRECTORY", 0)
_NAME_ONLY = getattr(os, "O_PATH", os.O_RDONLY)
"""How a folder is opened to reach what is in it: that it may be listed is not needed."""

_OPENAT2, _AT_FDCWD, _NO_LINKS_AT_ALL = 437, -100, 0x04
_RENAME_NOREPLACE = 1
USER_ATTRIBUTES = "user."
"""The namespace of extended attributes that programs of an account may set (xattr(7))."""

_ACLS = ("system.posix_acl_access", "system.posix_acl_default")


class _How(ctypes.Structure):
    """``struct open_how`` of openat2(2)."""

    _fields_ = (("flags", ctypes.c_uint64), ("mode", ctypes.c_uint64), ("resolve", ctypes.c_uint64))


_libc = ctypes.CDLL(None, use_errno=True) if sys.platform != "win32" else None


def _open_in_one_call(path: StrPath, flags: int, mode: int) -> int:
    name = os.fsencode(path)
    if b"\0" in name:
        raise ValueError("embedded null byte")
    how = _How(flags, stat.S_IMODE(mode) if flags & os.O_CREAT else 0, _NO_LINKS_AT_ALL)
    assert _libc is not None
    while True:
        handle = int(_libc.syscall(_OPENAT2, _AT_FDCWD, name, ctypes.byref(how), _HOW_SIZE))
        if handle >= 0:
            return handle
        code = ctypes.get_errno()
        if code not in (errno.EINTR, errno.EAGAIN):
            raise OSError(code, os.strerror(code), str(path))


_HOW_SIZE = ctypes.sizeof(_How)


def _can_in_one_call() -> bool:
    if not sys.platform.startswith("linux"):
        return False
    try:
        os.close(_open_in_one_call("/", os.O_RDONLY | os.O_CLOEXEC, 0))
    except OSError:  # an older system, or one that lets a program do little
        return False
    return True


_in_one_call = _can_in_one_call()


def open_at(path: StrPath, flags: int, mode: int = 0o600) -> int:
    """Return a file or folder opened as ``flags`` say, reached through no link at any level.

    Raises:
        OSError: The system refuses; a link at the name or on the way to it is one (``ELOOP``, or
            ``ENOTDIR`` for a folder).
        ValueError: The path holds a NUL.
    """
    flags |= _NO_LINK | _PLAIN
    if _in_one_call:
        return _open_in_one_call(path, flags, mode)
    if not _BELOW_HANDLES:
        _insist_no_link(path)
        return os.open(path, flags, mode)
    text = os.fspath(path)
    at = os.open("/" if text.startswith("/") else ".", _NAME_ONLY | _FOLDER | _PLAIN)
    try:
        *folders, name = [part for part in text.split("/") if part not in ("", ".")] or ["."]
        for folder in folders:
            inner = os.open(folder, _NAME_ONLY | _FOLDER | _NO_LINK | _PLAIN, dir_fd=at)
            os.close(at)
            at = inner
        return os.open(name, flags, mode, dir_fd=at)
    finally:
        os.close(at)


def open_folder(path: StrPath, above: int | None = None) -> int:
    """Return a folder opened to be listed, or to make the names in it durable.

    ``above`` is the open folder that holds it, where ``path`` is only its name there.
    """
    flags = os.O_RDONLY | _FOLDER
    if above is not None:
        return os.open(path, flags | _NO_LINK | _PLAIN, dir_fd=above)
    return open_at(path, flags)


def open_any(path: StrPath, above: int | None = None) -> int:
    """Return whatever is there opened to be read, never waiting for a pipe; as ``open_folder``."""
    flags = os.O_RDONLY | _AT_ONCE
    if above is not None:
        return os.open(path, flags | _NO_LINK | _PLAIN, dir_fd=above)
    return open_at(path, flags)


def insist_regular(handle: int, path: StrPath) -> int:
    """Return what is open, which must be a regular file; it is closed where it is none.

    Raises:
        OSError: It is none (``EINVAL``).
    """
    if not stat.S_ISREG(os.fstat(handle).st_mode):
        os.close(handle)
        raise OSError(errno.EINVAL, NO_REGULAR_FILE, str(path))
    return handle


def open_regular(path: StrPath, above: int | None = None) -> int:
    """Return a regular file opened to be read, as ``open_folder``.

    Raises:
        OSError: As ``open_at``; it is no regular file (``EINVAL``).
    """
    return insist_regular(open_any(path, above), path)


NO_REGULAR_FILE = "is no regular file"


@contextmanager
def _held(path: StrPath) -> Iterator[tuple[int | None, StrPath]]:
    """Lend the opened folder that holds ``path``, with its name there.

    Where names are not opened below folders, that is no folder and the whole path.
    """
    if not _BELOW_HANDLES:
        _insist_no_link(path)
        yield None, path
        return
    folder, _, name = os.fspath(path).rstrip("/").rpartition("/")
    if name in ("", ".", ".."):
        raise OSError(errno.EINVAL, os.strerror(errno.EINVAL), str(path))
    handle = open_at(folder or ("/" if os.fspath(path).startswith("/") else "."), _REACH)
    try:
        yield handle, name
    finally:
        os.close(handle)


_REACH = _NAME_ONLY | _FOLDER


def _insist_no_link(path: StrPath) -> None:
    """Raise where a folder on the way to ``path`` is a link, or whatever leads elsewhere."""
    for above in Path(path).parents:
        try:
            status = os.lstat(above)
        except OSError:
            return
        leads = getattr(status, "st_reparse_tag", 0) in _LEADING
        if stat.S_ISLNK(status.st_mode) or leads:
            raise OSError(errno.ELOOP, "leads through a link", str(above))


_LEADING = (0xA0000003, 0xA000000C)
"""Tags of what leads elsewhere on Windows: a junction, a symbolic link."""


# Looking


def status_of(path: StrPath) -> os.stat_result:
    """Return the status of what is at ``path`` itself.

    Raises:
        OSError: Nothing is there, or the system refuses.
    """
    if _in_one_call:
        handle = _open_in_one_call(path, _NAME_ONLY | _NO_LINK | _PLAIN, 0)
        try:
            return os.fstat(handle)
        finally:
            os.close(handle)
    if os.fspath(path).rstrip("/") in ("", "."):
        return os.lstat(path)
    with _held(path) as (above, name):
        if above is None:
            return os.lstat(name)
        return os.stat(name, dir_fd=above, follow_symlinks=False)


def link_target(path: StrPath, above: int | None = None) -> str:
    """Return where a link leads; ``above`` as in ``open_folder``."""
    if above is not None:
        return os.readlink(path, dir_fd=above)
    with _held(path) as (above, name):
        return os.readlink(name) if above is None else os.readlink(name, dir_fd=above)


def names_in(path: StrPath) -> list[str]:
    """Return the names in a folder, in no order."""
    if not _BELOW_HANDLES:
        _insist_no_link(Path(path) / "x")
        return os.listdir(path)
    handle = open_folder(path)
    try:
        return os.listdir(handle)
    finally:
        os.close(handle)


def read_outside(path: Path, most: int = DOCUMENT_MOST, *, named: bool = False) -> bytes:
    """Return the bytes of a regular file of at most ``most`` bytes.

    ``named`` tells that a person named it: then it may lie behind links, and be one.

    Raises:
        OSError: It is not there, is no regular file, is larger, or the system refuses.
    """
    if named:
        path = Path(os.path.realpath(path))
    handle = open_regular(path)
    try:
        if os.fstat(handle).st_size > most:
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
                status = os.lstat(at)
            except OSError:
                break
            if not stat.S_ISDIR(status.st_mode):
                return at
    return None


# Changing


def make_folder(path: StrPath, mode: int = 0o777, *, named: bool = False) -> None:
    """Make one folder; ``named`` as in ``read_outside``."""
    if named:
        os.mkdir(path, mode)
        return
    with _held(path) as (above, name):
        os.mkdir(name, mode) if above is None else os.mkdir(name, mode, dir_fd=above)


def make_link(path: StrPath, target: str, mtime_ns: int | None = None) -> None:
    """Make a symbolic link, with a time of change of its own where the system has that."""
    with _held(path) as (above, name):
        if above is None:
            os.symlink(target, name)
            return
        os.symlink(target, name, dir_fd=above)
        if mtime_ns is not None and os.utime in os.supports_follow_symlinks:
            os.utime(name, ns=(mtime_ns, mtime_ns), dir_fd=above, follow_symlinks=False)


def make_hard_link(path: StrPath, to: StrPath) -> None:
    """Give the file at ``to`` another name."""
    with _held(path) as (above, name), _held(to) as (other, there):
        if above is None or other is None:
            os.link(there, name)
        else:
            os.link(there, name, src_dir_fd=other, dst_dir_fd=above, follow_symlinks=False)


def make_pipe(path: StrPath) -> None:
    """Make a pipe, where the system has such."""
    if sys.platform != "win32":
        with _held(path) as (above, name):
            os.mkfifo(name, dir_fd=above)


def remove_file(path: StrPath) -> None:
    """Remove one file or link."""
    with _held(path) as (above, name):
        os.unlink(name) if above is None else os.unlink(name, dir_fd=above)


def remove_folder(path: StrPath) -> None:
    """Remove one empty folder."""
    with _held(path) as (above, name):
        os.rmdir(name) if above is None else os.rmdir(name, dir_fd=above)


def replace(path: StrPath, to: StrPath) -> None:
    """Rename within a volume over what is at ``to``."""
    with _held(path) as (above, name), _held(to) as (other, there):
        if above is None or other is None:
            os.replace(name, there)
        else:
            os.replace(name, there, src_dir_fd=above, dst_dir_fd=other)


def rename(path: StrPath, to: StrPath) -> None:
    """Rename within a volume; what is at ``to`` already is never replaced."""
    with _held(path) as (above, name), _held(to) as (other, there):
        if above is None or other is None:  # there the plain call refuses to replace
            os.rename(name, there)
            return
        if _libc is not None and hasattr(_libc, "renameat2"):
            names = os.fsencode(name), os.fsencode(there)
            if _libc.renameat2(above, names[0], other, names[1], _RENAME_NOREPLACE) == 0:
                return
            code = ctypes.get_errno()
            if code not in (errno.EINVAL, errno.ENOSYS, errno.ENOTSUP):
                raise OSError(code, os.strerror(code), str(to))
        with suppress(FileNotFoundError):  # a volume without the flag: look, then rename
            os.stat(there, dir_fd=other, follow_symlinks=False)
            raise FileExistsError(errno.EEXIST, os.strerror(errno.EEXIST), str(to))
        os.rename(name, there, src_dir_fd=above, dst_dir_fd=other)


def cut(path: StrPath, size: int) -> None:
    """Cut a regular file to its first ``size`` bytes."""
    handle = open_at(path, os.O_WRONLY | _AT_ONCE)
    try:
        os.ftruncate(handle, size)
    finally:
        os.close(handle)


@contextmanager
def _itself(path: StrPath) -> Iterator[StrPath]:
    """Lend a path by which calls that take no open name reach what is at ``path``, and no link.

    Raises:
        OSError: It is a link, or not there.
    """
    if not sys.platform.startswith("linux"):
        if stat.S_ISLNK(status_of(path).st_mode):
            raise OSError(errno.ELOOP, os.strerror(errno.ELOOP), str(path))
        yield path
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
    with _itself(path) as itself:
        os.chmod(itself, mode)


def set_times(path: StrPath | int, mtime_ns: int) -> None:
    """Set the time of change of a file or folder, by its path or open, and that of its last
    reading."""
    if isinstance(path, int):
        os.utime(path, ns=(mtime_ns, mtime_ns))
        return
    with _itself(path) as itself:
        os.utime(itself, ns=(mtime_ns, mtime_ns))


def set_owner(path: StrPath, uid: int, gid: int) -> None:
    """Give a file, folder or link to an account and group."""
    if sys.platform != "win32":
        with _held(path) as (above, name):
            os.chown(name, uid, gid, dir_fd=above, follow_symlinks=False)


def give_tree(path: StrPath, uid: int, gid: int) -> None:
    """Give a folder with all in it to an account and group. What is no folder or file, or has other
    names elsewhere, stays whose it is."""
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


def attributes_of(path: StrPath | int) -> Mapping[str, bytes]:
    """Return the user's own extended attributes of a file or folder, by its path or open.

    A link has none, nor has anything where the volume has none.
    """
    if not sys.platform.startswith("linux"):
        return {}
    try:
        if isinstance(path, int):
            return _attributes(path)
        with _itself(path) as itself:
            return _attributes(itself)
    except OSError as error:
        if error.errno in (errno.ENOTSUP, errno.ENODATA, errno.EPERM, errno.ELOOP):
            return {}
        raise


def _attributes(at: StrPath | int) -> Mapping[str, bytes]:
    if not sys.platform.startswith("linux"):
        return {}
    own = [name for name in os.listxattr(at) if name.startswith(USER_ATTRIBUTES)]
    return {name: os.getxattr(at, name) for name in sorted(own)}


def set_attributes(path: StrPath, attributes: Mapping[str, bytes]) -> None:
    """Set extended attributes of the user's own, where the system has such."""
    if sys.platform.startswith("linux"):
        with _itself(path) as itself:
            for name, value in attributes.items():
                if name.startswith(USER_ATTRIBUTES):
                    os.setxattr(itself, name, value)


def access_lists_of(path: StrPath) -> Mapping[str, bytes]:
    """Return who else may use a file or folder (POSIX ACLs), as the system keeps it."""
    if not sys.platform.startswith("linux"):
        return {}
    with _itself(path) as itself:
        return {name: os.getxattr(itself, name) for name in {*os.listxattr(itself)} & {*_ACLS}}


def set_access_lists(path: StrPath, lists: Mapping[str, bytes]) -> None:
    """Say who else may use a file or folder, as far as its volume can."""
    if sys.platform.startswith("linux") and lists:
        with _itself(path) as itself:
            for name, value in lists.items():
                with suppress(OSError):  # what the volume refuses it never had
                    os.setxattr(itself, name, value)


# Paths


class SafePath(_Path):
    """A path whose every look and change is made in this file's way; see there.

    A link at its name is told as a link: it exists, and is no file and no folder.
    """

    def stat(self, *, follow_symlinks: bool = True) -> os.stat_result:
        return status_of(self)

    def lstat(self) -> os.stat_result:
        return status_of(self)

    def _kind(self) -> int:
        try:
            return stat.S_IFMT(status_of(self).st_mode)
        except (OSError, ValueError):
            return 0

    def exists(self, *, follow_symlinks: bool = True) -> bool:
        return self._kind() != 0

    def is_dir(self, *, follow_symlinks: bool = True) -> bool:
        return self._kind() == stat.S_IFDIR

    def is_file(self, *, follow_symlinks: bool = True) -> bool:
        return self._kind() == stat.S_IFREG

    def is_symlink(self) -> bool:
        return self._kind() == stat.S_IFLNK

    def iterdir(self) -> Iterator[SafePath]:  # type: ignore[override]
        return (self / name for name in names_in(self))

    def below(self) -> Iterator[SafePath]:
        """Give all that lies below a folder, each folder before what is in it; nothing where it is
        none."""
        for path in sorted(self.iterdir()) if self.is_dir() else ():
            yield path
            if path.is_dir():
                yield from path.below()

    def is_empty(self) -> bool:
        """Return whether it is a folder that holds nothing."""
        return self.is_dir() and not names_in(self)

    def open(  # type: ignore[override]
        self,
        mode: str = "r",
        buffering: int = -1,
        encoding: str | None = None,
        errors: str | None = None,
        newline: str | None = None,
    ) -> IO[Any]:
        return open(self, mode, buffering, encoding, errors, newline, opener=_opener)

    def reading(self, buffering: int = -1) -> BinaryIO:
        """Return the regular file opened to be read."""
        return os.fdopen(open_regular(self), "rb", buffering)

    def mkdir(self, mode: int = 0o777, parents: bool = False, exist_ok: bool = False) -> None:
        if parents and not self.parent.exists():
            self.parent.mkdir(parents=True, exist_ok=True)
        if not (exist_ok and self.is_dir()):
            make_folder(self, mode)

    def unlink(self, missing_ok: bool = False) -> None:
        if not missing_ok or self.exists():
            remove_file(self)

    def rmdir(self) -> None:
        remove_folder(self)

    def chmod(self, mode: int, *, follow_symlinks: bool = True) -> None:
        set_mode(self, mode)


def _opener(path: str, flags: int) -> int:
    return insist_regular(open_at(path, flags | _AT_ONCE, 0o666), path)
