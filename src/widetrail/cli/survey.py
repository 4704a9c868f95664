"""``widetrail survey``: what of the recipes' applications is on a machine."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import click

from widetrail.cli.output import Page, json_option, load_recipes, print_json
from widetrail.finding import (
    Absent,
    Found,
    Known,
    Surveyed,
    SurveyedItem,
    Unknown,
    Where,
    survey,
)
from widetrail.formats.quantities import show_size
from widetrail.machine import FolderMachine, Machine


@click.command("survey")
@click.argument("recipes", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option("--machine", required=True, type=click.Path(path_type=Path), help="A machine folder.")
@json_option
def command(recipes: tuple[Path, ...], machine: Path, as_json: bool) -> None:
    """Tell which applications of RECIPES are on a machine, and what they keep where.

    Nothing is changed and no program is started.
    """
    here = FolderMachine(machine)
    found = survey(here, load_recipes(recipes))
    if as_json:
        print_json({"machine": here.name, "applications": [_application(a) for a in found]})
        return
    page = Page()
    show_survey(page, here, found)


def show_survey(page: Page, machine: Machine, found: Sequence[Surveyed]) -> None:
    """Show a survey on ``page``."""
    page.title(f"{machine.name} ({machine.platform} {machine.system}, account {machine.user})")
    for application in found:
        if application.installation is None:
            page.line(f"{application.name}: not here", "dim", indent=2)
            continue
        release = application.installation.release or "release unknown"
        page.line(f"{application.name} {release}", "bold", indent=2)
        for item in application.items:
            _show_item(page, item)


def _show_item(page: Page, item: SurveyedItem) -> None:
    page.line(f"{item.title}", indent=4)
    where = item.where
    if isinstance(where, Found):
        page.line(f"{where.path} ({where.how})", indent=6)
        newest = f", newest change {_moment(item.tally.newest)}" if item.tally.newest else ""
        size = show_size(item.tally.size)
        page.line(item.trouble or f"{item.tally.files} files, {size}{newest}", indent=6)
    else:
        page.line(str(where), "yellow", indent=6)
    for name, answer in item.checks:
        style = "yellow" if isinstance(answer, Unknown) else ""
        page.line(f"{name}: {answer}", style, indent=6)


def _moment(nanoseconds: int) -> str:
    return datetime.fromtimestamp(nanoseconds / 1e9, UTC).date().isoformat()


def _application(application: Surveyed) -> dict[str, Any]:
    here = application.installation
    return {
        "id": application.id,
        "name": application.name,
        "here": here is not None,
        "release": str(here.release) if here is not None and here.release else None,
        "sign": here.sign if here is not None else None,
        "items": [_item(item) for item in application.items],
    }


def _item(item: SurveyedItem) -> dict[str, Any]:
    return {
        "item": item.name,
        "title": item.title,
        "place": _where(item.where),
        "files": item.tally.files,
        "size": item.tally.size,
        "newest": _moment(item.tally.newest) if item.tally.newest else None,
        "trouble": item.trouble,
        "checks": {
            name: {"value": answer.value}
            if isinstance(answer, Known)
            else {"unknown": answer.reason}
            for name, answer in item.checks
        },
    }


def _where(where: Where) -> dict[str, Any]:
    if isinstance(where, Found | Absent):
        how = where.how
        return {
            "path": where.path,
            "there": isinstance(where, Found),
            "rule": how.rule,
            "case": how.case,
            "source": how.source,
            "line": how.line,
        }
    return {"path": None, "there": False, "reason": where.reason}
