"""``widetrail rehearse``: recipes tried out on copies of machines."""

from __future__ import annotations

import sys
from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import asdict, replace
from pathlib import Path
from typing import TYPE_CHECKING

import click

from widetrail.cli.output import Page, as_value, json_option, print_json
from widetrail.findings import Finding
from widetrail.formats.quantities import show_count
from widetrail.lazily import dataclass
from widetrail.library.rehearsals import Rehearsals, rehearse
from widetrail.recipe import Loaded
from widetrail.rehearsing import Rehearsal, Rehearsed
from widetrail.rehearsing.batch import Job
from widetrail.rehearsing.coverage import Coverage, load_unproved
from widetrail.rehearsing.history import Why
from widetrail.rehearsing.mutants import Judged, judge_mutants, show_mutant, unneeded
from widetrail.rehearsing.result_texts import side_by_side
from widetrail.workers import workers

_WHY: Mapping[Why, str] = {
    "never": "never run before",
    "failed": "failed last",
    "recipe": "the recipe",
    "rehearsal": "the rehearsal",
    "machines": "its machines",
    "programs": "their programs",
    "engine": "Wide Trail",
}

SHOWN = 40
"""Lines of both print-outs that are shown of a rehearsal that failed, at most."""

if TYPE_CHECKING:
    from widetrail.testing import Swept


@dataclass(frozen=True, kw_only=True)
class _Given:
    """What a call gives."""

    paths: tuple[Path, ...]
    machines: Path | None
    jobs: int
    keep: Path | None
    stops: bool
    coverage: bool
    page: Path | None
    fail_under: float | None
    mutate: bool
    junit: Path | None
    history: Path | None
    changed: bool
    as_json: bool


@click.command("rehearse")
@click.argument("paths", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option(
    "--machines",
    type=click.Path(path_type=Path),
    help="The folder that holds the machines; else one called machines beside or above.",
)
@click.option(
    "--jobs", type=click.IntRange(1), default=1, help="The number of rehearsals that run at a time."
)
@click.option(
    "--keep",
    type=click.Path(path_type=Path),
    help="A new folder for the machines as they were in the end, to look into them.",
)
@click.option(
    "--stops", is_flag=True, help="Also stop each rehearsal at its effects, within bounds."
)
@click.option(
    "--coverage", is_flag=True, help="Show which branches of the recipes no rehearsal covers."
)
@click.option(
    "--page",
    type=click.Path(path_type=Path, dir_okay=False),
    help="Write the coverage as an HTML page (with --coverage).",
)
@click.option(
    "--fail-under",
    type=click.FloatRange(0, 100),
    help="Exit with 1 if a recipe's coverage is below this percentage (with --coverage).",
)
@click.option(
    "--mutate",
    is_flag=True,
    help="Change the recipes one rule at a time, and show which changes no rehearsal detects.",
)
@click.option(
    "--junit",
    type=click.Path(path_type=Path, dir_okay=False),
    help="Also write the results as JUnit XML.",
)
@click.option(
    "--history",
    type=click.Path(path_type=Path, dir_okay=False),
    help="Add the results to a history (a file of SQLite), for the sheets of the recipes.",
)
@click.option(
    "--changed",
    is_flag=True,
    help="Run only what did not pass, by the history, with the same recipes, rehearsal, machines, "
    "programs and version.",
)
@json_option
@as_value(_Given)
def command(given: _Given) -> None:
    """Run the rehearsals that PATHS name: files, folders with all below them, or recipes with
    those beside them.

    Machines are copied first and never changed. The programs that the rehearsals and their
    recipes name are started. Ends with 1 where something came out otherwise than expected.
    """
    _insist_of_changed(given)
    shown = _Shown(as_json=given.as_json)
    ran = rehearse(
        given.paths,
        machines=given.machines,
        jobs=given.jobs,
        keep=given.keep,
        changed_since=given.history if given.changed else None,
        shown=shown.result,
    )
    listed, results, findings, well = ran.listed, ran.results, ran.findings, ran.passed
    recipes = ran.recipes
    shown.findings(results, findings)
    shown.changed(ran)
    told: dict[str, object] = {"findings": [f.as_json() for f in findings]}
    if given.stops:
        swept = _sweep(listed, results, given.jobs, shown)
        well = well and all(one.passed for one in swept.values())
        told["stops"] = {name: _swept_json(one) for name, one in swept.items()}
    if given.coverage or given.page is not None or given.fail_under is not None:
        covered = ran.coverage()
        shown.coverage(covered)
        well = well and not any(c.findings for c in covered)
        well = well and all(c.percent >= (given.fail_under or 0.0) for c in covered)
        told["coverage"] = [_coverage_json(c) for c in covered]
        if given.page is not None:
            from widetrail.reporting.coverage_page import render_coverage

            given.page.write_text(render_coverage(covered), encoding="utf-8")
    if given.mutate:
        judged, unused = _mutate(recipes, listed, results, given.jobs, shown)
        well = well and not unused and not any(one.survived for one in judged)
        told["mutants"] = [one.as_json() for one in judged]
    if given.history is not None:
        ran.remember(given.history)
    if given.junit is not None:
        from widetrail.reporting.junit import render_junit

        given.junit.write_bytes(render_junit(results))
    if given.as_json:
        rehearsals = [_json(result) for result in results]
        if given.changed:
            told["why"] = ran.why
            told["unchanged"] = {one.name: standing.ended for one, standing in ran.unchanged}
        print_json({"rehearsals": rehearsals, **told})
    if not well:
        click.get_current_context().exit(1)


def _insist_of_changed(given: _Given) -> None:
    """Raise where only what changed is to be run and something else needs all, or what was run."""
    if given.changed and given.history is None:
        raise click.UsageError("--changed needs --history.")
    if given.changed and (given.stops or given.coverage or given.mutate or given.page):
        wants_all = "--stops, --coverage and --mutate need all rehearsals: not with --changed."
        raise click.UsageError(wants_all)


def _json(result: Rehearsed) -> dict[str, object]:
    branches = [
        {"recipe": a.recipe, "at": a.where, "branch": a.branch}
        for a in sorted(result.branches, key=str)
    ]
    return {**asdict(result), "passed": result.passed, "branches": branches}


def _swept_json(swept: Swept) -> dict[str, object]:
    told = {**asdict(replace(swept, modes=Counter())), "modes": dict(swept.modes)}
    return {**told, "passed": swept.passed}


def _coverage_json(covered: Coverage) -> dict[str, object]:
    branches = [
        {
            **asdict(branch),
            "words": branch.words,
            "reached_by": covered.reached.get(branch, ()),
        }
        for branch in covered.branches
    ]
    return {"recipe": covered.recipe, "percent": covered.percent, "branches": branches}


def _sweep(
    listed: Sequence[tuple[Job, Rehearsal]], results: Sequence[Rehearsed], jobs: int, shown: _Shown
) -> dict[str, Swept]:
    """Stop each rehearsal that arrives at its effects; tell which are left out."""
    from widetrail.testing.sweep import sweep_job

    chosen = [
        (job, rehearsal)
        for (job, rehearsal), result in zip(listed, results, strict=True)
        if rehearsal.arrives and result.passed
    ]
    left = len(listed) - len(chosen)
    shown.title("Stopped at their effects")
    found = {}
    with workers(min(jobs, max(1, len(chosen)))) as each:
        for (_, rehearsal), swept in zip(
            chosen, each(sweep_job, [job for job, _ in chosen]), strict=True
        ):
            shown.swept(swept)
            found[rehearsal.name] = swept
    if left:
        what = "is to be stopped or refused, or failed: it is" if left == 1 else "are: they are"
        shown.line(f"{show_count(left, 'rehearsal')} {what} not stopped at effects")
    return found


def _mutate(
    recipes: Sequence[Loaded],
    listed: Sequence[tuple[Job, Rehearsal]],
    results: Sequence[Rehearsed],
    jobs: int,
    shown: _Shown,
) -> tuple[list[Judged], int]:
    """Judge the mutants of each recipe; return them, and how many reasons nobody needs."""
    found: list[Judged] = []
    unused = 0
    for loaded in recipes:
        shown.title(f"Mutations of {loaded.id}")
        explained = load_unproved(Path(loaded.file))
        runs = [
            (job, rehearsal, result)
            for (job, rehearsal), result in zip(listed, results, strict=True)
        ]
        with _progress(f"mutations of {loaded.id}") as tick:
            mine = judge_mutants(loaded, runs, jobs, explained, tick)
        shown.mutants(mine)
        for one in unneeded(explained, mine):
            unused += 1
            shown.line(f"{one.at}: {one.mutation}: needs no reason ({one.why})", "yellow", 4)
        found.extend(mine)
    return found, unused


@contextmanager
def _progress(what: str) -> Iterator[Callable[[int, int], None]]:
    """Show how far a long work is, where that is seen."""
    if not sys.stderr.isatty():
        yield lambda done, total: None
        return
    from rich.console import Console
    from rich.progress import Progress

    with Progress(console=Console(stderr=True), transient=True) as progress:
        task = progress.add_task(what, total=None)
        yield lambda done, total: progress.update(task, completed=done, total=total)


class _Shown:
    """What people see, unless JSON was asked for."""

    def __init__(self, *, as_json: bool) -> None:
        self._page = None if as_json else Page()

    def title(self, text: str) -> None:
        if self._page is not None:
            self._page.title(text)

    def line(self, text: str, style: str = "", indent: int = 0) -> None:
        if self._page is not None:
            self._page.line(text, style, indent)

    def result(self, result: Rehearsed) -> None:
        verdict = "passed" if result.passed else "failed"
        style = "" if result.passed else "red"
        told = result.short if result.case else f"{result.short}: {result.title}"
        self.line(f"{verdict}  {result.seconds:5.1f} s  {told}", style)
        for difference in result.differences:
            where = f" ({difference.where})" if difference.where else ""
            self.line(f"{difference.what}{where}", indent=4)
            for word, text in (("expected", difference.expected), ("found", difference.found)):
                first, *more = text.splitlines() or [""]
                self.line(f"{word + ':':9} {first}", indent=6)
                for line in more:
                    self.line(line, indent=16)
        if not result.passed and self._page is not None:
            rows = side_by_side(result)
            if rows:
                self._page.table(["", "old, before", "new, after"], rows[:SHOWN])
        if result.kept:
            self.line(f"its machines are kept in {result.kept}", indent=4)

    def findings(self, results: Sequence[Rehearsed], findings: Sequence[Finding]) -> None:
        passed = sum(result.passed for result in results)
        if results:
            self.line(f"{passed} of {show_count(len(results), 'rehearsal')} passed", "bold")
        for finding in findings:
            self.line(str(finding), "yellow")

    def changed(self, ran: Rehearsals) -> None:
        """Tell why rehearsals were run again, and how many were not."""
        for name, why in ran.why.items():
            told = " and ".join(_WHY[one] for one in why)
            others = [one for one in why if one not in ("never", "failed")]
            self.line(f"{Path(name).name}: {told}{' changed since it passed' if others else ''}")
        if ran.unchanged:
            count = show_count(len(ran.unchanged), "rehearsal")
            self.line(f"{count} not run again: passed, and nothing changed since", "green")

    def swept(self, swept: Swept) -> None:
        self.line(
            f"{swept.stops} of {swept.possible:,} stops, {show_count(swept.faults, 'fault')}: "
            f"{show_count(len(swept.troubles), 'trouble')}: {swept.rehearsal}",
            "" if swept.passed else "red",
        )
        for trouble in swept.troubles:
            self.line(trouble.stop, indent=4)
            self.line(trouble.what, indent=6)

    def coverage(self, covered: Sequence[Coverage]) -> None:
        self.title("What the rehearsals reached")
        for one in covered:
            reached = len(one.wanted) - len(one.missing)
            apart = _apart({"cannot be reached": one.ruled_out, "explained": one.explained})
            style = "green" if not one.missing else "bold"
            self.line(
                f"{one.recipe}: {reached} of {len(one.wanted)} branches"
                f" ({one.percent:.0f} %){apart}",
                style,
            )
            for branch in one.missing:
                self.line(f"{Path(one.file).name}:{branch.line}: {branch.words}", "red", indent=4)
                self.line(one.lines[branch.line - 1].strip(), "dim", indent=8)
            for finding in one.findings:
                self.line(str(finding), "yellow", indent=4)

    def mutants(self, judged: Sequence[Judged]) -> None:
        killed = sum(one.killed_by != "" for one in judged)
        apart = _apart(
            {
                "covered by no rehearsal": sum(one.unreached for one in judged),
                "explained": sum(one.explained != "" for one in judged),
            }
        )
        survived = [one for one in judged if one.survived]
        self.line(
            f"{killed} of {len(judged)} mutations detected{apart}",
            "green" if not survived else "bold",
        )
        for one in survived:
            for number, text in enumerate(show_mutant(one)):
                self.line(text, "" if number else "red", indent=8 if number else 4)


def _apart(counts: Mapping[str, int]) -> str:
    told = ", ".join(f"{count} {what}" for what, count in counts.items() if count)
    return f"; {told}" if told else ""
