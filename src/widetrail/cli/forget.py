"""``widetrail forget``: all that the tool keeps on a computer, listed and removed."""

from __future__ import annotations

from pathlib import Path

import click

from widetrail.cli.output import Page, consent, json_option, print_json, station_options
from widetrail.formats.quantities import show_size
from widetrail.library.endings import Forgetting, forget
from widetrail.library.machines import open_machine
from widetrail.machine import Effects
from widetrail.walking import WHAT, Kept


@click.command("forget")
@click.option(
    "--needed-too",
    is_flag=True,
    help="Also what is needed still: moves that can be undone, seats that are on their way.",
)
@station_options("what is listed")
@json_option
def command(needed_too: bool, machine: Path | None, account: str, yes: bool, as_json: bool) -> None:
    """List all that Wide Trail keeps on a machine, and remove it for good.

    What is needed still stays: settle or undo those moves first, or add --needed-too. Parcels,
    cards, histories and pages lie where you put them, and are yours.
    """
    here = open_machine(machine, account, Effects())
    done = forget(here, lambda due: _may(due, yes), needed_too=needed_too)
    if as_json:
        told = {"removed": done.away, "stays": done.stays}
        rows = {name: [_row(one) for one in kept] for name, kept in told.items()}
        print_json({"machine": done.machine, **rows})
        return
    page = Page()
    if done.away:
        page.line(f"Nothing of that is left on {done.machine}.", "bold")
    elif not done.stays:
        page.line(f"Nothing is kept on {done.machine}.")
    if done.stays and not done.away:
        _show_stays(page, done)


def _may(due: Forgetting, yes: bool) -> bool:
    """Show what forgetting removes, and return whether it may."""
    messages = Page(to_errors=True)
    messages.title(f"Forgetting on {due.machine} removes, for good")
    for one in due.away:
        messages.line(f"- {WHAT[one.kind]}: {one.path} ({show_size(one.size)})", indent=2)
        if one.needed:
            messages.line(one.needed, "yellow", indent=4)
    _show_stays(messages, due)
    consent(yes, "Do this now?")
    return True


def _show_stays(page: Page, due: Forgetting) -> None:
    if due.stays:
        page.title(f"Kept on {due.machine}, since it is needed still")
    for one in due.stays:
        page.line(f"- {WHAT[one.kind]}: {one.path} ({show_size(one.size)})", indent=2)
        page.line(one.needed, "yellow", indent=4)


def _row(kept: Kept) -> dict[str, object]:
    return {"kind": kept.kind, "path": kept.path, "size": kept.size, "needed": kept.needed}
