"""Running many rehearsals, several at a time, each in the order it was named."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from datetime import datetime
from functools import lru_cache
from pathlib import Path

from widetrail.lazily import dataclass
from widetrail.recipe import Loaded, load_recipe_text
from widetrail.rehearsing.rehearsal import Rehearsal, load_rehearsals
from widetrail.rehearsing.rehearsed import Rehearsed
from widetrail.rehearsing.runner import rehearse
from widetrail.steps import KINDS
from widetrail.workers import workers


@dataclass(frozen=True)
class Job:
    """One rehearsal that is to be run: its file, which case of its table, and how.

    ``texts`` are recipes that are taken instead of those beside it: their files and texts.
    """

    path: Path
    number: int
    now: datetime
    machines: Path | None = None
    keep: Path | None = None
    texts: tuple[tuple[str, str], ...] = ()


def jobs_of(
    paths: Iterable[Path], now: datetime, machines: Path | None = None, keep: Path | None = None
) -> list[tuple[Job, Rehearsal]]:
    """Return a job for each case of the rehearsals at ``paths``, with what it is.

    ``keep`` is the folder that holds a folder for each afterwards.

    Raises:
        InputUnusable: A file cannot be read.
        DocumentUnusable: A file has findings.
    """
    found: list[tuple[Job, Rehearsal]] = []
    for path in paths:
        for number, rehearsal in enumerate(load_rehearsals(path)):
            own = None
            if keep is not None:
                own = keep.absolute() / f"{len(found) + 1:03d} {path.name.partition('.')[0]}"
            found.append((Job(path, number, now, machines, own), rehearsal))
    return found


@lru_cache(maxsize=64)
def _cases(path: Path, changed: int) -> tuple[Rehearsal, ...]:
    return load_rehearsals(path)


@lru_cache(maxsize=64)
def _recipe(file: str, text: str) -> Loaded:
    return load_recipe_text(text, file, KINDS)


def rehearsal_of(job: Job) -> Rehearsal:
    """Return the rehearsal that a job is of; the same file is read once."""
    return _cases(job.path, job.path.stat().st_mtime_ns)[job.number]


def run_job(job: Job) -> Rehearsed:
    """Run one job.

    Raises:
        InputUnusable: Its recipe or a machine is not there.
        DocumentUnusable: Its recipe has findings.
    """
    recipes = [_recipe(file, text) for file, text in job.texts] or None
    rehearsal = rehearsal_of(job)
    return rehearse(rehearsal, job.now, job.machines, keep=job.keep, recipes=recipes)


def run_many(
    jobs: Sequence[Job], count: int = 1, told: Callable[[Rehearsed], None] = lambda _: None
) -> list[Rehearsed]:
    """Run jobs, ``count`` at a time; ``told`` is given each result, in order.

    Raises:
        InputUnusable: As ``run_job``.
        DocumentUnusable: As ``run_job``.
    """
    results = []
    with workers(min(count, len(jobs))) as each:
        for result in each(run_job, jobs):
            told(result)
            results.append(result)
    return results
