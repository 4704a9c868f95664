"""Extended attributes of what comes from outside, by whatever name a system has them.

On Linux they are those of the namespace ``user.``. Elsewhere a name is told with ``user.`` before
it: of an extended attribute of macOS, of an alternate stream of Windows; there the attributes
hidden and system are ``windows.MARKS``.
"""

from __future__ import annotations

import errno
import os
import stat
import sys
from collections.abc import Iterator, Mapping
from contextlib import contextmanager

from widetrail.formats.outside import macos, windows
from widetrail.formats.outside.attributes import reached
from widetrail.formats.outside.opening import StrPath, is_link, open_any, status_of

USER_ATTRIBUTES = "user."
"""The namespace of extended attributes that programs of an account may set (xattr(7))."""


def attributes_of(path: StrPath | int) -> Mapping[str, bytes]:
    """Return the user's own extended attributes of a file or folder, by its path or open.

    A link has none, nor has anything where the volume has none.
    """
    try:
        found = _read(path)
        return dict(sorted(found.items())) if found else {}
    except OSError as error:
        if error.errno in (errno.ENOTSUP, errno.ENODATA, errno.EPERM, errno.ELOOP):
            return {}
        raise


def set_attributes(path: StrPath, attributes: Mapping[str, bytes]) -> bool:
    """Set extended attributes of the user's own; return whether the system and the volume have
    such."""
    own = {name: value for name, value in attributes.items() if name.startswith(USER_ATTRIBUTES)}
    return _write(path, own)


def _bare(name: str) -> str:
    return name.removeprefix(USER_ATTRIBUTES)


if sys.platform == "win32":

    def _read(path: StrPath | int) -> Mapping[str, bytes]:
        if isinstance(path, int) or is_link(status := status_of(path)):
            return {}
        with reached(path) as itself:
            streams = windows.streams_of(os.fspath(itself))
        named = {f"{USER_ATTRIBUTES}{name}": data for name, data in streams.items()}
        return {**named, **windows.marks_of(status)}

    def _write(path: StrPath, attributes: Mapping[str, bytes]) -> bool:
        told, status = True, status_of(path)
        with reached(path) as itself:
            at = os.fspath(itself)
            give_back = windows.make_removable(at)  # a file that is read-only takes no stream
            try:
                for name, value in attributes.items():
                    if name != windows.MARKS:
                        told = windows.set_stream(at, _bare(name), value) and told
                os.utime(at, ns=(status.st_mtime_ns, status.st_mtime_ns))
            finally:
                give_back()
            marks = windows.marks_in(attributes.get(windows.MARKS, b""))
            if marks:
                windows.set_attributes_of(at, status.st_file_attributes | marks)
        return told

elif sys.platform == "darwin":

    @contextmanager
    def _opened(path: StrPath | int) -> Iterator[int | None]:
        """Lend what is at a path opened, or nothing where it is neither file nor folder."""
        if isinstance(path, int):
            yield path
            return
        mode = status_of(path).st_mode
        if not (stat.S_ISREG(mode) or stat.S_ISDIR(mode)):
            yield None
            return
        handle = open_any(path)
        try:
            yield handle
        finally:
            os.close(handle)

    def _read(path: StrPath | int) -> Mapping[str, bytes]:
        with _opened(path) as handle:
            found = macos.attributes(handle) if handle is not None else {}
        return {f"{USER_ATTRIBUTES}{name}": value for name, value in found.items()}

    def _write(path: StrPath, attributes: Mapping[str, bytes]) -> bool:
        with _opened(path) as handle:
            if handle is None:
                return False
            told = [macos.set_attribute(handle, _bare(n), data) for n, data in attributes.items()]
            return all(told)

else:

    def _read(path: StrPath | int) -> Mapping[str, bytes]:
        if isinstance(path, int):
            return _named(path)
        with reached(path) as itself:
            return _named(itself)

    def _named(at: StrPath | int) -> Mapping[str, bytes]:
        there = os.listxattr(at)  # which most have none of
        own = [name for name in there if name.startswith(USER_ATTRIBUTES)] if there else ()
        return {name: os.getxattr(at, name) for name in own}

    def _write(path: StrPath, attributes: Mapping[str, bytes]) -> bool:
        with reached(path) as itself:
            for name, value in attributes.items():
                os.setxattr(itself, name, value)
        return True
