"""Whether two recipes claim the same files: their claims compared as patterns.

Two claims overlap where one path can be thought of that both take. That path is made of the
patterns; a name in it that may be anything is one that nobody uses. What either recipe leaves is
asked for that path: so a claim that leaves the other's folder does not overlap it.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from functools import lru_cache
from typing import NamedTuple

from widetrail.machine.platforms import PLATFORMS, Platform
from widetrail.machine.roots import default_home, standard_roots
from widetrail.recipe import Globs
from widetrail.recipe.globs import fold, segment_expression
from widetrail.recipe.outline import Claim

ANY = "\u2e3b"
"""What stands for any name: nobody calls a file so."""

_DEEP = "**"
_WILD = re.compile(r"[*?\[]")


class Claimed(NamedTuple):
    """What an item of a recipe claims on one platform."""

    recipe: str
    claim: Claim


class Overlap(NamedTuple):
    """Two items of different recipes that both take files, and a path of such a file, from a
    root."""

    one: Claimed
    other: Claimed
    platform: Platform
    path: str


def overlaps(claims: Sequence[Claimed], platform: Platform) -> Iterator[Overlap]:
    """Give the overlaps of claims of different recipes on a platform: one of any two items."""
    known: set[tuple[str, str, str, str]] = set()
    shelf: dict[tuple[str, ...], list[tuple[Claimed, _Pattern]]] = {}
    patterns = [(one, pattern) for one in claims for pattern in _patterns(one.claim, platform)]
    for one, pattern in patterns:
        shelf.setdefault(pattern.fixed, []).append((one, pattern))
    for one, pattern in patterns:
        for depth in range(len(pattern.fixed) + 1):
            for other, theirs in shelf.get(pattern.fixed[:depth], ()):
                pair = (other.recipe, other.claim.item, one.recipe, one.claim.item)
                if other.recipe == one.recipe or pair in known:
                    continue
                if depth == len(pattern.fixed) and other.recipe > one.recipe:
                    continue  # it is met the other way round
                path = pattern.common(theirs)
                if path:
                    known.add(pair)
                    yield Overlap(other, one, platform, path)


class _Pattern:
    """One sequence of segments that a claim takes, and what it leaves."""

    def __init__(self, base: tuple[str, ...], take: str, leave: Sequence[str], count: int) -> None:
        self._segments = (*base, *take.split("/"))
        self._base, self._leave = len(base), _globs(tuple(leave))
        literal = next((n for n, s in enumerate(base) if n >= count and _WILD.search(s)), len(base))
        self.fixed = base[:literal]
        """The names that its paths begin with, as one spells them."""

    def common(self, other: _Pattern) -> str:
        """Return a path that both take and neither leaves; an empty text where there is none."""
        path = _meet(self._segments, other._segments)
        if path is None or self._leaves(path) or other._leaves(path):
            return ""
        return "/".join(path)

    def _leaves(self, path: tuple[str, ...]) -> bool:
        below = path[self._base :]
        ends = (below, below[:-1]) if below[-1:] == (ANY,) else (below,)
        return any(self._leave("/".join(one)) for one in ends if one)


@lru_cache(maxsize=4096)
def _globs(patterns: tuple[str, ...]) -> Globs:
    return Globs(patterns, ignore_case=True)


def _patterns(claim: Claim, platform: Platform) -> Iterator[_Pattern]:
    root = _roots(platform).get(claim.root)
    if root is None:
        return
    below = tuple(fold(name) for name in claim.below.split("/") if name)
    count = len(root) + (0 if claim.is_glob else len(below))
    for take in claim.take or (_DEEP,):
        yield _Pattern((*root, *below), fold(take), claim.leave, count)


@lru_cache
def _roots(platform: Platform) -> Mapping[str, tuple[str, ...]]:
    """Return where the roots of a platform lie unless they were redirected, name by name."""
    system = "10" if PLATFORMS[platform].drive_letters else ""
    home = default_home(platform, system, ANY)
    found = standard_roots(platform, system, home)
    return {root: tuple(fold(n) for n in path.split("/") if n) for root, path in found.items()}


def _meet(one: tuple[str, ...], other: tuple[str, ...]) -> tuple[str, ...] | None:
    """Return a path that both sequences of segments match."""
    path = _Meeting(one, other).from_here(0, 0)
    is_open = one[-1] == other[-1] == _DEEP
    return (*path, ANY) if path is not None and is_open else path


class _Meeting:
    """Looks for a path that two sequences of segments both match; ``**`` is any number of them."""

    def __init__(self, one: tuple[str, ...], other: tuple[str, ...]) -> None:
        self._one, self._other = one, other
        self._dead: set[tuple[int, int]] = set()

    def from_here(self, a: int, b: int) -> tuple[str, ...] | None:
        """Return what is left of such a path from these segments on."""
        if (a, b) in self._dead:
            return None
        found = self._tried(a, b)
        if found is None:
            self._dead.add((a, b))
        return found

    def _tried(self, a: int, b: int) -> tuple[str, ...] | None:
        x = self._one[a] if a < len(self._one) else None
        y = self._other[b] if b < len(self._other) else None
        if x is None and y is None:
            return ()
        if x == _DEEP:
            found = self.from_here(a + 1, b)
            return found if found is not None or y is None else self._over(y, a, b + 1)
        if y == _DEEP:
            found = self.from_here(a, b + 1)
            return found if found is not None or x is None else self._over(x, a + 1, b)
        name = _both(x, y) if x is not None and y is not None else None
        rest = self.from_here(a + 1, b + 1) if name is not None else None
        return (name, *rest) if name is not None and rest is not None else None

    def _over(self, segment: str, a: int, b: int) -> tuple[str, ...] | None:
        """Return a path that goes on past a segment where the other side takes anything."""
        rest = self.from_here(a, b)
        return rest if rest is None or segment == _DEEP else (_name(segment), *rest)


def _name(segment: str) -> str:
    """Return a name that a segment matches."""
    return re.sub(r"\[[^]]*\]|[*?]", ANY, segment) if _WILD.search(segment) else segment


@lru_cache(maxsize=65536)
def _both(one: str, other: str) -> str | None:
    """Return a name that two segments both match, or ``None`` where there is none."""
    if one == other:
        return _name(one)
    for plain, pattern in ((one, other), (other, one)):
        if not _WILD.search(plain):
            return plain if re.fullmatch(segment_expression(pattern), plain) else None
    return _both_wild(one, other)


def _both_wild(one: str, other: str) -> str | None:
    """Return a name that two segments with wildcards both match: what one begins with and the other
    ends with is tried, which ``*`` allows."""
    begins = [re.split(r"[*?\[]", text, maxsplit=1)[0] for text in (one, other)]
    ends = [re.split(r"[*?\]]", text)[-1] for text in (one, other)]
    begin, end = max(begins, key=len), max(ends, key=len)
    for inner in ("", ANY, _name(one), _name(other)):
        name = f"{begin}{inner}{end}"
        if all(re.fullmatch(segment_expression(text), name) for text in (one, other)):
            return name
    return None
