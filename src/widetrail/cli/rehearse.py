"""``widetrail rehearse``: recipes tried out on copies of machines."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import asdict, replace
from pathlib import Path
from typing import TYPE_CHECKING

import click

from widetrail.cli.output import as_value, json_option, print_json
from widetrail.cli.rehearse_progress import JsonLines, Progress, progress_of_mutants
from widetrail.cli.rehearse_shown import Shown
from widetrail.lazily import dataclass
from widetrail.library.rehearsals import Rehearsals, rehearse
from widetrail.machine import own_cache
from widetrail.rehearsing import Rehearsed
from widetrail.rehearsing.coverage import Coverage, load_unproved
from widetrail.rehearsing.mutants import Judged, unneeded
from widetrail.rehearsing.noting import Known
from widetrail.workers import Crew

if TYPE_CHECKING:
    from widetrail.testing import Swept


@dataclass(frozen=True, kw_only=True)
class _Given:
    """What a call gives."""

    paths: tuple[Path, ...]
    machines: Path | None
    jobs: int
    on: str | None
    keep: Path | None
    from_field: Path | None
    stops: bool
    coverage: bool
    page: Path | None
    fail_under: float | None
    mutate: bool
    junit: Path | None
    history: Path | None
    changed: bool
    resume: bool
    json_lines: bool
    as_json: bool


@click.command("rehearse")
@click.argument("paths", nargs=-1, type=click.Path(path_type=Path))
@click.option(
    "--machines",
    type=click.Path(path_type=Path),
    help="The folder that holds the machines; else one called machines beside or above.",
)
@click.option(
    "--jobs", type=click.IntRange(1), default=1, help="The number of rehearsals that run at a time."
)
@click.option(
    "--on",
    metavar="SCHEDULER",
    help="Run on the workers of a scheduler of Dask, such as tcp://127.0.0.1:8786.",
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
    help="Add each result, as it comes, to a history (a file of SQLite).",
)
@click.option(
    "--changed",
    is_flag=True,
    help="Run only what did not pass, by the history, with the same recipes, rehearsal, machines, "
    "programs and version.",
)
@click.option(
    "--from",
    "from_field",
    type=click.Path(path_type=Path),
    help="Rehearse what a field report tells (report --for-maintainer), in the folder of --keep; a "
    "rehearsal that is named too lends its machines.",
)
@click.option("--resume", is_flag=True, help="Go on with what was cut off last, by the history.")
@click.option(
    "--json-lines",
    is_flag=True,
    help="Print a line of JSON for each result as it comes, and one at the end.",
)
@json_option
@as_value(_Given)
def command(given: _Given) -> None:
    """Run the rehearsals that PATHS name: files, folders with all below them, or recipes with
    those beside them.

    Machines are copied first and never changed. The programs that the rehearsals and their
    recipes name are started. Ends with 1 where something came out otherwise than expected.
    """
    if given.from_field is not None:
        from widetrail.cli.rehearse_field import rehearse_field

        if len(given.paths) > 1:
            raise click.UsageError("One rehearsal can lend its machines to --from.")
        like = given.paths[0] if given.paths else None
        if not rehearse_field(given.from_field, like, given.keep, as_json=given.as_json):
            click.get_current_context().exit(1)
        return
    if not given.paths:
        raise click.UsageError("Name rehearsals, or recipes with rehearsals beside them.")
    if (given.changed or given.resume) and given.history is None:
        raise click.UsageError("--changed and --resume need --history.")
    if given.keep is not None and given.on is not None:
        raise click.UsageError("--keep is for this computer: not with --on.")
    if given.as_json and given.json_lines:
        raise click.UsageError("--json and --json-lines exclude each other.")
    with _crew_of(given) as crew:
        well = _rehearse(given, crew)
    if not well:
        click.get_current_context().exit(1)


@contextmanager
def _crew_of(given: _Given) -> Iterator[Crew]:
    if given.on is None:
        yield Crew(given.jobs)
        return
    from widetrail.catalogue.cluster import on_scheduler

    with on_scheduler(given.on) as crew:
        yield crew


def _rehearse(given: _Given, crew: Crew) -> bool:
    """Run and show what a call wants; return whether all is well."""
    many = any(path.is_dir() for path in given.paths)
    lines = JsonLines() if given.json_lines else None
    shown = Shown(as_json=given.as_json or given.json_lines)
    with Progress(crew, shown.terminal) as progress:
        ran = rehearse(
            given.paths,
            machines=given.machines,
            jobs=crew,
            keep=given.keep,
            history=Known(
                given.history, given.changed, given.resume, own_cache() if many else None
            ),
            shown=shown.result,
            watch=lines or progress,
        )
    shown.whole(ran)
    told, well = _more(given, ran, crew, shown)
    if given.junit is not None:
        from widetrail.reporting.junit import render_junit

        given.junit.write_bytes(render_junit(ran.results))
    if given.changed:
        told["why"] = ran.why
        told["unchanged"] = {one.tried.name: one.standing.ended for one in ran.unchanged}
    if lines is not None:
        lines.end(ran, told)
    elif given.as_json:
        print_json({"rehearsals": [as_json(result) for result in ran.results], **told})
    return well and ran.passed


def _more(
    given: _Given, ran: Rehearsals, crew: Crew, shown: Shown
) -> tuple[dict[str, object], bool]:
    """Do and show what is wanted beyond the rehearsals; return it, and whether it is well."""
    told: dict[str, object] = {"findings": [f.as_json() for f in ran.findings]}
    if ran.broken:
        told["broken"] = [error.as_json() for error in ran.broken]
    well = True
    if given.stops:
        swept = _sweep(ran, crew, shown)
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
        judged, unused = _mutate(ran, crew, shown)
        well = well and not unused and not any(one.survived for one in judged)
        told["mutants"] = [one.as_json() for one in judged]
    return told, well


def as_json(result: Rehearsed) -> dict[str, object]:
    """Return a result as plain JSON values."""
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


def _sweep(ran: Rehearsals, crew: Crew, shown: Shown) -> dict[str, Swept]:
    """Stop each rehearsal that arrives at its effects; tell which are left out."""
    shown.title("Stopped at their effects")
    swept = ran.stops(crew=crew, shown=shown.swept)
    shown.left_out(len(ran.listed) - len(swept))
    return swept


def _mutate(ran: Rehearsals, crew: Crew, shown: Shown) -> tuple[list[Judged], int]:
    """Judge the mutants of each recipe; return them, and how many reasons nobody needs."""
    found: list[Judged] = []
    unused = 0
    for loaded in ran.recipes:
        shown.title(f"Mutations of {loaded.id}")
        with progress_of_mutants(loaded.id) as tick:
            mine = ran.mutants(loaded, crew=crew, tick=tick)
        shown.mutants(mine)
        for one in unneeded(load_unproved(Path(loaded.file)), mine):
            unused += 1
            shown.unneeded(one)
        found.extend(mine)
    return found, unused
