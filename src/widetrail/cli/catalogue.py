"""``widetrail catalogue``: many recipes checked as a whole, and what their history tells."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path

import click

from widetrail.catalogue.statistics import Statistics
from widetrail.cli.output import Page, json_option, print_json
from widetrail.findings import errors_of
from widetrail.formats.quantities import show_count
from widetrail.library.catalogues import (
    check_catalogue,
    history_statistics,
    merge_histories,
    quarantine_flaky,
)
from widetrail.machine import own_cache
from widetrail.rehearsing.history import QUARANTINE, Quarantine, Whose

PATH = click.Path(path_type=Path)
ROWS = 10
"""Lines of each list that are shown."""


@click.group("catalogue", no_args_is_help=True)
def command() -> None:
    """Check many recipes as a whole, and read what the history of their rehearsals tells."""


@command.command("check")
@click.argument("folder", type=PATH, default=".")
@click.option("--history", type=PATH, help="The history of its rehearsals; else the catalogue's.")
@json_option
def check(folder: Path, history: Path | None, as_json: bool) -> None:
    """Check the catalogue in FOLDER: double ids, overlaps, owners, proofs and reasons.

    Nothing is rehearsed. What cannot be read is told, and the rest is checked all the same. The
    exit status is 1 where something is wrong; warnings alone are not.
    """
    checked = check_catalogue(folder, history=history, cache=own_cache())
    if as_json:
        print_json(
            {
                "recipes": checked.recipes,
                "rehearsals": checked.rehearsals,
                "broken": [error.as_json() for error in checked.broken],
                "findings": [finding.as_json() for finding in checked.findings],
            }
        )
    else:
        page = Page()
        for error in checked.broken:
            page.line(str(error), "red")
            for finding in getattr(error, "findings", ()):
                page.line(str(finding), indent=4)
        for finding in checked.findings:
            style = "red" if finding.severity == "error" else ""
            page.line(f"{finding} [{finding.rule}]", style)
        errors = len(errors_of(checked.findings))
        told = [show_count(errors, "error")]
        told.append(show_count(len(checked.findings) - errors, "warning"))
        if checked.broken:
            told.append(f"{show_count(len(checked.broken), 'file')} cannot be used")
        read = show_count(checked.recipes, "recipe")
        page.line(f"{read}, {show_count(checked.rehearsals, 'rehearsal')}: {', '.join(told)}")
    if not checked.is_well:
        click.get_current_context().exit(1)


@command.command("merge")
@click.argument("history", type=PATH)
@click.argument("others", type=PATH, nargs=-1, required=True)
def merge(history: Path, others: tuple[Path, ...]) -> None:
    """Take what OTHERS (histories) hold into HISTORY; what it has already is not taken again."""
    count = merge_histories(history, others)
    Page().line(f"{show_count(count, 'run')} added")


@command.command("statistics")
@click.argument("history", type=PATH)
@click.option(
    "--quarantine", is_flag=True, help="Have the failing of flaky rehearsals not count for a while."
)
@click.option("--days", type=click.IntRange(1), default=QUARANTINE, help="How many days that is.")
@click.option(
    "--page", type=click.Path(path_type=Path, dir_okay=False), help="Also write an HTML page."
)
@json_option
def statistics(
    history: Path, quarantine: bool, days: int, page: Path | None, as_json: bool
) -> None:
    """Show what HISTORY tells: flaky and slow rehearsals, weak recipes, and week by week."""
    put = quarantine_flaky(history, days) if quarantine else []
    told = history_statistics(history)
    if page is not None:
        from widetrail.cli.trace_view import insist_on
        from widetrail.reporting.statistics_page import render_statistics

        insist_on("matplotlib")
        page.write_text(render_statistics(told), encoding="utf-8")
    if as_json:
        print_json(asdict(told))
        return
    _show(told)
    for one in put:
        Page().line(f"Put in quarantine until {one.until}: {_named(one.whose)}", "yellow")


def _show(told: Statistics) -> None:
    page = Page()
    page.line(show_count(told.runs, "run"), "bold")
    if told.flaky:
        page.title("Flaky: passed and failed with the same inputs")
        rows = [
            [
                _named(one.whose),
                f"{one.failed} of {one.runs}",
                f"{one.low:.0%} to {one.high:.0%}",
                one.last[:10],
            ]
            for one in told.flaky[:ROWS]
        ]
        page.table(["rehearsal", "failed", "true share", "last run"], rows)
    for one in told.quarantined:
        page.line(_quarantine(one), "yellow")
    page.title("Slowest")
    rows = [
        [_named(one.whose), f"{one.seconds:.1f} s", f"{one.before:.1f} s", str(one.runs)]
        for one in told.slow[:ROWS]
    ]
    page.table(["rehearsal", "now", "before", "runs"], rows)
    if told.weak:
        page.title("Weakest")
        rows = [
            [one.recipe, _percent(one.coverage), _percent(one.detected)] for one in told.weak[:ROWS]
        ]
        page.table(["recipe", "branches reached", "mutations detected"], rows)
    page.title("Week by week")
    rows = [
        [
            week.monday,
            str(week.runs),
            str(week.failed),
            f"{week.median:.1f} s",
            _percent(week.coverage),
        ]
        for week in told.weeks[-ROWS:]
    ]
    page.table(["week of", "runs", "failed", "median", "branches reached"], rows)


def _named(whose: Whose) -> str:
    _, rehearsal, case = whose
    return f"{rehearsal}[{case}]" if case else rehearsal


def _percent(value: float | None) -> str:
    return "" if value is None else f"{value:.0f} %"


def _quarantine(one: Quarantine) -> str:
    return f"In quarantine until {one.until}: {_named(one.whose)} ({one.why})"
