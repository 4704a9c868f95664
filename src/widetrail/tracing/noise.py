"""Whether what was touched in one kind of run has to do with it: rates, and how sure they make.

Sources: Fisher's exact test (``scipy.stats.fisher_exact``), one-sided, and the correction for many
tests by Benjamini and Hochberg (``scipy.stats.false_discovery_control``).
"""

from __future__ import annotations

from collections.abc import Mapping

from widetrail.lazily import dataclass

CHANCE = 0.05
"""The rate of false findings that is borne."""

RUNS_MOST = 200
"""Runs of each kind that are reckoned with, at most."""


@dataclass(frozen=True)
class Rate:
    """In how many of ``runs`` a path was changed by what was done, and in how many of ``others``
    without it; ``chance`` is the corrected probability that this is by chance.

    ``would_do`` is how many runs of each kind would be enough to tell, if it went on so; 0 where
    there are enough.
    """

    hits: int
    runs: int
    other_hits: int
    others: int
    chance: float
    would_do: int

    @property
    def is_sure(self) -> bool:
        return self.chance <= CHANCE


def rates(counts: Mapping[str, tuple[int, int, int, int]]) -> dict[str, Rate]:
    """Judge counts by name: hits, runs, hits of the other runs, and how many these were.

    Needs SciPy (``pip install "widetrail[trace]"``).

    Raises:
        ImportError: SciPy is not installed.
    """
    if not counts:
        return {}
    from scipy.stats import false_discovery_control

    names = list(counts)
    chances = [_chance(*counts[name]) for name in names]
    corrected = false_discovery_control(chances)
    tests = len(names)
    return {
        name: Rate(*counts[name], float(chance), _would_do(counts[name], float(chance), tests))
        for name, chance in zip(names, corrected, strict=True)
    }


def _chance(hits: int, runs: int, other_hits: int, others: int) -> float:
    from scipy.stats import fisher_exact

    table = [[hits, runs - hits], [other_hits, others - other_hits]]
    return float(fisher_exact(table, alternative="greater").pvalue)


def _would_do(counts: tuple[int, int, int, int], chance: float, tests: int) -> int:
    hits, runs, other_hits, others = counts
    if chance <= CHANCE or not runs or not others or hits / runs <= other_hits / others:
        return 0
    for each in range(2, RUNS_MOST):
        more = round(hits / runs * each), each, round(other_hits / others * each), each
        if _chance(*more) * tests <= CHANCE:
            return each
    return RUNS_MOST
