"""``widetrail survey``: what of the recipes' applications is on a machine."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import click

from widetrail.cli.output import (
    Page,
    json_option,
    load_recipes,
    machine_options,
    may_ask,
    open_machine,
    print_json,
)
from widetrail.finding import (
    Absent,
    Answer,
    ByPart,
    Found,
    Known,
    Nowhere,
    Several,
    Surveyed,
    SurveyedItem,
    Unknown,
    installation_facts,
    survey,
    where_facts,
)
from widetrail.formats.quantities import show_count, show_files, show_size
from widetrail.machine import Machine


@click.command("survey")
@click.argument("recipes", nargs=-1, required=True, type=click.Path(path_type=Path))
@machine_options
@click.option("--places", is_flag=True, help="Show every place of the recipes too.")
@json_option
def command(
    recipes: tuple[Path, ...], machine: Path | None, account: str, ask_programs: bool, yes: bool,
    places: bool, as_json: bool,
) -> None:  # fmt: skip
    """Tell which applications of RECIPES are on a machine, and what they keep where.

    Nothing is changed. Programs are started only with --ask-programs, and only to read what they
    print.
    """
    here, loaded = open_machine(machine, account), load_recipes(recipes)
    asked = ask_programs and may_ask(here, loaded, yes)
    found = survey(here, loaded, ask_programs=asked)
    if as_json:
        facts = {"machine": here.name, **here.facts(), "administrator": here.administrator}
        print_json({**facts, "applications": [_application(a) for a in found]})
        return
    page = Page()
    show_survey(page, here, found, places=places)


def show_survey(
    page: Page, machine: Machine, found: Sequence[Surveyed], *, places: bool = False
) -> None:
    """Show a survey on ``page``."""
    as_whom = ", as administrator" if machine.administrator else ""
    system = f"{machine.platform} {machine.system}"
    page.title(f"{machine.name} ({system}, account {machine.user}{as_whom})")
    for application in found:
        here = application.installation
        if here is None:
            page.line(f"{application.name}: not here", "dim", indent=2)
            continue
        release = here.release or "release unknown"
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
            for path, reason in where.passed_over if isinstance(where, Several) else ():
                page.line(f"passed over: {path}: {reason}", "dim", indent=4)


def _short(where: Found | Absent | Nowhere | Several) -> str:
    return f"{where.path} ({where.how})" if isinstance(where, Found) else str(where)


def _show_item(page: Page, item: SurveyedItem) -> None:
    instance = item.instance
    used = {True: " (in use)", False: "", None: ""}[instance.in_use if instance else None]
    page.line(f"{item.title}{f' – {instance.name}{used}' if instance else ''}", indent=4)
    where = item.where
    if isinstance(where, Found):
        synced = f"; kept in step by {where.synced}" if where.synced else ""
        page.line(f"{where.path} ({where.how}{synced})", indent=6)
        newest = f", newest change {_moment(item.tally.newest)}" if item.tally.newest else ""
        count = item.tally
        amount = show_count(count.values, "value") if count.values else show_files(count.files)
        counted = f"{amount}, {show_size(item.tally.size)}{newest}"
        page.line(item.trouble or counted, "yellow" if item.trouble else "", indent=6)
    else:
        page.line(str(where), "yellow", indent=6)
    for name, answer in item.checks:
        page.line(f"{name}: {answer}", "yellow" if isinstance(answer, Unknown) else "", indent=6)


def _moment(nanoseconds: int) -> str:
    return datetime.fromtimestamp(nanoseconds / 1e9, UTC).date().isoformat()


def _application(application: Surveyed) -> dict[str, Any]:
    here = application.installation
    return {
        "id": application.id,
        "name": application.name,
        "here": here is not None,
        "installation": installation_facts(here) if here is not None else None,
        "installations": [installation_facts(i) for i in application.installations],
        "places": {name: where_facts(where) for name, where in application.places},
        "items": [_item(item) for item in application.items],
    }


def _item(item: SurveyedItem) -> dict[str, Any]:
    return {
        "item": item.name,
        "title": item.title,
        "instance": item.instance.name if item.instance is not None else None,
        "in use": item.instance.in_use if item.instance is not None else None,
        "place": where_facts(item.where),
        "files": item.tally.files,
        "values": item.tally.values,
        "size": item.tally.size,
        "newest": _moment(item.tally.newest) if item.tally.newest else None,
        "trouble": item.trouble or None,
        "checks": {name: _answer(answer) for name, answer in item.checks},
    }


def _answer(answer: Answer) -> dict[str, Any]:
    match answer:
        case Known():
            return {"value": answer.value, "source": answer.source, "line": answer.line or None}
        case ByPart():
            return {"by": answer.part, "answers": {n: _answer(a) for n, a in answer.answers}}
        case Unknown():
            return {"unknown": answer.reason}
