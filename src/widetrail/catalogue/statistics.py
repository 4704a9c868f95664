"""What a history tells: which rehearsals are flaky, which are slow, which recipes are weak, and how
that goes on from week to week."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterable, Mapping, Sequence
from datetime import date
from itertools import pairwise
from math import sqrt
from statistics import NormalDist, median
from typing import Any

from widetrail.lazily import dataclass
from widetrail.rehearsing.history import History, Quarantine, RunRow, Whose

SURE = 0.95
"""How sure the interval of a share is."""

BAD_BATCH = (10, 0.2)
"""A batch of so many runs, of which a larger share than this failed, says nothing of single
rehearsals: something was wrong where it was run."""

LAST = 10
"""The newest runs of a rehearsal by which its duration is told."""


@dataclass(frozen=True)
class Flaky:
    """A rehearsal that came out one way and another with the very same inputs.

    ``failed`` of ``runs`` with these inputs failed; the true share of failures lies between ``low``
    and ``high`` with 95 % (Wilson's interval). ``turns`` is how often the outcome changed.
    """

    whose: Whose
    runs: int
    failed: int
    turns: int
    low: float
    high: float
    last: str


@dataclass(frozen=True)
class Slow:
    """How long a rehearsal takes: the median of its newest runs (seconds), and of those before."""

    whose: Whose
    seconds: float
    before: float
    runs: int


@dataclass(frozen=True)
class Weak:
    """How well a recipe is proved, by what was measured last: per cent of its branches that are
    reached and of its mutants that were detected, or explained. ``None`` where it was not
    measured."""

    recipe: str
    coverage: float | None
    detected: float | None


@dataclass(frozen=True)
class Week:
    """What was run in a week: its Monday (ISO 8601), how many runs, how many of them failed, the
    median and the sum of their seconds, and the mean coverage measured (per cent)."""

    monday: str
    runs: int
    failed: int
    median: float
    seconds: float
    coverage: float | None


@dataclass(frozen=True)
class Statistics:
    """What a history tells as a whole; each list has the worst first, the weeks the oldest."""

    runs: int
    flaky: tuple[Flaky, ...]
    slow: tuple[Slow, ...]
    weak: tuple[Weak, ...]
    weeks: tuple[Week, ...]
    quarantined: tuple[Quarantine, ...]


def statistics_of(history: History, day: str) -> Statistics:
    """Return what a history tells on a day (ISO 8601)."""
    runs = list(history.runs())
    covered = [dict(row) for row in history.whole("covered")]
    return Statistics(
        len(runs),
        tuple(_flaky(runs)),
        tuple(_slow(runs)),
        tuple(_weak(covered, history.whole("judged"))),
        tuple(_weeks(runs, covered)),
        tuple(history.quarantined(day)),
    )


def wilson(count: int, of: int) -> tuple[float, float]:
    """Return the interval in which a true share lies that ``count`` of ``of`` tell (E. B. Wilson,
    1927)."""
    z = NormalDist().inv_cdf(0.5 + SURE / 2)
    share, spread = count / of, 1 + z * z / of
    middle = (share + z * z / (2 * of)) / spread
    half = z / spread * sqrt(share * (1 - share) / of + z * z / (4 * of * of))
    return max(0.0, middle - half), min(1.0, middle + half)


def _whose(run: RunRow) -> Whose:
    return run.recipe, run.rehearsal, run.case_name


def _flaky(runs: Sequence[RunRow]) -> list[Flaky]:
    """Return rehearsals that passed and failed with the same inputs, in builds that were well."""
    of_batch: dict[str, list[bool]] = defaultdict(list)
    for run in runs:
        of_batch[run.batch].append(run.passed)
    least, share = BAD_BATCH
    bad = {
        batch
        for batch, passed in of_batch.items()
        if batch and len(passed) >= least and passed.count(False) > share * len(passed)
    }
    same: dict[tuple[Whose, str], list[RunRow]] = defaultdict(list)
    for run in runs:
        if run.batch not in bad and run.tried:
            same[_whose(run), run.tried].append(run)
    found = []
    for (whose, _), mine in same.items():
        failed = sum(not run.passed for run in mine)
        if 0 < failed < len(mine):
            turns = sum(one.passed != other.passed for one, other in pairwise(mine))
            ends = wilson(failed, len(mine))
            found.append(Flaky(whose, len(mine), failed, turns, *ends, mine[-1].ended))
    return sorted(found, key=lambda one: (-one.low, one.whose))


def _slow(runs: Sequence[RunRow]) -> list[Slow]:
    took: dict[Whose, list[float]] = defaultdict(list)
    for run in runs:
        took[_whose(run)].append(run.seconds)
    found = []
    for whose, seconds in took.items():
        newest, before = seconds[-LAST:], seconds[:-LAST]
        told = median(before) if before else median(newest)
        found.append(Slow(whose, median(newest), told, len(seconds)))
    return sorted(found, key=lambda one: (-one.seconds, one.whose))


def _weak(covered: Iterable[Mapping[str, Any]], judged: Iterable[Mapping[str, Any]]) -> list[Weak]:
    coverage = {row["recipe"]: _percent(row["reached"], row["wanted"]) for row in covered}
    detected = {
        row["recipe"]: _percent(row["detected"] + row["explained"], row["mutants"])
        for row in judged
    }
    found = [
        Weak(name, coverage.get(name), detected.get(name))
        for name in coverage.keys() | detected.keys()
    ]

    def worth(one: Weak) -> float:
        told = [share for share in (one.coverage, one.detected) if share is not None]
        return sum(told) / len(told)

    return sorted(found, key=lambda one: (worth(one), one.recipe))


def _percent(count: int, of: int) -> float:
    return 100.0 * count / of if of else 100.0


def _weeks(runs: Sequence[RunRow], covered: Iterable[Mapping[str, Any]]) -> list[Week]:
    seconds: dict[str, list[float]] = defaultdict(list)
    failed: Counter[str] = Counter()
    shares: dict[str, list[float]] = defaultdict(list)
    for run in runs:
        monday = _monday(run.ended)
        seconds[monday].append(run.seconds)
        failed[monday] += not run.passed
    for row in covered:
        shares[_monday(row["ended"])].append(_percent(row["reached"], row["wanted"]))
    found = []
    for monday in sorted(seconds):
        took, told = seconds[monday], shares.get(monday)
        mean = sum(told) / len(told) if told else None
        found.append(Week(monday, len(took), failed[monday], median(took), sum(took), mean))
    return found


def _monday(moment: str) -> str:
    year, week, _ = date.fromisoformat(moment[:10]).isocalendar()
    return date.fromisocalendar(year, week, 1).isoformat()
