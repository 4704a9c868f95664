"""Calls of Windows that Python has none for, or none that does what is needed here.

Moves that last, folders made durable, alternate streams and the attributes hidden and system; and
a file that another program holds: it is tried for a while, then told with who holds it.

Sources: ``MoveFileEx``, ``FlushFileBuffers``, ``FindFirstStreamW``, ``SetFileAttributes``, the
Restart Manager (``RmGetList``) and "Maximum Path Length Limitation" of Microsoft's documentation.
"""

from __future__ import annotations

import stat
import sys
import time
from collections.abc import Callable, Mapping
from typing import TypeVar

T = TypeVar("T")

IN_USE = (32, 33)
"""Codes that say that another program holds a file: a sharing violation, a lock violation."""

PAUSES = (0.05, 0.1, 0.2, 0.4, 0.8)
"""Seconds between the tries of a call on a file that another program holds."""

LEADING = (0xA0000003, 0xA000000C)
"""Tags of what leads elsewhere: a junction, a symbolic link."""

_IN_STEP_TAG, _TAG_FAMILY = 0x9000001A, 0xFFFF0FFF
_NOT_HERE = (
    0x00001000  # FILE_ATTRIBUTE_OFFLINE
    | 0x00040000  # FILE_ATTRIBUTE_RECALL_ON_OPEN
    | 0x00400000  # FILE_ATTRIBUTE_RECALL_ON_DATA_ACCESS
)
_HIDDEN_OR_SYSTEM = 0x2 | 0x4

MARKS = "user.DOSATTRIB"
"""The extended attribute that holds the attributes hidden and system, as Samba and wine write it:
a number in hexadecimal."""

STREAM_MOST = 1024 * 1024
"""Bytes of an alternate stream, at most."""


def leads_elsewhere(status: object) -> bool:
    """Return whether a status is that of a junction or a symbolic link of Windows."""
    return getattr(status, "st_reparse_tag", 0) in LEADING


def is_kept_in_step(status: object) -> bool:
    """Return whether a service keeps a file or folder in step with other computers, as its
    attributes tell: its contents are fetched when it is read."""
    tag = getattr(status, "st_reparse_tag", 0)
    attributes = getattr(status, "st_file_attributes", 0)
    return tag & _TAG_FAMILY == _IN_STEP_TAG or bool(attributes & _NOT_HERE)


def marks_of(status: object) -> Mapping[str, bytes]:
    """Return the attributes hidden and system of a status as an extended attribute."""
    marks = getattr(status, "st_file_attributes", 0) & _HIDDEN_OR_SYSTEM
    return {MARKS: f"0x{marks:x}".encode()} if marks else {}


def marks_in(value: bytes) -> int | None:
    """Return the attributes hidden and system that an extended attribute tells, if it tells any."""
    try:
        return int(value.rstrip(b"\0").decode(), 16) & _HIDDEN_OR_SYSTEM
    except ValueError:
        return None


def whole(path: str, folder: str = "") -> str:
    """Return a path as Windows takes it whatever its length, and without changing a name.

    ``folder`` is where a relative path begins. What is written so already stays.
    """
    import ntpath

    if path.startswith("\\\\?\\"):
        return path
    full = ntpath.normpath(ntpath.join(folder, path))
    if full.startswith("\\\\"):
        return f"\\\\?\\UNC\\{full[2:]}"
    return f"\\\\?\\{full}" if full[1:3] == ":\\" else full


def patiently(call: Callable[[], T], path: str) -> T:
    """Make a call on a file, again for a while where another program holds it.

    Raises:
        OSError: The system refuses; where a program holds the file still, with which.
    """
    for pause in PAUSES:
        try:
            return call()
        except OSError as error:
            if getattr(error, "winerror", None) not in IN_USE:
                raise
        time.sleep(pause)
    try:
        return call()
    except OSError as error:
        code = getattr(error, "winerror", None)
        if code not in IN_USE:
            raise
        who = ", ".join(_users_of(path)) or "which one is not known"
        raise OSError(error.errno, f"another program uses it: {who}", path, code) from error


def _users_of(path: str) -> list[str]:
    """Return the programs that hold a file, each with its process, as far as the system tells."""
    if sys.platform == "win32":
        return _told_by_manager(path)
    return []


if sys.platform == "win32":
    import ctypes
    import msvcrt
    import os
    from contextlib import suppress
    from ctypes import wintypes

    _KERNEL = ctypes.WinDLL("kernel32", use_last_error=True)
    _KERNEL.CreateFileW.restype = wintypes.HANDLE
    _KERNEL.CreateFileW.argtypes = [
        wintypes.LPCWSTR,
        wintypes.DWORD,
        wintypes.DWORD,
        wintypes.LPVOID,
        wintypes.DWORD,
        wintypes.DWORD,
        wintypes.HANDLE,
    ]
    _KERNEL.FlushFileBuffers.argtypes = [wintypes.HANDLE]
    _KERNEL.CloseHandle.argtypes = [wintypes.HANDLE]
    _KERNEL.FindFirstStreamW.restype = wintypes.HANDLE
    _KERNEL.FindNextStreamW.argtypes = [wintypes.HANDLE, wintypes.LPVOID]
    _KERNEL.FindClose.argtypes = [wintypes.HANDLE]
    _NONE = wintypes.HANDLE(-1).value
    _REPLACE, _LASTING = 0x1, 0x8
    _READ, _WRITE = 0x80000000, 0x40000000
    _ACCESS = {os.O_RDONLY: _READ, os.O_WRONLY: _WRITE, os.O_RDWR: _READ | _WRITE}
    _ANYBODY, _NEW, _OPEN, _ALWAYS, _FOLDERS = 7, 1, 3, 4, 0x02000000
    _REFUSED = (1, 5, 6, 50)
    """What volumes answer that make no folder durable: no such function, denied, no such handle,
    not supported."""

    _NAMED_STREAMS = 0x00040000

    def open_file(path: str, flags: int, mode: int) -> int:
        """As ``os.open``, sharing the file with whoever would read, write, rename or remove it.

        Raises:
            OSError: The system refuses, with its own code, which ``os.open`` does not tell.
        """
        access = _ACCESS[flags & (os.O_RDONLY | os.O_WRONLY | os.O_RDWR)]
        how = _NEW if flags & os.O_EXCL else _ALWAYS if flags & os.O_CREAT else _OPEN
        shut = how != _OPEN and not mode & stat.S_IWUSR
        attributes = stat.FILE_ATTRIBUTE_READONLY if shut else stat.FILE_ATTRIBUTE_NORMAL
        handle = _KERNEL.CreateFileW(path, access, _ANYBODY, None, how, attributes, None)
        if handle == _NONE:
            raise _failed(path)
        try:
            return msvcrt.open_osfhandle(handle, flags)
        except OSError:
            _KERNEL.CloseHandle(handle)
            raise

    def move(path: str, to: str, *, replace: bool = False) -> None:
        """Rename within a volume, and return only when that lasts.

        Raises:
            OSError: The system refuses; what is at ``to`` is one reason, unless it may replace it.
        """
        flags = _LASTING | (_REPLACE if replace else 0)
        if not _KERNEL.MoveFileExW(path, to, flags):
            raise _failed(to)

    def flush_folder(path: str) -> None:
        """Make the names in a folder durable, where its volume does that."""
        handle = _KERNEL.CreateFileW(path, _WRITE, _ANYBODY, None, _OPEN, _FOLDERS, None)
        if handle == _NONE:
            if ctypes.get_last_error() in _REFUSED:
                return
            raise _failed(path)
        try:
            if not _KERNEL.FlushFileBuffers(handle) and ctypes.get_last_error() not in _REFUSED:
                raise _failed(path)
        finally:
            _KERNEL.CloseHandle(handle)

    def set_attributes_of(path: str, attributes: int) -> None:
        """Set all attributes of a file or folder, such as read-only (1), hidden (2), system (4)."""
        if not _KERNEL.SetFileAttributesW(path, attributes):
            raise _failed(path)

    def make_removable(path: str) -> Callable[[], None]:
        """Take the attribute read-only away, which forbids removal; return what gives it back."""
        try:
            attributes = os.lstat(path).st_file_attributes
        except OSError:
            return lambda: None
        if not attributes & stat.FILE_ATTRIBUTE_READONLY:
            return lambda: None
        set_attributes_of(path, attributes & ~stat.FILE_ATTRIBUTE_READONLY)
        return lambda: set_attributes_of(path, attributes)

    class _Stream(ctypes.Structure):
        _fields_ = (("size", ctypes.c_int64), ("name", ctypes.c_wchar * 296))

    def streams_of(path: str) -> dict[str, bytes]:
        """Return the alternate streams of a file or folder by their names.

        Raises:
            OSError: One is larger than ``STREAM_MOST``, or the system refuses.
        """
        found, one = {}, _Stream()
        handle = _KERNEL.FindFirstStreamW(path, 0, ctypes.byref(one), 0)
        if handle in (None, _NONE):  # a volume without streams, or a folder that has none
            return {}
        try:
            while True:
                name = one.name.removeprefix(":").partition(":")[0]
                if name:
                    found[name] = _stream(path, name, one.size)
                if not _KERNEL.FindNextStreamW(handle, ctypes.byref(one)):
                    return found
        finally:
            _KERNEL.FindClose(handle)

    def _stream(path: str, name: str, size: int) -> bytes:
        if size > STREAM_MOST:
            import errno

            why = f"its alternate stream {name} has more than {STREAM_MOST:,} bytes"
            raise OSError(errno.EFBIG, why, path)
        with open(f"{path}:{name}", "rb") as file:
            return file.read(STREAM_MOST)

    def set_stream(path: str, name: str, data: bytes) -> bool:
        """Write an alternate stream; return whether the volume has such, and the name can be."""
        if not name or set(name) & set(':\\/\0*?"<>|') or not _has_streams(path):
            return False
        with open(f"{path}:{name}", "wb") as file:
            file.write(data)
        return True

    def _has_streams(path: str) -> bool:
        drive = os.path.splitdrive(path)[0] + "\\"
        flags = wintypes.DWORD()
        _KERNEL.GetVolumeInformationW(drive, None, 0, None, None, ctypes.byref(flags), None, 0)
        return bool(flags.value & _NAMED_STREAMS)

    class _Process(ctypes.Structure):
        _fields_ = (
            ("pid", wintypes.DWORD),
            ("started", wintypes.FILETIME),
            ("name", ctypes.c_wchar * 256),
            ("service", ctypes.c_wchar * 64),
            ("type", ctypes.c_int),
            ("status", wintypes.ULONG),
            ("session", wintypes.DWORD),
            ("restartable", wintypes.BOOL),
        )

    _TOLD_MOST = 8

    def _told_by_manager(path: str) -> list[str]:
        with suppress(OSError, AttributeError):
            manager = ctypes.WinDLL("rstrtmgr")
            session, key = wintypes.DWORD(), ctypes.create_unicode_buffer(33)
            if manager.RmStartSession(ctypes.byref(session), 0, key):
                return []
            try:
                names = (wintypes.LPCWSTR * 1)(path.removeprefix("\\\\?\\"))
                if manager.RmRegisterResources(session, 1, names, 0, None, 0, None):
                    return []
                needed, count = wintypes.UINT(), wintypes.UINT(_TOLD_MOST)
                found, why = (_Process * _TOLD_MOST)(), wintypes.DWORD()
                told = [ctypes.byref(one) for one in (needed, count)]
                if manager.RmGetList(session, *told, found, ctypes.byref(why)):
                    return []
                return [f"{one.name} (process {one.pid})" for one in found[: count.value]]
            finally:
                manager.RmEndSession(session)
        return []

    def _failed(path: str) -> OSError:
        error = ctypes.WinError(ctypes.get_last_error())
        return OSError(error.errno, error.strerror, path, error.winerror)
