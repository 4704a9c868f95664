"""Writing a tree of files as it was: contents, links, holes, attributes, modes and times."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Iterator, Mapping
from pathlib import Path
from typing import Protocol, TypeVar

from widetrail.formats.outside import SafePath, status_of
from widetrail.machine import Effects
from widetrail.machine.effects import Writing

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

    def __init__(self, effects: Effects, top: SafePath, begun: bool = False) -> None:
        """Begin at ``top``; it is there already where writing was ``begun`` before."""
        self._effects, self._top = effects, str(top)
        self._folders: list[tuple[str, int, int]] = []
        self.without_attributes: list[str] = []
        if not begun:
            effects.make_folder(top)

    def write(
        self,
        entry: N,
        path: str,
        chunks: Callable[[N], Iterable[bytes]],
        attributes: Mapping[str, bytes],
    ) -> None:
        """Write one entry at ``path`` below the top, after the folder it lies in."""
        host = self._host(path)
        match entry.kind:
            case "folder":
                if path:
                    self._effects.make_folder(host)
                self._folders.append((host, entry.mode, entry.mtime))
                self._attributes(host, path, attributes)
            case "link":
                self._effects.make_link(host, entry.target, entry.mtime)
            case "hard":
                self._effects.make_hard_link(host, self._host(entry.target))
            case _:
                with self._effects.create(host, 0o600) as file:
                    _fill(file, entry, chunks(entry))
                    self._attributes(host, path, attributes)
                    file.set_status(entry.mode, entry.mtime)

    def _host(self, path: str) -> str:
        return f"{self._top}{os.sep}{path}" if path else self._top

    def _attributes(self, host: str, path: str, attributes: Mapping[str, bytes]) -> None:
        if attributes and not self._effects.set_attributes(host, attributes):
            self.without_attributes.append(path)

    def is_written(self, entry: Named, path: str) -> bool:
        """Return whether an entry was written whole by a walk that was cut off.

        A file got its time last, so one with its time and size was; whether a power cut took its
        bytes since is seen when it is verified. What was begun of it is removed.
        """
        host = self._host(path)
        try:
            status = status_of(host)
        except FileNotFoundError:
            return False
        if entry.kind == "folder":
            return True
        whole = (status.st_mtime_ns, status.st_size) == (entry.mtime, entry.size)
        if entry.kind == "file" and whole:
            return True
        self._effects.remove_file(Path(host))
        return False

    def passed(self, entry: Named, path: str) -> None:
        """Take note of a folder that was written before, so that it gets its status too."""
        if entry.kind == "folder":
            self._folders.append((self._host(path), entry.mode, entry.mtime))

    def finish(self) -> None:
        """Give the folders their modes and times, inner ones first."""
        for host, mode, mtime in reversed(self._folders):
            self._effects.set_status(host, mode, mtime)


def _fill(file: Writing, entry: Named, chunks: Iterable[bytes]) -> None:
    for piece in _pieces(chunks) if entry.is_sparse else chunks:
        if entry.is_sparse and not any(piece):
            file.skip(len(piece))
        else:
            file.write(piece)


def _pieces(chunks: Iterable[bytes]) -> Iterator[bytes]:
    for chunk in chunks:
        for start in range(0, len(chunk), HOLE):
            yield chunk[start : start + HOLE]
