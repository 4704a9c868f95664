"""``widetrail trace watch``: a person led through the use of a program of this machine."""

from __future__ import annotations

import json
import sys
from pathlib import Path

import click

from widetrail.cli.output import Page, consent
from widetrail.cli.trace_view import insist_on, show_trace
from widetrail.errors import Halted, InputUnusable
from widetrail.formats.quantities import show_count
from widetrail.library.machines import open_machine
from widetrail.tracing.live_watch import LiveWatch

PATH = click.Path(path_type=Path)
STARTS = 2
"""How often the program is only started, before something is changed in it."""


@click.command("watch")
@click.argument("program")
@click.option("--to", "record", type=PATH, required=True, help="The new file for what is found.")
@click.option(
    "--folder",
    "folders",
    multiple=True,
    metavar="PATH",
    help="Watch this folder too; the account's home is always watched.",
)
@click.option("--account", default="", help="The account on this machine.")
def watch(program: str, record: Path, folders: tuple[str, ...], account: str) -> None:
    """Lead a person through the use of PROGRAM of this machine, and note what changes.

    PROGRAM is the name of its file. Nothing is started or changed; of files that change meanwhile
    names, sizes and digests are noted, and where a marker is found.
    """
    if not sys.stdin.isatty():
        todo = "Call it at a terminal, or trace a folder machine: widetrail trace run."
        raise Halted("a person is needed", why="standard input is not a terminal", todo=todo)
    insist_on("scipy")
    if record.exists():
        raise InputUnusable("already exists", where=str(record), todo="Name another file.")
    page, machine = Page(), open_machine(None, account)
    home = machine.root("home")
    page.line(f"What changes in {', '.join((home, *folders))} is noted while you use {program}.")
    page.line("Names, sizes, digests and values of files that change are written; no contents.")
    consent(yes=False, question=f"May this account be watched while you use {program}?")
    _wait(f"Close {program}, if it is open. Then press Enter")
    watching = LiveWatch(machine, program, folders)
    page.line(f"{show_count(watching.names, 'name')} watched")
    _wait("Do nothing for some seconds. Then press Enter")
    watching.end("idle", "nothing")
    for number in range(STARTS):
        _wait(f"Start {program} and close it again ({number + 1} of {STARTS}). Then press Enter")
        _until_closed(watching, program)
        watching.end("start", "started, and closed again")
    while True:
        page.line("")
        page.line(f"Start {program}, change exactly one thing, and close it.")
        did = click.prompt("What did you do? (empty: that was all)", default="", show_default=False)
        if not did:
            break
        _until_closed(watching, program)
        marker = click.prompt(
            "What did you type or choose? (empty: nothing)", default="", show_default=False
        )
        secret = bool(marker) and click.confirm("Is that a secret?", default=False)
        run = watching.end("act", did, marker, secret=secret)
        changed = [touch for touch in run.touched if set(touch.ways) - {"read"}]
        found = [touch for touch in changed if touch.marker]
        page.line(f"{show_count(len(changed), 'file')} changed")
        for touch in found:
            page.line(f"found in {touch.path}: {touch.marker}", indent=2)
    trace = watching.trace(f"{program} on {machine.name}")
    with record.open("x", encoding="utf-8") as file:
        json.dump(trace.as_json(), file, indent=1)
    show_trace(trace, machine, every=False)
    page.line(f"Written to {record}.")


def _wait(words: str) -> None:
    click.prompt(words, default="", show_default=False, prompt_suffix=". ")


def _until_closed(watching: LiveWatch, program: str) -> None:
    while watching.running:
        _wait(f"{program} still runs. Close it, then press Enter")
