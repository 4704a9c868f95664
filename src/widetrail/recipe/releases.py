"""Releases as programs write them, put in order, and ranges of them.

A release is split into numbers and words. Trailing zeros do not count (``7`` is ``7.0``); a word
of a trial (``beta``, ``rc`` …) comes before the release it belongs to, a word of a repair
(``r``, ``update``, ``sp`` …) after it, and words that only praise it (``lts``, ``final`` …) do
not count. ``2024 R3`` is later than ``2024``, ``10.0.2b3`` earlier than ``10.0.2``.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from functools import total_ordering

from widetrail.formats.flaws import flaw
from widetrail.lazily import dataclass

_TRIAL = {
    "dev": -6,
    "nightly": -6,
    "snapshot": -6,
    "a": -5,
    "alpha": -5,
    "b": -4,
    "beta": -4,
    "pre": -3,
    "preview": -3,
    "c": -2,
    "rc": -2,
    "cr": -2,
}
_PRAISE = {
    "lts",
    "esr",
    "final",
    "stable",
    "release",
    "ga",
    "v",
    "version",
    "x64",
    "x86",
    "bit",
}
_TOKEN = re.compile(r"\d+|[a-z]+")
_TERM = re.compile(r"(>=|<=|==|!=|>|<|=)?\s*(\S.*)")


@total_ordering
@dataclass(frozen=True)
class Release:
    """One release: ``text`` as written; compared by its order, not its spelling."""

    text: str
    order: tuple[tuple[int, int, str], ...]

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Release) and self.order == other.order

    def __lt__(self, other: Release) -> bool:
        return self.order < other.order

    def __hash__(self) -> int:
        return hash(self.order)

    def __str__(self) -> str:
        return self.text


def parse_release(text: str) -> Release | None:
    """Return ``text`` as a release, or ``None`` when it holds no number at all."""
    tokens = _TOKEN.findall(text.lower())
    if not any(t.isdigit() for t in tokens):
        return None
    order: list[tuple[int, int, str]] = []
    for token in tokens:
        if token.isdigit():
            order.append((1, int(token[:18]), ""))
        elif token in _TRIAL:
            _trim(order)
            order.append((-1, _TRIAL[token], ""))
        elif token not in _PRAISE:
            _trim(order)
            order.append((0, 1, token))
    _trim(order)
    # The end of a release ranks after a trial word and before a repair word or a number.
    return Release(text.strip(), (*order, (0, 0, "")))


def _trim(order: list[tuple[int, int, str]]) -> None:
    while len(order) > 1 and order[-1] == (1, 0, ""):
        order.pop()


def _major(release: Release) -> tuple[int, int, str]:
    return next((one for one in release.order if one[0] == 1), (1, 0, ""))


AS_OLD: Mapping[str, Callable[[Release, Release], bool]] = {
    "same": lambda new, old: new == old,
    "same or later": lambda new, old: new >= old,
    "same major": lambda new, old: _major(new) == _major(old),
}
"""What a need of new's release may say of old's, each with what judges the two; the major of a
release is its first number."""


@dataclass(frozen=True)
class Releases:
    """A range of releases, such as ``>=7, <10``: every term must hold."""

    text: str
    terms: tuple[tuple[str, Release], ...]

    def __contains__(self, release: Release) -> bool:
        return all(_holds(release, sign, bound) for sign, bound in self.terms)

    def at(self, release: Release | None) -> list[str]:
        """Return the bounds that ``release`` itself is, as they are written."""
        return [bound.text for _, bound in self.terms if bound == release]

    @property
    def empty(self) -> bool:
        """Whether no release is in the range, as far as its bounds tell."""
        exact = [bound for sign, bound in self.terms if sign in ("=", "==")]
        if exact:
            return not any(bound in self for bound in exact)
        lows = [(bound.order, sign) for sign, bound in self.terms if sign in (">", ">=")]
        highs = [(bound.order, sign) for sign, bound in self.terms if sign in ("<", "<=")]
        if not lows or not highs:
            return False
        low, high = max(lows)[0], min(highs)[0]
        open_end = (low, ">") in lows or (high, "<") in highs
        return low > high or (low == high and open_end)


def _holds(release: Release, sign: str, bound: Release) -> bool:
    tests = {
        ">=": release >= bound,
        "<=": release <= bound,
        ">": release > bound,
        "<": release < bound,
        "!=": release != bound,
        "==": release == bound,
        "=": release == bound,
    }
    return tests[sign]


def parse_releases(text: str) -> Releases:
    """Read a range of releases; a term without a sign means that one release.

    Raises:
        PydanticCustomError: A term is not a release.
    """
    terms: list[tuple[str, Release]] = []
    for part in text.split(","):
        match = _TERM.fullmatch(part.strip())
        release = parse_release(match.group(2)) if match else None
        if match is None or release is None:
            hint = 'Write it like ">=7, <10"'
            raise flaw("releases", f'"{part.strip()}" is not a range of versions', hint)
        terms.append((match.group(1) or "==", release))
    return Releases(text, tuple(terms))


def check_releases(text: str) -> str:
    """Return ``text`` if it is a range of releases.

    Raises:
        PydanticCustomError: A term is not a release.
    """
    parse_releases(text)
    return text
