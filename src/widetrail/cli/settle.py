"""``widetrail settle``: the person accepts a move, and what was kept of before it goes."""

from __future__ import annotations

from pathlib import Path

import click

from widetrail.cli.output import Page, consent, json_option, now, print_json, station_options
from widetrail.formats.quantities import show_size
from widetrail.library.machines import open_machine
from widetrail.machine import Effects
from widetrail.parcel import Parcel
from widetrail.planning.embedded_paths import some_of
from widetrail.walking import Run, clear_settled, make_report


@click.command("settle")
@click.argument("run", default="")
@click.option(
    "--parcel",
    type=click.Path(path_type=Path),
    help="Remove the cargo of this parcel instead; plan and logbook stay.",
)
@station_options("what is listed")
@json_option
def command(
    run: str, parcel: Path | None, machine: Path | None, account: str, yes: bool, as_json: bool
) -> None:
    """Accept what RUN did on a machine: the backups and the journal of that run are deleted.

    RUN is the name of a move's folder on the machine; it may be left out where there is only one.
    After this nothing can be undone. A run that is not at its end is refused.
    """
    messages = Page(to_errors=True)
    if parcel is not None:
        _settle_parcel(messages, parcel, yes, as_json)
        return
    here = open_machine(machine, account, Effects())
    if clear_settled(here):
        if as_json:
            print_json({"run": run, "machine": here.name, "removed": []})
        else:
            Page().line(f"All is settled on {here.name}: a settling had been cut off at its end.")
        return
    found = Run(here, run)
    found.insist_finished()
    kept = found.kept()
    messages.title(f"Settling on {here.name} removes, for good")
    for folder, size in kept:
        messages.line(f"- {folder} ({show_size(size)})", indent=2)
    away = found.put_away()
    for what, paths in (
        ("what stood there when it was undone", away.names),
        ("of it, changed after the walk", away.changed),
    ):
        if paths:
            messages.line(f"- {what}: {some_of(paths, SHOWN)}", "yellow", indent=2)
    for warning in found.warnings():
        messages.line(warning, "yellow", indent=2)
    consent(yes, "Shall this be done?")
    found.settle()
    if as_json:
        folders = [{"folder": folder, "size": size} for folder, size in kept]
        print_json({"run": found.name, "machine": here.name, "removed": folders})
    else:
        Page().line(f"Run {found.name} is settled on {here.name}.", "bold")


SHOWN = 6
"""Paths that are listed at a time, at most."""


def _settle_parcel(messages: Page, folder: Path, yes: bool, as_json: bool) -> None:
    parcel = Parcel(folder, Effects())
    report, size = make_report(parcel), parcel.cargo_size()
    messages.title("Settling the parcel removes, for good")
    messages.line(f"- its cargo ({show_size(size)})", indent=2)
    for item in report.items:
        if item.state != "carried":
            messages.line(f"{item.title} did not arrive: it is {item.state}", "red", indent=4)
    consent(yes, "Shall this be done?")
    parcel.settle(now())
    if as_json:
        print_json({"parcel": str(folder), "run": parcel.run, "removed": size})
    else:
        Page().line(f"The parcel of run {parcel.run} is settled.", "bold")
