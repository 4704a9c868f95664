"""``widetrail settle``: the person accepts a move, and what was kept of before it goes."""

from __future__ import annotations

from pathlib import Path

import click

from widetrail.cli.output import (
    Page,
    consent,
    json_option,
    open_machine,
    print_json,
    station_options,
)
from widetrail.errors import Halted
from widetrail.formats.quantities import show_size
from widetrail.machine import Effects
from widetrail.walking import Run


@click.command("settle")
@click.argument("run", default="")
@station_options("what is listed")
@json_option
def command(run: str, machine: Path | None, account: str, yes: bool, as_json: bool) -> None:
    """Accept what RUN did on a machine: what was put aside, saved and journaled there is removed.

    RUN is the name of a move's folder on the machine; it may be left out where there is only one.
    After this nothing can be undone. A run that is not at its end is refused.
    """
    messages = Page(to_errors=True)
    here = open_machine(machine, account, Effects())
    found = Run(here, run)
    if found.unfinished:
        raise Halted(
            f"run {found.name} cannot be settled on {here.name}", why=found.unfinished,
            todo="Walk it to its end, or undo it, first.",
        )  # fmt: skip
    kept = found.kept()
    messages.title(f"Settling on {here.name} removes, for good")
    for folder, size in kept:
        messages.line(f"- {folder} ({show_size(size)})", indent=2)
    consent(yes, "Shall this be done?")
    found.settle()
    if as_json:
        folders = [{"folder": folder, "size": size} for folder, size in kept]
        print_json({"run": found.name, "machine": here.name, "removed": folders})
    else:
        Page().line(f"Run {found.name} is settled on {here.name}.", "bold")
