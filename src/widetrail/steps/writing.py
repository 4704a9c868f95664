"""Writing a tree of files as it was: contents, links, holes, attributes, modes and times."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from pathlib import Path
from typing import Protocol, TypeVar

from widetrail.machine import Effects

HOLE = 64 * 1024
"""Bytes of zeros from which on a file that had holes is given one again."""


class Named(Protocol):
    """What is written: a file, folder, link, or another name (``hard``) of the file ``target``."""

    @property
    def path(self) -> str: ...
    @property
    def kind(self) -> str: ...
    @property
    def size(self) -> int: ...
    @property
    def mtime(self) -> int: ...
    @property
    def mode(self) -> int: ...
    @property
    def target(self) -> str: ...
    @property
    def is_sparse(self) -> bool: ...


N = TypeVar("N", bound=Named)


class TreeWriter:
    """Writes entries below a folder that it makes; folders get their status last."""

    def __init__(self, effects: Effects, top: Path, begun: bool = False) -> None:
        """Begin at ``top``; it is there already where writing was ``begun`` before."""
        self._effects, self._top = effects, top
        self._folders: list[tuple[Path, int, int]] = []
        self.without_attributes: list[str] = []
        if not begun:
            effects.make_folder(top)

    def write(
        self, entry: N, path: str, chunks: Callable[[N], Iterable[bytes]],
        attributes: Mapping[str, bytes],
    ) -> None:  # fmt: skip
        """Write one entry at ``path`` below the top, after the folder it lies in."""
        host = self._top / path if path else self._top
        match entry.kind:
            case "folder":
                if host != self._top:
                    self._effects.make_folder(host)
                self._folders.append((host, entry.mode, entry.mtime))
            case "link":
                self._effects.make_link(host, entry.target)
                return
            case "hard":
                self._effects.make_hard_link(host, self._top / entry.target)
                return
            case _:
                self._file(host, entry, chunks(entry))
        if attributes and not self._effects.set_attributes(host, attributes):
            self.without_attributes.append(path)
        if entry.kind == "file":
            self._effects.set_status(host, entry.mode, entry.mtime)

    def is_written(self, entry: Named, path: str) -> bool:
        """Return whether an entry was written whole by a walk that was cut off.

        A file got its time last, so one with its time and size was; whether a power cut took its
        bytes since is seen when it is verified. What was begun of it is removed.
        """
        host = self._top / path
        try:
            status = host.lstat()
        except FileNotFoundError:
            return False
        if entry.kind == "folder":
            return True
        whole = (status.st_mtime_ns, status.st_size) == (entry.mtime, entry.size)
        if entry.kind == "file" and whole:
            return True
        self._effects.remove_file(host)
        return False

    def passed(self, entry: Named, path: str) -> None:
        """Take note of a folder that was written before, so that it gets its status too."""
        if entry.kind == "folder":
            self._folders.append((self._top / path, entry.mode, entry.mtime))

    def _file(self, host: Path, entry: Named, chunks: Iterable[bytes]) -> None:
        with self._effects.create(host) as file:
            for piece in _pieces(chunks) if entry.is_sparse else chunks:
                if entry.is_sparse and not any(piece):
                    file.skip(len(piece))
                else:
                    file.write(piece)

    def finish(self) -> None:
        """Give the folders their modes and times, inner ones first."""
        for host, mode, mtime in reversed(self._folders):
            self._effects.set_status(host, mode, mtime)


def _pieces(chunks: Iterable[bytes]) -> Iterator[bytes]:
    for chunk in chunks:
        for start in range(0, len(chunk), HOLE):
            yield chunk[start : start + HOLE]
