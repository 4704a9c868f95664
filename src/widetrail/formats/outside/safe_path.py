"""A path whose every look and change is made in the safe way."""

from __future__ import annotations

import os
import stat
import sys
from collections.abc import Iterator
from typing import IO, Any, BinaryIO

from widetrail.formats.outside.attributes import set_mode
from widetrail.formats.outside.changes import make_folder, remove_file, remove_folder

if sys.platform == "win32":
    from pathlib import WindowsPath as _Path
else:
    from pathlib import PosixPath as _Path
from widetrail.formats.outside.opening import (
    AT_ONCE,
    insist_regular,
    is_link,
    names_in,
    open_at,
    open_regular,
    status_of,
)


class SafePath(_Path):
    """A path whose every look and change is made in this file's way; see there.

    A link at its name is told as a link: it exists, and is neither file nor folder.
    """

    def stat(self, *, follow_symlinks: bool = True) -> os.stat_result:
        return status_of(self)

    def lstat(self) -> os.stat_result:
        return status_of(self)

    def _kind(self) -> int:
        try:
            status = status_of(self)
            return stat.S_IFLNK if is_link(status) else stat.S_IFMT(status.st_mode)
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
    return insist_regular(open_at(path, flags | AT_ONCE, 0o666), path)
