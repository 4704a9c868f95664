"""``widetrail survey``: what of the recipes' applications is on a machine."""

from __future__ import annotations

import csv
import gc
import sys
import time
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path

import click
from rich.console import Console

from widetrail.cli.asking_programs import may_ask
from widetrail.cli.output import (
    Page,
    as_value,
    json_option,
    machine_options,
    print_json,
    show_error,
)
from widetrail.finding import (
    Found,
    Held,
    Several,
    Surveyed,
    SurveyedItem,
    Tally,
    Unknown,
    Where,
)
from widetrail.formats.quantities import show_count, show_files, show_size
from widetrail.formats.texts import for_people
from widetrail.lazily import dataclass
from widetrail.library.machines import open_machine
from widetrail.library.surveys import open_shelf, survey_machine
from widetrail.machine import Machine, own_cache
from widetrail.recipe.recipe_files import no_recipe
from widetrail.reporting.survey import day_of, survey_facts, survey_rows
from widetrail.survey import Group, Survey, Tick, near

SHOWN = 20
"""Places that no recipe covers which are shown, unless all are asked for."""

NAMED = 12
"""Names that are listed in one line, at most."""


@dataclass(frozen=True, kw_only=True)
class _Given:
    """What a call gives."""

    recipes: tuple[Path, ...]
    machine: Path | None
    account: str
    ask_programs: bool
    yes: bool
    places: bool
    covered: bool
    below: str
    newest: bool
    every: bool
    as_csv: bool
    as_json: bool


@click.command("survey")
@click.argument("recipes", nargs=-1, type=click.Path(path_type=Path))
@machine_options
@click.option("--places", is_flag=True, help="Show every place of the recipes too.")
@click.option("--covered", is_flag=True, help="Show only what recipes cover; scan no disk.")
@click.option("--below", default="", metavar="PATH", help="Scan only this folder of the machine.")
@click.option("--newest", is_flag=True, help="List the newest first of what no recipe covers.")
@click.option("--all", "every", is_flag=True, help=f"List all of it, not the first {SHOWN} places.")
@click.option("--csv", "as_csv", is_flag=True, help="Print rows for a spreadsheet instead of text.")
@json_option
@as_value(_Given)
def command(given: _Given) -> None:
    """Show which applications of RECIPES are on a machine, what they keep where, and what on its
    disks no recipe covers.

    RECIPES are files and folders; without any it is the folder you are in. Nothing is changed.
    Programs are started only with --ask-programs, and only to read what they print.
    """
    here = open_machine(given.machine, given.account)
    with _nothing_collected():
        kept = own_cache() if _any_folder(given.recipes) else None
        shelf = open_shelf(given.recipes or (Path(),), kept)
    if given.recipes and not shelf.recipes and not shelf.broken:
        raise no_recipe(given.recipes)
    asked = given.ask_programs and may_ask(here, near(here, shelf), given.yes)
    scan = not given.covered
    with _progress(shown=scan) as tick, _nothing_collected():
        found = survey_machine(
            shelf, here, ask_programs=asked, below=given.below, scan=scan, tick=tick
        )
    if given.newest:
        found = found.newest_first()
    names = {id: one.name for id, one in shelf.recipes.items()}
    if given.as_json:
        facts = {"machine": here.name, **here.facts(), "administrator": here.administrator}
        print_json({**facts, **survey_facts(found, names, walked=scan)})
    elif given.as_csv:
        _print_csv(found, names)
    else:
        page = Page()
        show_survey(page, here, found.here, places=given.places)
        _show_rest(page, found, names, SHOWN if not given.every else len(found.stock.groups))
    for error in shelf.broken:
        show_error(error, as_json=False)
    if shelf.broken:
        raise SystemExit(1)


def _any_folder(paths: Sequence[Path]) -> bool:
    return not paths or any(path.is_dir() for path in paths)


@contextmanager
def _nothing_collected() -> Iterator[None]:
    """Have Python not look for garbage: hundreds of thousands of values are made that all stay."""
    gc.disable()
    try:
        yield
    finally:
        gc.enable()


@contextmanager
def _progress(*, shown: bool) -> Iterator[Tick]:
    """Show how far a scan of disks is, on a terminal."""
    if not shown or not sys.stderr.isatty():
        yield lambda share, names: None
        return
    from rich.progress import BarColumn, Progress, TextColumn

    columns = (
        TextColumn("scanning the disks"),
        BarColumn(),
        TextColumn("{task.fields[seen]}"),
    )
    with Progress(*columns, console=Console(stderr=True), transient=True) as progress:
        task, last = progress.add_task("", total=1.0, seen=""), 0.0

        def tick(share: float, names: int) -> None:
            nonlocal last
            if time.monotonic() - last > 0.1:
                last = time.monotonic()
                progress.update(task, completed=share, seen=f"{names:,} names")

        yield tick


def show_survey(
    page: Page, machine: Machine, found: Sequence[Surveyed], *, places: bool = False
) -> None:
    """Show the applications of a survey on ``page``."""
    as_whom = ", as administrator" if machine.administrator else ""
    system = f"{machine.platform} {machine.system}"
    page.title(f"{machine.name} ({system}, account {machine.user}{as_whom})")
    _show_summary(page, found)
    for application in found:
        here = application.installation
        if here is None:
            page.line(f"{application.name}: not installed", "dim", indent=2)
            continue
        release = here.release or "version unknown"
        edition = f", {here.edition}" if here.edition else ""
        page.line(f"{application.name} {release}{edition}", "bold", indent=2)
        for other in application.installations:
            if other is not here:
                page.line(f"also here: {other.release or 'unknown'} ({other.sign})", indent=4)
        for reason in here.unknown:
            page.line(reason, "yellow", indent=4)
        for name, where in application.places if places else ():
            page.line(f"place {name}: {_short(where)}", "dim", indent=4)
        for item in application.items:
            _show_item(page, item)
        for _, where in application.places:
            for path, reason in where.rejected if isinstance(where, Several) else ():
                page.line(f"skipped: {path}: {reason}", "dim", indent=4)


def _show_summary(page: Page, found: Sequence[Surveyed]) -> None:
    """Show a line for each application that is here: how much there is of it, and how new."""
    rows = []
    for application in found:
        if (here := application.installation) is None:
            continue
        tallies = [item.tally for item in application.items]
        newest = max((tally.newest for tally in tallies if tally.newest), default=None)
        troubles = sum(
            bool(item.trouble) or not isinstance(item.where, Found | Held)
            for item in application.items
        )
        files, values = sum(t.files for t in tallies), sum(t.values for t in tallies)
        amount = ", ".join(
            [show_files(files)] * bool(files) + [show_count(values, "value")] * bool(values)
        )
        size = show_size(sum(t.size for t in tallies))
        note = f"{show_count(troubles, 'item')} not found" if troubles else ""
        release, count = str(here.release or "unknown"), str(len(application.items))
        day = day_of(newest) if newest else ""
        rows.append((application.name, release, count, amount, size, day, note))
    if rows:
        page.table(("application", "version", ">items", ">amount", ">size", "newest", ""), rows)


def _show_rest(page: Page, found: Survey, names: Mapping[str, str], most: int) -> None:
    """Show what is not of an application that is here."""
    if found.not_here:
        page.title("Not installed")
        for id in found.not_here[:NAMED]:
            why = "; ".join(found.missing.get(id, ()))
            page.line(f"- {names[id]}{why and f': {why}'}", indent=2)
        if len(found.not_here) > NAMED:
            page.line(f"and {len(found.not_here) - NAMED:,} more", indent=2)
    if found.remains:
        page.title("Not installed, but data remains")
        for one in found.remains:
            page.line(f"{one.name}, {one.item}: {one.path}: {_amount(one.tally)}", indent=2)
    stock = found.stock
    if stock.shared:
        page.title("Covered by several recipes")
        for shared in stock.shared:
            set_in = " and ".join(shared.claims)
            page.line(f"{set_in}: {_amount(shared.tally)}, as {shared.path}", "yellow", indent=2)
    if stock.groups:
        files = sum(group.tally.files for group in stock.groups)
        size = sum(group.tally.size for group in stock.groups)
        page.title(f"Not covered by any recipe: {show_files(files)}, {show_size(size)}")
        rows = [_row(group, names) for group in stock.groups[:most]]
        page.table((">size", ">files", "newest", "looks like", "where, and why"), rows)
        if len(stock.groups) > most:
            rest = stock.groups[most:]
            amount = _amount(
                Tally(sum(g.tally.files for g in rest), sum(g.tally.size for g in rest))
            )
            page.line(
                f"and {show_count(len(rest), 'more place')}: {amount}; --all lists them", indent=2
            )
    if stock.passed:
        told = [f"{path} ({why})" for path, why in stock.passed[:NAMED]]
        if more := len(stock.passed) - len(told):
            told.append(f"and {more:,} more")
        page.line()
        page.line(f"not scanned: {', '.join(told)}", "dim")


def _amount(tally: Tally) -> str:
    return f"{show_files(tally.files)}, {show_size(tally.size)}"


def _row(group: Group, names: Mapping[str, str]) -> tuple[str, ...]:
    tally, looks = group.tally, group.likeness
    where = group.path if group.whole else f"{group.path} (files right in it)"
    known = f"; known to {', '.join(names[id] for id in group.known)}" if group.known else ""
    told = f"{for_people(where)}\n{looks.why}{known}"
    return show_size(tally.size), f"{tally.files:,}", day_of(tally.newest), looks.kind, told


def _short(where: Where) -> str:
    return f"{where.path} ({where.how})" if isinstance(where, Found) else str(where)


def _show_item(page: Page, item: SurveyedItem) -> None:
    instance = item.instance
    used = {True: " (in use)", False: "", None: ""}[instance.in_use if instance else None]
    page.line(f"{item.title}{f' – {instance.name}{used}' if instance else ''}", indent=4)
    where = item.where
    if isinstance(where, Found):
        synced = f"; synchronised by {where.synced}" if where.synced else ""
        page.line(f"{where.path} ({where.how}{synced})", indent=6)
        newest = f", newest change {day_of(item.tally.newest)}" if item.tally.newest else ""
        count = item.tally
        amount = show_count(count.values, "value") if count.values else show_files(count.files)
        counted = f"{amount}, {show_size(item.tally.size)}{newest}"
        if item.left is not None and item.left.files:
            counted += f"; excluded by the recipe: {_amount(item.left)}"
        page.line(item.trouble or counted, "yellow" if item.trouble else "", indent=6)
    else:
        page.line(str(where), "" if isinstance(where, Held) else "yellow", indent=6)
    for name, answer in item.checks:
        page.line(f"{name}: {answer}", "yellow" if isinstance(answer, Unknown) else "", indent=6)


def _cell(value: object) -> object:
    """Return a value as a spreadsheet takes it: no control characters, and no formula."""
    if not isinstance(value, str):
        return value
    text = for_people(value)
    return f"'{text}" if text.lstrip()[:1] in ("=", "+", "-", "@") else text


def _print_csv(found: Survey, names: Mapping[str, str]) -> None:
    """Print a survey as CSV (RFC 4180): a row for each item, and each place not covered."""
    writer = csv.writer(sys.stdout, lineterminator="\r\n")
    writer.writerows([_cell(value) for value in row] for row in survey_rows(found, names))
