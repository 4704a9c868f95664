"""Opening and looking at what may come from outside, and never through a link."""

from __future__ import annotations

import ctypes
import errno
import os
import stat
import sys
import time
from collections.abc import Iterable, Iterator
from contextlib import contextmanager, suppress
from functools import cache
from io import BytesIO
from pathlib import Path
from typing import Any, BinaryIO

from widetrail.formats.outside import windows

DOCUMENT_MOST = 16 * 1024 * 1024
"""Bytes of a document, at most."""

JOURNAL_MOST = 1 << 30
"""Bytes of a journal, or of what a machine's registry is kept in, at most."""

PIECE = 1024 * 1024
"""Bytes that are read at once."""

StrPath = Path | str

_BELOW_HANDLES = os.open in os.supports_dir_fd
_NO_LINK = getattr(os, "O_NOFOLLOW", 0)
AT_ONCE = getattr(os, "O_NONBLOCK", 0)
_PLAIN = getattr(os, "O_BINARY", 0) | getattr(os, "O_CLOEXEC", 0)
_FOLDER = getattr(os, "O_DIRECTORY", 0)
_NAME_ONLY = getattr(os, "O_PATH", os.O_RDONLY)
"""How a folder is opened to reach what is in it: that it may be listed is not needed."""

_OPENAT2, _AT_FDCWD, _NO_LINKS_AT_ALL = 437, -100, 0x04


class _How(ctypes.Structure):
    """``struct open_how`` of openat2(2)."""

    _fields_ = (("flags", ctypes.c_uint64), ("mode", ctypes.c_uint64), ("resolve", ctypes.c_uint64))


LIBC = ctypes.CDLL(None, use_errno=True) if sys.platform != "win32" else None


def _open_in_one_call(path: StrPath, flags: int, mode: int) -> int:
    name = os.fsencode(path)
    if b"\0" in name:
        raise ValueError("embedded null byte")
    how = _how(flags, stat.S_IMODE(mode) if flags & os.O_CREAT else 0)
    while True:
        handle: int = _syscall(_OPENAT2, _AT_FDCWD, name, how, _HOW_SIZE)
        if handle >= 0:
            return handle
        code = ctypes.get_errno()
        if code not in (errno.EINTR, errno.EAGAIN):
            raise OSError(code, os.strerror(code), str(path))


_HOW_SIZE = ctypes.sizeof(_How)
_syscall: Any = LIBC.syscall if LIBC is not None else None


@cache
def _how(flags: int, mode: int) -> Any:
    """Return a reference to what openat2 is given: it only reads it."""
    return ctypes.byref(_How(flags, mode, _NO_LINKS_AT_ALL))


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
        return _open_on_windows(as_called(path), flags, mode)
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


def _open_on_windows(path: str, flags: int, mode: int) -> int:
    if sys.platform != "win32":
        raise OSError(errno.ENOSYS, os.strerror(errno.ENOSYS), path)
    if not flags & os.O_EXCL:
        with suppress(FileNotFoundError):
            if is_link(os.lstat(path)):
                raise OSError(errno.ELOOP, "is a link", path)
    return windows.patiently(lambda: windows.open_file(path, flags, mode), path)


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
    flags = os.O_RDONLY | AT_ONCE
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
        OSError: As ``open_at``; it is not a regular file (``EINVAL``).
    """
    return insist_regular(open_any(path, above), path)


NO_REGULAR_FILE = "is not a regular file"


@contextmanager
def held(path: StrPath) -> Iterator[tuple[int | None, str]]:
    """Lend the opened folder that holds ``path``, with its name there.

    Where names are not opened below folders, that is not a folder and the whole path.
    """
    if not _BELOW_HANDLES:
        _insist_no_link(path)
        yield None, as_called(path)
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
    """Raise where a folder on the way to ``path`` is a link, or whatever leads elsewhere.

    A folder that was none a moment ago is not looked at again.
    """
    now = time.monotonic()
    for above in map(as_called, Path(path).parents):
        if _NO_LINKS.get(above, -MOMENT) > now - MOMENT:
            return
        try:
            status = os.lstat(above)
        except OSError:
            return
        if is_link(status):
            raise OSError(errno.ELOOP, "leads through a link", above)
        _NO_LINKS[above] = now


def forget_folders() -> None:
    """Have every folder be looked at again: this process has changed what names are."""
    _NO_LINKS.clear()


MOMENT = 0.05
"""Seconds in which a folder that was no link is taken to be none, where names are not opened below
folders."""

_NO_LINKS: dict[str, float] = {}
"""When a folder was seen to be no link."""


def is_link(status: os.stat_result) -> bool:
    """Return whether a status is that of a symbolic link, or of a junction of Windows."""
    return stat.S_ISLNK(status.st_mode) or windows.leads_elsewhere(status)


def leads_on(path: StrPath) -> bool:
    """Return whether there is a link at ``path``, however it is reached."""
    try:
        return is_link(os.lstat(path))
    except (OSError, ValueError):
        return False


def as_called(path: StrPath) -> str:
    """Return a path as calls of the system are given it: on Windows so that neither its length nor
    a name such as ``con`` or ``a.`` makes it another."""
    text = os.fspath(path)
    return windows.whole(text, os.getcwd()) if sys.platform == "win32" else text


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
        return os.lstat(as_called(path))
    with held(path) as (above, name):
        if above is None:
            return os.lstat(name)
        return os.stat(name, dir_fd=above, follow_symlinks=False)


def changed_ns(status: os.stat_result) -> int:
    """Return when a status was changed last, in nanoseconds since 1970; 0 on Windows, where the
    status of a path tells in its place when the file was made, and that of an open file does not.
    """
    return 0 if sys.platform == "win32" else status.st_ctime_ns


def link_target(path: StrPath, above: int | None = None) -> str:
    """Return where a link leads; ``above`` as in ``open_folder``."""
    if above is not None:
        return os.readlink(path, dir_fd=above)
    with held(path) as (above, name):
        if above is None:
            return os.readlink(name).removeprefix("\\\\?\\")
        return os.readlink(name, dir_fd=above)


def names_in(path: StrPath) -> list[str]:
    """Return the names in a folder, in no order."""
    if not _BELOW_HANDLES:
        _insist_no_link(Path(path) / "x")
        return os.listdir(as_called(path))
    handle = open_folder(path)
    try:
        return os.listdir(handle)
    finally:
        os.close(handle)


def listed_in(handle: int) -> list[tuple[str, bool]]:
    """Return the names in an open folder in their order, each with whether it is a folder."""
    with os.scandir(handle) as listed:
        return sorted((one.name, one.is_dir(follow_symlinks=False)) for one in listed)


def bytes_below(folder: StrPath) -> int:
    """Return the bytes of all regular files below a folder, however deep.

    Raises:
        OSError: The system refuses.
    """
    if sys.platform == "win32":
        walked = os.walk(as_called(folder), onerror=_refuse)
        there = (os.lstat(os.path.join(at, name)) for at, _, names in walked for name in names)
        return sum(status.st_size for status in there if stat.S_ISREG(status.st_mode))
    top = open_folder(folder)
    try:
        opened = os.fwalk(".", onerror=_refuse, dir_fd=top)
        there = (
            os.stat(name, dir_fd=at, follow_symlinks=False)
            for _, _, names, at in opened
            for name in names
        )
        return sum(status.st_size for status in there if stat.S_ISREG(status.st_mode))
    finally:
        os.close(top)


def _refuse(error: OSError) -> None:
    raise error


LISTS_HANDLES = os.scandir in os.supports_fd and _BELOW_HANDLES
"""Whether names are listed, opened and removed below an open folder."""


def read_most(file: BinaryIO, most: int) -> bytes:
    """Return what is left of a file, ``most`` bytes at most; room is made for what is there only.

    Raises:
        OSError: The system refuses.
    """
    whole, size = BytesIO(), 0  # which grows, and gives what it holds without a copy
    while size < most and (piece := file.read(min(PIECE, most - size))):
        size += whole.write(piece)
    return whole.getvalue()


def reading_outside(path: Path, most: int) -> BinaryIO:
    """Return a regular file of at most ``most`` bytes, opened to be read bit by bit.

    Raises:
        OSError: As ``read_outside``.
    """
    file = os.fdopen(open_regular(path), "rb")
    if os.fstat(file.fileno()).st_size > most:
        file.close()
        raise OSError(errno.EFBIG, f"has more than {most:,} bytes", str(path))
    return file


def read_outside(path: Path, most: int = DOCUMENT_MOST, *, named: bool = False) -> bytes:
    """Return the bytes of a regular file of at most ``most`` bytes.

    ``named`` tells that a person named it: then it may lie behind links, and be one.

    Raises:
        OSError: It is not there, is not a regular file, is larger, or the system refuses.
    """
    if named:
        path = Path(os.path.realpath(path))
    handle = open_regular(path)
    try:
        if os.fstat(handle).st_size > most:
            raise OSError(errno.EFBIG, f"has more than {most:,} bytes", str(path))
        with os.fdopen(handle, "rb", closefd=False) as file:
            data = read_most(file, most + 1)
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


# Paths
