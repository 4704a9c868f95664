"""Calls of macOS that Python has none for: durable writing, renames that replace nothing, extended
attributes, and a number that only this computer has.

Nobody has run these on macOS yet: ``LIBC`` and ``CONTROL`` are where tests give recorded answers
instead. Sources: fcntl(2), renameatx_np(2), getxattr(2), listxattr(2), setxattr(2),
gethostuuid(2) of macOS, and its headers for the numbers.
"""

from __future__ import annotations

import ctypes
import errno
import os
import sys
from collections.abc import Callable
from typing import Any

FULL_SYNC = 51
"""``F_FULLFSYNC``: what was written is on the medium, not only in its cache."""

EXCLUSIVE = 0x4
"""``RENAME_EXCL``: what is at the new name stays, and the call fails."""

NO_SUCH = (errno.ENOTSUP, errno.EINVAL, errno.ENOTTY, errno.ENOSYS, errno.ENODEV)
"""What volumes answer that lack a call."""

LIBC: Any = ctypes.CDLL(None, use_errno=True) if sys.platform == "darwin" else None


def _control(handle: int, command: int) -> int:
    if sys.platform == "win32":
        raise OSError(errno.ENOSYS, os.strerror(errno.ENOSYS))
    import fcntl

    return fcntl.fcntl(handle, command)


CONTROL: Callable[[int, int], int] = _control


def flush(handle: int) -> None:
    """Make what was written to an open file or folder durable on its medium, or, where the volume
    cannot, as far as ``fsync`` does.

    Raises:
        OSError: The system refuses.
    """
    try:
        CONTROL(handle, FULL_SYNC)
    except OSError as error:
        if error.errno not in NO_SUCH:
            raise
        os.fsync(handle)


def rename_new(above: int, name: str, other: int, there: str) -> bool:
    """Rename below open folders and replace nothing; return whether the volume has such a call.

    Raises:
        OSError: The system refuses; something at the new name is one reason (``EEXIST``).
    """
    names = os.fsencode(name), os.fsencode(there)
    if LIBC.renameatx_np(above, names[0], other, names[1], EXCLUSIVE) == 0:
        return True
    code = ctypes.get_errno()
    if code in NO_SUCH:
        return False
    raise OSError(code, os.strerror(code), there)


def attributes(handle: int) -> dict[str, bytes]:
    """Return the extended attributes of an open file or folder; none where its volume has none.

    Raises:
        OSError: The system refuses.
    """
    size = _size(LIBC.flistxattr(handle, None, 0, 0))
    if not size:
        return {}
    names = ctypes.create_string_buffer(size)
    size = _size(LIBC.flistxattr(handle, names, size, 0))
    found = {}
    for name in filter(None, names.raw[:size].split(b"\0")):
        length = _size(LIBC.fgetxattr(handle, name, None, 0, 0, 0))
        value = ctypes.create_string_buffer(max(length, 1))
        length = _size(LIBC.fgetxattr(handle, name, value, length, 0, 0))
        found[os.fsdecode(name)] = value.raw[:length]
    return found


def set_attribute(handle: int, name: str, value: bytes) -> bool:
    """Set an extended attribute of an open file or folder; return whether its volume has such.

    Raises:
        OSError: The system refuses.
    """
    if LIBC.fsetxattr(handle, os.fsencode(name), value, len(value), 0, 0) == 0:
        return True
    code = ctypes.get_errno()
    if code in NO_SUCH:
        return False
    raise OSError(code, os.strerror(code), name)


def _size(told: int) -> int:
    if told >= 0:
        return told
    code = ctypes.get_errno()
    if code in NO_SUCH:
        return 0
    raise OSError(code, os.strerror(code))


class _Wait(ctypes.Structure):
    """``struct timespec``: how long the answer is waited for."""

    _fields_ = (("seconds", ctypes.c_long), ("nanoseconds", ctypes.c_long))


def computer_number() -> str:
    """Return a text that only this computer has, or an empty one where it is not told."""
    if LIBC is None:
        return ""
    number = ctypes.create_string_buffer(16)
    told = LIBC.gethostuuid(number, ctypes.byref(_Wait(5, 0)))
    return number.raw.hex() if told == 0 else ""
