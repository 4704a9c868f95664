"""Paths of one kind told in one line: what they differ in becomes ``*``."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable

ALIKE = 3
"""Paths that are told as one, at least."""

Parts = tuple[str, ...]


def patterns(paths: Iterable[str]) -> dict[str, list[str]]:
    """Return patterns with the paths each stands for: those that differ in one name, or in one at
    each depth, and end alike.

    Example:
        >>> patterns(["/a/1.wav", "/a/2.wav", "/a/3.wav", "/a/x.db"])
        {'/a/*.wav': ['/a/1.wav', '/a/2.wav', '/a/3.wav'], '/a/x.db': ['/a/x.db']}
    """
    groups: dict[Parts, list[str]] = {tuple(path.split("/")): [path] for path in paths}
    deepest = max((len(parts) for parts in groups), default=0)
    before = len(groups) + 1
    while len(groups) < before:  # names of folders that became one can make more alike
        before = len(groups)
        for depth in range(deepest - 1, 0, -1):
            groups = _merged(groups, depth)
    return {"/".join(parts): sorted(some) for parts, some in sorted(groups.items())}


def _merged(groups: dict[Parts, list[str]], depth: int) -> dict[Parts, list[str]]:
    """Merge groups that differ only in the name at that depth, and in nothing after a dot there."""
    alike = defaultdict[tuple[Parts, str, Parts], list[Parts]](list)
    for parts in groups:
        if len(parts) > depth:
            ending = _ending(parts[depth])
            alike[parts[:depth], ending, parts[depth + 1 :]].append(parts)
        else:
            alike[parts, "", ()].append(parts)
    merged: dict[Parts, list[str]] = {}
    for (before, ending, after), some in alike.items():
        absorbed = any(parts[depth : depth + 1] == (f"*{ending}",) for parts in some)
        if len(some) < ALIKE and not absorbed:
            merged |= {parts: groups[parts] for parts in some}
        else:
            told = (*before, f"*{ending}", *after)
            merged.setdefault(told, []).extend(path for parts in some for path in groups[parts])
    return merged


def _ending(name: str) -> str:
    stem, dot, ending = name.rpartition(".")
    return f".{ending}" if dot and stem and stem != "*" else name[1:] if name[:1] == "*" else ""
