"""Running many rehearsals, each as a job that any process can do."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import suppress
from datetime import datetime
from functools import lru_cache
from pathlib import Path

from widetrail.errors import InputUnusable, WideTrailError
from widetrail.lazily import dataclass
from widetrail.recipe import Loaded, load_recipe_text
from widetrail.rehearsing.rehearsal import Rehearsal, load_rehearsals
from widetrail.rehearsing.rehearsed import Rehearsed
from widetrail.rehearsing.runner import rehearse
from widetrail.rehearsing.stage import machines_near
from widetrail.rehearsing.tried import Tried, tried_by
from widetrail.steps import KINDS
from widetrail.workers import Crew, Killed


@dataclass(frozen=True)
class Job:
    """One rehearsal that is to be run, and how.

    ``texts`` are recipes that are taken instead of those beside it: their files and texts.
    """

    tried: Tried
    now: datetime
    machines: Path | None = None
    keep: Path | None = None
    texts: tuple[tuple[str, str], ...] = ()

    @property
    def path(self) -> Path:
        """The file of its rehearsal."""
        return self.tried.path

    def needs(self) -> Iterator[Path]:
        """Give the files and folders that it takes, as far as they are there."""
        needed = [self.path, *self.tried.recipe_files]
        with suppress(InputUnusable):
            machines = self.machines or machines_near(self.path)
            needed += [machines / name for name in self.tried.machines]
            if self.tried.maker:
                needed.append(machines.parent / self.tried.maker)
        yield from (path for path in needed if path.exists())


def jobs_for(
    tried: Iterable[Tried], now: datetime, machines: Path | None = None, keep: Path | None = None
) -> list[Job]:
    """Return a job for each case of rehearsals; ``keep`` is the folder that holds a folder for each
    afterwards."""
    found: list[Job] = []
    for one in tried:
        own = None
        if keep is not None:
            own = keep.absolute() / f"{len(found) + 1:03d} {one.path.name.partition('.')[0]}"
        found.append(Job(one, now, machines, own))
    return found


def jobs_of(paths: Iterable[Path], now: datetime, machines: Path | None = None) -> list[Job]:
    """Return a job for each case of the rehearsals at ``paths``.

    Raises:
        InputUnusable: A file cannot be read.
        DocumentUnusable: A file has findings.
    """
    loaded = (enumerate(load_rehearsals(path)) for path in paths)
    return jobs_for((tried_by(one, n) for cases in loaded for n, one in cases), now, machines)


@lru_cache(maxsize=64)
def _cases(path: Path, changed: int) -> tuple[Rehearsal, ...]:
    return load_rehearsals(path)


@lru_cache(maxsize=64)
def _recipe(file: str, text: str) -> Loaded:
    return load_recipe_text(text, file, KINDS)


def rehearsal_of(job: Job) -> Rehearsal:
    """Return the rehearsal that a job is of; the same file is read once."""
    return _cases(job.path, job.path.stat().st_mtime_ns)[job.tried.number]


def run_job(job: Job) -> Rehearsed:
    """Run one job.

    Raises:
        InputUnusable: Its recipe or a machine is not there.
        DocumentUnusable: Its recipe has findings.
    """
    recipes = [_recipe(file, text) for file, text in job.texts] or None
    rehearsal = rehearsal_of(job)
    return rehearse(rehearsal, job.now, job.machines, keep=job.keep, recipes=recipes)


def try_job(job: Job) -> Rehearsed | WideTrailError:
    """Run one job; return what it came to, or why it could not be run."""
    try:
        return run_job(job)
    except WideTrailError as error:
        return error


def run_many(
    jobs: Sequence[Job], count: int = 1, told: Callable[[Rehearsed], None] = lambda _: None
) -> list[Rehearsed]:
    """Run jobs, ``count`` at a time; ``told`` is given each result, in order.

    Raises:
        InputUnusable: As ``run_job``.
        DocumentUnusable: As ``run_job``.
    """
    results = []
    for _, result in Crew(count).each(run_job, jobs):
        if isinstance(result, Killed):
            raise result
        told(result)
        results.append(result)
    return results
