"""``widetrail report --for-maintainer``: shown as a whole before it is written."""

from __future__ import annotations

from pathlib import Path

import click

from widetrail.cli.output import Page, consent
from widetrail.errors import InputUnusable
from widetrail.formats.texts import for_people
from widetrail.library.field_reports import field_report, write_field_report
from widetrail.library.machines import open_machine
from widetrail.machine import Effects
from widetrail.recipe import Station


def show_and_write(
    parcel: Path,
    to: Path,
    machine: Path | None,
    account: str,
    station: Station | None,
    *,
    yes: bool,
) -> None:
    """Show a field report of a parcel, and write it where a person agrees.

    Raises:
        Halted: Nobody agrees.
        InputUnusable: The file is there, or cannot be written.
    """
    if to.exists():
        raise InputUnusable("already exists", where=str(to), todo="Name another file.")
    report, names = field_report(parcel, open_machine(machine, account, Effects()), station)
    for line in report.text().splitlines():
        click.echo(for_people(line))
    messages = Page(to_errors=True)
    messages.title("This is all that is written")
    messages.line("No contents and no names of yours are in it. Read it all the same.", indent=2)
    consent(yes, f"Write it to {to}?", "Read what is shown above, then add --yes.")
    kept = write_field_report(report, names, to)
    page = Page(to_errors=True)
    page.line(f"Written: {to}. Send it to whoever looks after the recipes.", "bold")
    page.line(f"Which name became which is in {kept}, on this computer only.")
