"""``widetrail settle``: the person accepts a move, and what was kept of before it goes."""

from __future__ import annotations

from pathlib import Path

import click

from widetrail.cli.output import Page, consent, json_option, print_json, station_options
from widetrail.formats.quantities import show_size
from widetrail.library.endings import ParcelSettling, Settling, settle, settle_parcel
from widetrail.library.machines import open_machine
from widetrail.machine import Effects
from widetrail.planning.embedded_paths import some_of


@click.command("settle")
@click.argument("run", default="")
@click.option(
    "--parcel",
    type=click.Path(path_type=Path),
    help="Delete the cargo of this parcel instead; its plan and logbook stay.",
)
@station_options("what is listed")
@json_option
def command(
    run: str, parcel: Path | None, machine: Path | None, account: str, yes: bool, as_json: bool
) -> None:
    """Accept what RUN did on a machine: the backups and the journal of that run are deleted.

    RUN is the name of a move's folder on the machine; it may be left out where there is only one.
    After this nothing can be undone. A run that is not complete is refused.
    """
    if parcel is not None:
        _settle_parcel(parcel, yes, as_json)
        return
    done = settle(open_machine(machine, account, Effects()), run, lambda due: _may(due, yes))
    if as_json:
        folders = [{"folder": folder, "size": size} for folder, size in done.folders]
        print_json({"run": done.run, "machine": done.machine, "removed": folders})
    elif done.was_cut_off:
        Page().line(f"All is settled on {done.machine}: the end of an earlier settling was left.")
    else:
        Page().line(f"Run {done.run} is settled on {done.machine}.", "bold")


SHOWN = 6
"""Paths that are listed at a time, at most."""


def _may(due: Settling, yes: bool) -> bool:
    """Show what settling deletes, and return whether it may."""
    messages = Page(to_errors=True)
    messages.title(f"Settling on {due.machine} deletes, for good")
    for folder, size in due.folders:
        messages.line(f"- {folder} ({show_size(size)})", indent=2)
    for what, paths in (
        ("what was there when it was undone", due.names),
        ("changed there after the walk", due.changed),
    ):
        if paths:
            messages.line(f"- {what}: {some_of(paths, SHOWN)}", "yellow", indent=2)
    for warning in due.warnings:
        messages.line(warning, "yellow", indent=2)
    consent(yes, "Do this now?")
    return True


def _may_of_parcel(due: ParcelSettling, yes: bool) -> bool:
    messages = Page(to_errors=True)
    messages.title("Settling the parcel deletes, for good")
    messages.line(f"- its cargo ({show_size(due.size)})", indent=2)
    for item in due.not_transferred:
        messages.line(f"{item.title} did not arrive: it is {item.state}", "red", indent=4)
    consent(yes, "Do this now?")
    return True


def _settle_parcel(folder: Path, yes: bool, as_json: bool) -> None:
    done = settle_parcel(folder, lambda due: _may_of_parcel(due, yes))
    if as_json:
        print_json({"parcel": str(folder), "run": done.run, "removed": done.size})
    else:
        Page().line(f"The parcel of run {done.run} is settled.", "bold")
