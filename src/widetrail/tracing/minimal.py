"""The least of many parts that is enough, by taking parts away.

Source: Zeller and Hildebrandt, "Simplifying and Isolating Failure-Inducing Input" (2002); here
halves are taken away for good where that is not noticed, which needs about k log n trials to find
k needed parts of n.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TypeVar

P = TypeVar("P")


def least(parts: Sequence[P], enough: Callable[[Sequence[P]], bool]) -> list[P]:
    """Return a part of ``parts`` that is enough, and of which nothing can be taken away alone.

    Those that stand first are taken away first, where one of several would do. ``enough`` must
    hold for all parts.
    """
    kept = list(parts)
    before = len(kept) + 1
    while len(kept) < before:  # what was needed once may not be, when others have gone
        before = len(kept)
        kept = _thinned(kept, enough)
    return kept


def _thinned(parts: list[P], enough: Callable[[Sequence[P]], bool]) -> list[P]:
    """Take away what can be, halves first; each one that is left was tried alone."""
    needed: list[P] = []
    waiting: list[list[P]] = [parts] if parts else []
    while waiting:
        group = waiting.pop()
        rest = [part for other in reversed(waiting) for part in other]
        if enough([*needed, *rest]):
            continue
        if len(group) == 1:
            needed += group
            continue
        middle = len(group) // 2
        waiting += [group[middle:], group[:middle]]
    return needed
