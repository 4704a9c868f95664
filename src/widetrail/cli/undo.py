"""``widetrail undo``: gives back on a machine what was there before a move."""

from __future__ import annotations

import sys
from pathlib import Path

import click

from widetrail.cli.output import Page, consent, json_option, now, print_json, station_options
from widetrail.cli.terminal_person import make_company
from widetrail.errors import WentWrong
from widetrail.library.endings import open_run
from widetrail.library.machines import open_machine
from widetrail.machine import Effects
from widetrail.steps.commands import show_command
from widetrail.walking import UndoPlan


@click.command("undo")
@click.argument("run", default="")
@station_options("what is listed")
@click.option(
    "--take-back",
    multiple=True,
    metavar="STEP",
    help="Undo this step too, of which it is not known whether it was done.",
)
@click.option("--no-wait", is_flag=True, help="Exit with 3 instead of waiting.")
@json_option
def command(
    run: str,
    machine: Path | None,
    account: str,
    yes: bool,
    take_back: tuple[str, ...],
    no_wait: bool,
    as_json: bool,
) -> None:
    """Undo what RUN did on a machine, from the machine's own journal; no parcel is needed.

    RUN is the name of a move's folder on the machine; it may be left out where there is only one.
    What it will do is shown first, and what it cannot undo. What is in a place now is moved
    away and kept until the run is settled.
    """
    messages = Page(to_errors=True)
    here = open_machine(machine, account, Effects())
    found = open_run(here, run, make_company(messages, None, waits=not no_wait))
    taken = set(take_back)
    if not found.undone:
        taken |= _asked(messages, found.undo_plan(taken), yes=yes)
        _show(messages, here.name, found.undo_plan(taken))
        consent(yes, "Do this now?")
    plan = found.undo(now(), taken)
    if as_json:
        acts = [act.words for act in plan.acts if act.words]
        print_json(
            {"run": found.name, "machine": here.name, "acts": acts, "cannot": list(plan.cannot)}
        )
    else:
        page = Page()
        page.line()
        page.line(f"Run {found.name} is undone on {here.name}.", "bold")
        if plan.acts:
            page.line(f"What was moved away is kept in {found.workroom} until you settle the run.")
    if found.went_wrong:
        raise WentWrong("not everything could be undone", why="; ".join(found.went_wrong))


def _asked(page: Page, plan: UndoPlan, *, yes: bool) -> set[str]:
    """Ask about each step of which nobody knows whether it was done; return those that were."""
    if yes or not sys.stdin.isatty():
        return set()
    taken = set()
    for doubt in plan.doubts:
        page.line(f"It is not known whether this was done: {doubt.words}", "yellow")
        back = show_command(doubt.command)
        if click.confirm(f"Was it done by this move? This undoes it: {back}", err=True):
            taken.add(doubt.step)
    return taken


def _show(page: Page, machine: str, plan: UndoPlan) -> None:
    page.title(f"Undoing on {machine} will")
    for words in (act.words for act in plan.acts if act.words):
        page.line(f"- {words}", indent=2)
    if not any(act.words for act in plan.acts):
        page.line("change nothing, since nothing was changed there", indent=2)
    if plan.cannot:
        page.title("It cannot undo")
    for words in plan.cannot:
        page.line(f"- {words}", indent=2)
