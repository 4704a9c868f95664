"""``widetrail report``: what became of a move."""

from __future__ import annotations

from pathlib import Path

import click

from widetrail.cli.output import Page, json_option, print_json, station_options
from widetrail.errors import not_written
from widetrail.formats.quantities import show_count, show_size, show_time
from widetrail.library.moves import report as report_of
from widetrail.recipe import Station
from widetrail.reporting.move_page import render_page, show_answer
from widetrail.walking import ItemReport, Report


@click.command("report")
@click.argument("parcel", type=click.Path(path_type=Path))
@click.option("--page", type=click.Path(path_type=Path), help="Also write it as an HTML page.")
@click.option(
    "--for-maintainer",
    type=click.Path(path_type=Path),
    help="Show and write instead what whoever looks after the recipes needs, with other names.",
)
@station_options("writing what is shown")
@click.option(
    "--as",
    "as_station",
    type=click.Choice(["old", "new", "between"]),
    help="With --for-maintainer: which computer of the move this is.",
)
@json_option
def command(
    parcel: Path,
    page: Path | None,
    for_maintainer: Path | None,
    machine: Path | None,
    account: str,
    as_station: Station | None,
    yes: bool,
    as_json: bool,
) -> None:
    """Show what the move of PARCEL has done: items, checks, what was not transferred, and what is
    left to do.

    The exit status is 1 if a step failed.

    With --for-maintainer FILE all that tells how it went is shown, and written if you agree: plan,
    logbook, journal, outcomes, sizes. No contents and no secrets are in it, and each name of
    yours is another one; which, is kept on this computer only.
    """
    if for_maintainer is not None:
        from widetrail.cli.report_to_maintainer import show_and_write

        show_and_write(parcel, for_maintainer, machine, account, as_station, yes=yes)
        return
    report = report_of(parcel)
    if page is not None:
        write_page(report, page)
    if as_json:
        print_json(report.as_json())
    else:
        shown = Page()
        show_report(shown, report)
        if page is not None:
            shown.line(f"Page: {page}")
    if not report.well:
        click.get_current_context().exit(1)


def write_page(report: Report, path: Path) -> None:
    """Write the report as a page to ``path``, replacing an earlier one.

    Raises:
        InputUnusable: The system refuses.
    """
    try:
        path.write_text(render_page(report), encoding="utf-8")
    except OSError as error:
        raise not_written(path, error) from error


def show_report(page: Page, report: Report) -> None:
    """Show a report on ``page``."""
    page.title(f"Move from {report.old} to {report.new}: {', '.join(report.programs)}")
    page.line(report.headline, "green" if report.well else "red", indent=2)
    for leg in report.legs:
        when = show_time(leg.time) if leg.time else "not walked yet"
        page.line(f"leg {leg.number} on {leg.machine}: {when}", indent=2)
        for line in leg.words:
            page.line(line, "dim", indent=4)
    for item in report.items:
        _show_item(page, report, item)
    for left in report.left:
        page.title(f"{left.title}: {'nothing to transfer' if left.there else 'not transferred'}")
        for reason in left.reasons:
            page.line(reason, indent=2)
    if report.notices:
        page.title("Notes")
        for notice in report.notices:
            page.line(f"- {notice}", "yellow", indent=2)
    show_tasks(page, report)


def show_tasks(page: Page, report: Report) -> None:
    """Show what is left to do, program by program, each with a box."""
    page.title("Left for you to do")
    for program, tasks in report.tasks_by_program:
        page.line(program or "the move", "bold", indent=2)
        for task in tasks:
            box, style = ("[x]", "green") if task.is_done else ("[ ]", "")
            page.line(f"{box} {task.words}", style, indent=4)
    if not report.tasks_by_program:
        page.line("nothing", indent=2)


def _show_item(page: Page, report: Report, item: ItemReport) -> None:
    page.title(f"{item.title}: {item.outcome}")
    if item.old_path:
        page.line(f"{item.old_path} -> {item.new_path}", indent=2)
    verified = f", {item.verified} verified on {report.new}" if item.verified else ""
    size = "" if item.seat else f", {show_size(item.size)}"
    page.line(f"{item.amount}{size}{verified}", indent=2)
    if item.rewritten:
        page.line(f"{show_count(item.rewritten, 'path')} rewritten", indent=2)
    for path in item.backed_up:
        page.line(f"backup of what existed there: {path}", indent=2)
    for path in item.beside:
        page.line(f"copied beside what existed there, as {path}", indent=2)
    for path in item.passed_by:
        page.line(f"skipped (still in the parcel), since it existed there: {path}", indent=2)
    for note in item.notes:
        page.line(note, indent=2)
    for step in item.steps:
        page.line(f"{step.state}: {step.reason}", "red", indent=2)
    if item.checks:
        rows = [[c.name, show_answer(c.old), show_answer(c.new), c.words] for c in item.checks]
        page.table(["check", report.old, report.new, ""], rows)
    for loss in item.losses:
        if loss.proof != "seen":
            page.line(f"not transferred: {loss.what} (see below)", "yellow", indent=2)
