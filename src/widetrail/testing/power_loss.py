"""What a disk holds after the power went: a model of it, fed by the effects that really happened.

Only what was made durable stays. A barrier keeps all of a volume; a synced file keeps its bytes; a
synced folder keeps its names, and the two ends of a rename stay or go together, as volumes with a
journal do it. What a program of the recipe wrote is taken as not kept at all, kept at once, or kept
torn: half of each file.
"""

from __future__ import annotations

import os
import stat
from collections.abc import Iterable, Mapping
from dataclasses import field
from pathlib import Path
from typing import Literal

from widetrail.lazily import dataclass

ProgramWrites = Literal["none", "all", "torn"]
PROGRAM_WRITES: tuple[ProgramWrites, ...] = ("none", "all", "torn")


@dataclass(frozen=True)
class Node:
    """One name in a tree: its kind, mode, time (ns), and its bytes or what a link says."""

    kind: str
    mode: int
    mtime: int
    data: bytes = b""


Tree = Mapping[str, Node]
"""What is below a folder, by relative path, folders before what is in them."""


@dataclass
class _Inode:
    node: Node
    names: dict[str, int] = field(default_factory=dict)


class Live:
    """A tree as it is now, each of its files and folders with a number that stays when it moves."""

    def __init__(self, root: Path) -> None:
        self._root, self._numbers = root, dict[int, int]()
        self._next = 1
        self.tree: dict[str, Node] = {}
        self.number: dict[str, int] = {"": 0}
        self.look()

    def look(self) -> None:
        """Look at the whole tree again."""
        self.tree, self.number, seen = {}, {"": 0}, dict[int, int]()
        for path, status, node in _walk(self._root):
            number = self._numbers.get(status.st_ino)
            if number is None:
                number, self._next = self._next, self._next + 1
            seen[status.st_ino] = number
            self.tree[path], self.number[path] = node, number
        self._numbers = seen


def _walk(root: Path) -> Iterable[tuple[str, os.stat_result, Node]]:
    waiting = [""]
    while waiting:
        folder = waiting.pop()
        for name in sorted(os.listdir(root / folder)):
            path = f"{folder}/{name}" if folder else name
            try:
                status = (root / path).lstat()
                data = _data(root / path, status)
            except FileNotFoundError:  # a program that still runs took it away
                continue
            kind = _kind(status)
            yield path, status, Node(kind, stat.S_IMODE(status.st_mode), status.st_mtime_ns, data)
            if kind == "folder":
                waiting.append(path)


def _kind(status: os.stat_result) -> str:
    if stat.S_ISDIR(status.st_mode):
        return "folder"
    return "link" if stat.S_ISLNK(status.st_mode) else "file"


def _data(path: Path, status: os.stat_result) -> bytes:
    match _kind(status):
        case "file":
            return path.read_bytes()
        case "link":
            return os.fsencode(os.readlink(path))
    return b""


def read_tree(root: Path) -> dict[str, Node]:
    """Return what is below ``root``."""
    return {path: node for path, _, node in sorted(_walk(root), key=lambda found: found[0])}


def write_tree(root: Path, tree: Tree) -> None:
    """Make ``tree`` below the folder ``root``, which must be empty."""
    folders = []
    for path, node in sorted(tree.items()):
        host = root / path
        if node.kind == "folder":
            host.mkdir()
            folders.append((host, node))
        elif node.kind == "link":
            host.symlink_to(os.fsdecode(node.data))
        else:
            host.write_bytes(node.data)
            host.chmod(node.mode)
            os.utime(host, ns=(node.mtime, node.mtime))
    for host, node in reversed(folders):
        host.chmod(node.mode)
        os.utime(host, ns=(node.mtime, node.mtime))


class Durable:
    """What of a live tree would be there after the power went now."""

    def __init__(
        self,
        live: Live,
        volumes: Iterable[str],
        programs: ProgramWrites,
        elsewhere: Iterable[str] = (),
    ) -> None:
        """Take all of ``live`` as durable; ``volumes`` are the folders that are a volume each.

        What is below ``elsewhere`` is on a computer of its own, whose power does not go.
        """
        self._elsewhere = tuple(elsewhere)
        self._live, self._programs = live, programs
        self._volumes = sorted(volumes, key=len, reverse=True)
        self._inodes: dict[int, _Inode] = {0: _Inode(Node("folder", 0o755, 0))}
        self._keep_all("")

    def after(self, kind: str, path: str, running: Iterable[str]) -> None:
        """Take note of an effect that happened; ``running`` are the volumes of the machine that
        a program was started on."""
        for volume in self._elsewhere:
            self._keep_all(volume)
        match kind:
            case "barrier":
                self._keep_all(next(v for v in self._volumes if _within(path, v)))
            case "sync":
                self._keep_file(path, self._live.tree[path])
            case "sync folder":
                self._keep_names(path)
            case "start" if self._programs == "all":
                for volume in running:
                    self._keep_all(volume)
            case "start" if self._programs == "torn":
                for volume in running:
                    self._tear(volume)

    def tree(self, torn: str = "") -> dict[str, Node]:
        """Return the tree after the power went; of ``torn`` the last write is half there."""
        found: dict[str, Node] = {}
        waiting = [("", 0)]
        while waiting:
            folder, number = waiting.pop()
            for name, child in sorted(self._inodes[number].names.items()):
                path = f"{folder}/{name}" if folder else name
                found[path] = self._inodes[child].node
                if found[path].kind == "folder":
                    waiting.append((path, child))
        if torn in found and torn in self._live.tree:
            kept, now = found[torn], self._live.tree[torn]
            half = now.data[: (len(kept.data) + len(now.data)) // 2]
            found[torn] = Node("file", kept.mode, kept.mtime, half)
        return dict(sorted(found.items()))

    def _keep_all(self, volume: str) -> None:
        live = self._live
        below = [p for p in live.tree if _within(p, volume)]
        for path in below:
            self._inode(path).node = live.tree[path]
        for path in [volume, *below]:
            if path == "" or live.tree[path].kind == "folder":
                self._keep_names(path)

    def _keep_file(self, path: str, node: Node) -> None:
        self._inode(path).node = node

    def _inode(self, path: str) -> _Inode:
        number, node = self._live.number[path], self._live.tree[path]
        if number not in self._inodes:
            empty = node.data if node.kind == "link" else b""
            self._inodes[number] = _Inode(Node(node.kind, node.mode, node.mtime, empty))
        return self._inodes[number]

    def _keep_names(self, folder: str) -> None:
        live = self._live
        if folder not in live.number:
            return
        prefix = f"{folder}/" if folder else ""
        now = {p[len(prefix) :]: p for p in live.tree if p.startswith(prefix) and p != folder}
        names = {n: live.number[p] for n, p in now.items() if "/" not in n}
        for name in names:
            self._inode(f"{prefix}{name}")
        if folder:
            self._inode(folder)
        number = live.number[folder]
        gone = set(self._inodes[number].names.values()) - set(names.values())
        self._inodes[number].names = dict(names)
        for other, inode in self._inodes.items():  # what came here is no longer where it was
            if other != number:
                inode.names = {n: c for n, c in inode.names.items() if c not in names.values()}
        where = {n: p for p, n in live.number.items()}
        for moved in gone & where.keys():  # a rename stays or goes as one
            above, _, name = where[moved].rpartition("/")
            parent = live.number[above]
            if parent in self._inodes:
                self._inodes[parent].names[name] = moved

    def _tear(self, volume: str) -> None:
        live = self._live
        for path, node in live.tree.items():
            if not _within(path, volume) or node.kind == "folder":
                continue
            kept = self._inodes.get(live.number[path])
            if kept is None or kept.node.data != node.data:
                half = node.data[: len(node.data) // 2] if node.kind == "file" else node.data
                self._keep_file(path, Node(node.kind, node.mode, node.mtime, half))
        for path in [volume, *live.tree]:
            if _within(path, volume) and (path == "" or live.tree[path].kind == "folder"):
                self._keep_names(path)


def _within(path: str, folder: str) -> bool:
    return not folder or path == folder or path.startswith(f"{folder}/")
