"""``widetrail walk``: does the leg that is due on this machine."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from widetrail.cli.output import Page, consent, json_option, now, open_machine, print_json
from widetrail.cli.plan import show_plan
from widetrail.errors import Halted
from widetrail.machine import Effects
from widetrail.parcel import Parcel
from widetrail.steps import Failed
from widetrail.walking import LegDone, StepDone, Visit


@click.command("walk")
@click.argument("parcel", type=click.Path(path_type=Path))
@click.option(
    "--machine", type=click.Path(path_type=Path), help="A machine folder; else this machine."
)
@click.option("--account", default="", help="Whose account on this machine.")
@click.option(
    "--as", "as_station", type=click.Choice(["new"]),
    help="Which station this machine is, where the plan was made without having seen it.",
)  # fmt: skip
@click.option("--yes", is_flag=True, help="Consent to the plan that the parcel holds.")
@json_option
def command(
    parcel: Path, machine: Path | None, account: str, as_station: str | None, yes: bool,
    as_json: bool,
) -> None:  # fmt: skip
    """Do the leg of PARCEL that is due on a machine, and say where to carry it next.

    Every command and folder is shown first, and consent is asked for.
    """
    effects = Effects()
    here = open_machine(machine, account, effects)
    visit = Visit(Parcel(parcel, effects), here, as_new=as_station == "new")
    messages = Page(to_errors=True)
    if not visit.due_here:
        _tell(visit.after_done(), visit, as_json)
        return
    _same_plan(visit, messages)
    visit.look_ahead()
    show_leg(messages, visit)
    consent(yes, "Shall this be done?")
    done = visit.walk(now(), lambda _, words: messages.line(f"· {words}", "dim", indent=2))
    _tell(done, visit, as_json)
    if done.failed:
        click.get_current_context().exit(1)


def _same_plan(visit: Visit, page: Page) -> None:
    """Plan anew where the machine is no longer as it was planned, and show that plan.

    Raises:
        Halted: The parcel holds another plan now, which nobody has consented to yet.
    """
    moment = now()
    plan = visit.planned_anew(moment)
    if plan is None:
        return
    visit.parcel.check_cargo(begun=False)
    visit.parcel.renew(plan, moment)
    show_plan(page, plan)
    unseen = not visit.station.identity
    what = "was not seen when the plan was made" if unseen else "is no longer as it was planned"
    raise Halted(
        f"{visit.machine.name} {what}",
        why="the plan was made anew, and stands above",
        todo="Read it, then walk again.",
    )


def show_leg(page: Page, visit: Visit) -> None:
    """Show what the due leg will do, before it is done."""
    assert visit.due is not None
    page.title(f"Leg {visit.due.number} on {visit.machine.name} will")
    for _, words in visit.words():
        page.line(f"- {words}", indent=2)
    page.line(f"and keep its journal in {visit.workroom}", indent=2)


def _tell(done: LegDone, visit: Visit, as_json: bool) -> None:
    if as_json:
        print_json(
            {
                "leg": done.leg.number,
                "machine": done.machine,
                "again": done.again,
                "steps": [_step(s) for s in done.steps],
                "next": done.next_machine or None,
            }
        )
        return
    show_done(Page(), done, visit.parcel.folder)


def show_done(page: Page, done: LegDone, parcel: Path) -> None:
    """Show how a leg ended and what comes next."""
    if done.again:
        page.line(f"Leg {done.leg.number} was walked on {done.machine} before; nothing changed.")
    else:
        page.title(f"Leg {done.leg.number} on {done.machine} is done")
    for step in done.steps:
        _show_step(page, step)
    if done.next_machine:
        page.line(f"Next: carry the parcel to {done.next_machine} and walk there.", "bold")
    else:
        page.line(f"The trail is at its end. See: widetrail report {parcel}", "bold")


def _show_step(page: Page, step: StepDone) -> None:
    outcome = step.outcome
    if isinstance(outcome, Failed):
        page.line(f"failed: {step.words}: {outcome.reason}", "red", indent=2)
        page.line(outcome.todo, indent=4)
        return
    page.line(f"done: {step.words}", "green", indent=2)
    aside = outcome.facts.get("put aside")
    for path in aside if isinstance(aside, list) else []:
        page.line(f"what was there before is kept in {path}", indent=4)


def _step(step: StepDone) -> dict[str, Any]:
    outcome = step.outcome
    failed = isinstance(outcome, Failed)
    return {
        "id": step.step.id,
        "words": step.words,
        "done": not failed,
        "reason": outcome.reason if isinstance(outcome, Failed) else None,
        "facts": outcome.facts,
    }
