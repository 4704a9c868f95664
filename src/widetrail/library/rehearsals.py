"""Recipes rehearsed on copies of machines, with what the rehearsals reach and notice."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import field, replace
from datetime import UTC, datetime
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from widetrail.errors import WentWrong, WideTrailError
from widetrail.findings import Finding
from widetrail.lazily import dataclass
from widetrail.library.recipes import Where, load_recipe
from widetrail.recipe import Loaded
from widetrail.rehearsing import Rehearsed, collect_rehearsals
from widetrail.rehearsing.batch import Job, jobs_for, try_job
from widetrail.rehearsing.constant_screens import constant_screens
from widetrail.rehearsing.coverage import Coverage, coverage_of, load_unproved
from widetrail.rehearsing.history import Quarantine, Standing, Why, open_history
from widetrail.rehearsing.inputs import InputDigests, Inputs
from widetrail.rehearsing.mutants import Judged, judge_mutants
from widetrail.rehearsing.noting import Known, Noting, noting
from widetrail.rehearsing.result_texts import findings_of
from widetrail.rehearsing.stage import exposed, machines_near
from widetrail.rehearsing.tried import Tried, all_tried
from widetrail.workers import Crew, Killed

if TYPE_CHECKING:
    from widetrail.testing import Swept

Tick = Callable[[int, int], None]
"""What is told how many of how many are done."""


class Watch:
    """Told how far rehearsals are; this one takes no notice."""

    def begun(self, wanted: Sequence[Tried]) -> None:
        """Be told which rehearsals are run now."""

    def came(self, tried: Tried, result: Rehearsed | WideTrailError) -> None:
        """Be told what one of them came to, or why it could not be run."""


class Unchanged(NamedTuple):
    """A rehearsal that was not run again: it passed, and all that it tries is the same."""

    tried: Tried
    standing: Standing
    inputs: Inputs


@dataclass(frozen=True)
class Rehearsals:
    """The rehearsals that were run, with their results in the same order.

    ``findings`` are of the recipes and machines as a whole; those in ``constant`` say that a
    program prints the same whatever is there.
    """

    listed: tuple[Job, ...]
    results: tuple[Rehearsed, ...]
    findings: tuple[Finding, ...] = ()
    constant: tuple[Finding, ...] = ()
    unchanged: tuple[Unchanged, ...] = ()
    why: Mapping[str, tuple[Why, ...]] = field(default_factory=dict)
    """Why the others were, by their names, where only what changed was to be run."""
    broken: tuple[WideTrailError, ...] = ()
    """What in the folders that were named cannot be used: rehearsals, recipes and machines."""
    quarantined: tuple[Quarantine, ...] = ()
    """Those of them whose failing does not count for now."""
    history: Path | None = None
    machines: Path | None = None

    @property
    def passed(self) -> bool:
        """Whether each came out as it expects, but for those in quarantine."""
        apart = {(one.rehearsal, one.case_name) for one in self.quarantined}
        failed = (r for r in self.results if not r.passed)
        counts = [r for r in failed if (Path(r.file).name, r.case) not in apart]
        return not (counts or self.constant or self.broken)

    @cached_property
    def recipes(self) -> tuple[Loaded, ...]:
        """Each recipe that was rehearsed, once."""
        return _recipes_of(job.tried for job in self.listed)

    @cached_property
    def before(self) -> tuple[tuple[Job, Rehearsed], ...]:
        """What those that were not run again came to when they passed."""
        if self.history is None or not self.unchanged:
            return ()
        now = datetime.now(UTC)
        with open_history(self.history) as known:
            found = [(one, known.passed_with(one.inputs, one.tried.path)) for one in self.unchanged]
        return tuple(
            (Job(one.tried, now, self.machines), result)
            for one, result in found
            if result is not None
        )

    def coverage(self) -> tuple[Coverage, ...]:
        """Return for each recipe which of its branches the rehearsals reached, now or when they
        passed with all that is the same. It is added to the history, where there is one."""
        results = [*self.results, *(result for _, result in self.before)]
        tried = [job.tried for job in self.listed] + [one.tried for one in self.unchanged]
        unproved = ((one, load_unproved(Path(one.file))) for one in _recipes_of(tried))
        found = tuple(coverage_of(one, results, reasons) for one, reasons in unproved)
        if self.history is not None:
            with open_history(self.history, add=True) as known:
                own = {one.recipe_files[0] for one in tried}  # others are only relied on
                for one in found:
                    if Path(one.file) in own:
                        known.add_covered(one)
        return found

    def mutants(
        self,
        recipe: Loaded,
        *,
        crew: Crew | None = None,
        tick: Tick = lambda done, total: None,
    ) -> list[Judged]:
        """Change ``recipe`` one rule at a time; return for each change whether it was noticed. How
        many were is added to the history, where there is one."""
        now = zip(self.listed, self.results, strict=True)
        runs = [*now, *self.before]
        begun = time.monotonic()
        judged = judge_mutants(recipe, runs, crew, load_unproved(Path(recipe.file)), tick)
        if self.history is not None:
            with open_history(self.history, add=True) as known:
                known.add_judged(recipe, judged, time.monotonic() - begun)
        return judged

    def stops(
        self, *, crew: Crew | None = None, shown: Callable[[Swept], None] = lambda swept: None
    ) -> dict[str, Swept]:
        """Stop each rehearsal at its effects, within bounds; return what that came to by their
        names. Those that are to be stopped or refused, or that failed, are left out."""
        from widetrail.testing.sweep import sweep_job

        chosen = [
            job
            for job, result in zip(self.listed, self.results, strict=True)
            if job.tried.arrives and result.passed
        ]
        found: dict[int, Swept] = {}
        for number, result in (crew or Crew()).each(sweep_job, chosen):
            swept: Swept = _as_swept(result, chosen[number])
            shown(swept)
            found[number] = swept
        return {job.tried.name: found[number] for number, job in enumerate(chosen)}


def rehearse(
    paths: Iterable[Where],
    *,
    machines: Where | None = None,
    jobs: int | Crew = 1,
    keep: Where | None = None,
    history: Where | Known | None = None,
    shown: Callable[[Rehearsed], None] = lambda result: None,
    watch: Watch | None = None,
) -> Rehearsals:
    """Run the rehearsals that ``paths`` name, on copies of their machines.

    ``paths`` are files, folders with all below them, or recipes with the rehearsals beside them.
    ``jobs`` run at a time, or a crew does them. ``keep`` is a new folder for the machines
    as they were in the end. Results are added to the ``history`` at a path as they come; ``Known``
    says what else is known from before. ``shown`` is called with each result as it comes, ``watch``
    is told of what cannot be run too.

    Raises:
        InputUnusable: A file or a machine that is named cannot be read, or there is nothing to
            resume.
        DocumentUnusable: A file that is named has findings that are errors.

    Example:
        >>> rehearsed = rehearse(["recipes/huemoss.trail.yaml"])
        >>> rehearsed.passed, [covered.percent for covered in rehearsed.coverage()]
        (True, [100.0])
    """
    given, watch = [Path(path) for path in paths], watch or Watch()
    known = history if isinstance(history, Known) else Known(_path(history))
    crew = jobs if isinstance(jobs, Crew) else Crew(jobs)
    near = _path(machines)
    digests = InputDigests(near)
    engine = digests.engine if known.cache is not None else ""
    tried, broken = all_tried(collect_rehearsals(given), known.cache, engine, digests.know)
    alone = not any(path.is_dir() for path in given)
    if broken and alone:
        raise broken[0]
    inputs = {one.name: digests.of(one) for one in tried} if known.history is not None else {}
    standings = known.standings(inputs)
    wanted = [one for one in tried if not known.changed or standings[one.name].why]
    listed = jobs_for(wanted, datetime.now(UTC), near, _path(keep))
    costs = [standings[one.name].seconds if standings else 0.0 for one in wanted]
    results: dict[int, Rehearsed] = {}
    watch.begun(wanted)
    with noting(known, {one.name: inputs[one.name] for one in wanted if inputs}) as noted:
        for number, result in _results(listed, costs, noted, crew):
            if isinstance(result, Rehearsed):
                results[number] = result
                shown(result)
            elif alone:
                raise result
            else:
                broken.append(result)
            watch.came(wanted[number], result)
        apart = noted.quarantined()
    ran, new = [(listed[number], results[number]) for number in sorted(results)], set(wanted)
    found = Rehearsals(
        tuple(one for one, _ in ran),
        tuple(result for _, result in ran),
        unchanged=tuple(
            Unchanged(one, standings[one.name], inputs[one.name]) for one in tried if one not in new
        ),
        why={one.name: standings[one.name].why for one in wanted if known.changed},
        broken=tuple({str(one): one for one in broken}.values()),
        quarantined=apart,
        history=known.history,
        machines=near,
    )
    return _judged_as_a_whole(found, crew, alone=alone)


def _as_swept(result: Swept | Killed, job: Job) -> Swept:
    """Return what a sweep came to; that its workers died of it is a trouble like others."""
    from widetrail.testing import Swept, Trouble

    if not isinstance(result, Killed):
        return result
    return Swept(job.tried.name, troubles=[Trouble("anywhere", str(result))])


def _path(where: Where | None) -> Path | None:
    return None if where is None else Path(where)


def _recipes_of(tried: Iterable[Tried]) -> tuple[Loaded, ...]:
    files = dict.fromkeys(path for one in tried for path in one.recipe_files)
    return tuple(load_recipe(path) for path in files)


def _results(
    listed: Sequence[Job], costs: Sequence[float], noted: Noting, crew: Crew
) -> Iterator[tuple[int, Rehearsed | WideTrailError]]:
    """Give what each job came to, those first that are known from a batch that was cut off."""
    left = []
    for number, job in enumerate(listed):
        before = noted.known(job.tried)
        if before is not None:
            yield number, before
        elif (put := noted.dangerous(job.tried)) is not None:
            why = f"in quarantine until {put.until}, or until it is changed: {put.why}"
            yield number, WentWrong("is not run", where=job.tried.name, why=why)
        else:
            left.append(number)
    jobs = [listed[number] for number in left]
    for at, result in crew.each(try_job, jobs, [costs[number] for number in left]):
        number = left[at]
        if isinstance(result, Rehearsed):
            noted.add(listed[number].tried, result)
        elif isinstance(result, Killed):
            noted.killed(listed[number].tried, result.why)
            result = WentWrong(result.what, where=listed[number].tried.name, why=result.why)
        yield number, result


def _judged_as_a_whole(found: Rehearsals, crew: Crew, *, alone: bool) -> Rehearsals:
    """Return results with the findings of their recipes and machines as a whole.

    Raises:
        InputUnusable: A machine is none, and the rehearsals that take it were named ``alone``.
    """
    ran = list(zip(found.listed, found.results, strict=True))
    constant = tuple(constant_screens(ran, crew))
    folders = dict.fromkeys(
        (job.machines or machines_near(job.path)) / name
        for job in found.listed
        for name in job.tried.machines
    )
    open_ones: list[Finding] = []
    broken = list(found.broken)
    for folder in folders:
        try:
            open_ones += exposed(folder)
        except WideTrailError as error:
            if alone:
                raise
            broken.append(error)
    others = {one.tried.recipe_files[0] for one in found.unchanged}  # of which not all is seen here
    whole = [result for job, result in ran if job.tried.recipe_files[0] not in others]
    findings = (*findings_of(whole), *constant, *open_ones)
    return replace(found, findings=findings, constant=constant, broken=tuple(broken))
