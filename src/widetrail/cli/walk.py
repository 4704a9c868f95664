"""``widetrail walk``: does the leg that is due on this machine."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import asdict
from pathlib import Path

import click

from widetrail.cli.asking_programs import may_ask
from widetrail.cli.grown import MORE, consent_to_grown, show_grown
from widetrail.cli.leg_page import show_steps
from widetrail.cli.output import (
    Page,
    as_value,
    consent,
    json_option,
    now,
    print_json,
    station_options,
)
from widetrail.cli.plan_page import show_plan
from widetrail.cli.report import show_tasks
from widetrail.cli.signing import show_signed_move
from widetrail.cli.signing_options import keyring_option, older_option
from widetrail.cli.terminal_person import make_company, watched
from widetrail.errors import Halted, WentWrong
from widetrail.formats.quantities import show_count, show_files
from widetrail.lazily import dataclass
from widetrail.library.accepted_recipes import grown, remember_used
from widetrail.library.machines import open_machine
from widetrail.library.moves import Due, open_visit, planned_again, what_is_due
from widetrail.library.signed_moves import verify_signatures
from widetrail.library.signing import accept
from widetrail.machine import Effects
from widetrail.machine.accounts import hand_over
from widetrail.machine.sensitive import WHY
from widetrail.recipe import Station
from widetrail.reporting.move_page import show_answer
from widetrail.steps import Failed, Noted, Waits, state_of
from widetrail.walking import (
    Apart,
    CheckLine,
    ItemReport,
    LegDone,
    Report,
    StepDone,
    Visit,
    can_top_up,
    make_report,
    not_topped_up,
    steps_to_top_up,
)
from widetrail.walking import top_up as do_top_up


@dataclass(frozen=True, kw_only=True)
class _Given:
    """What a call gives."""

    parcel: Path
    machine: Path | None
    account: str
    as_station: Station | None
    yes: bool
    answers: Path | None
    allow: tuple[str, ...]
    no_wait: bool
    top_up: bool
    keyring: Path | None
    older: bool
    details: bool
    as_json: bool


@click.command("walk")
@click.argument("parcel", type=click.Path(path_type=Path))
@station_options("the plan that the parcel holds")
@click.option(
    "--as",
    "as_station",
    type=click.Choice(["new", "between"]),
    help="Which computer of the move this is, if the plan was made without having seen it.",
)
@click.option(
    "--answers",
    type=click.Path(path_type=Path),
    help="A file with what a person answers and does, by name.",
)
@click.option(
    "--allow",
    type=click.Choice([*WHY, MORE]),
    multiple=True,
    help="Consent without being asked to what is asked for separately: a place that programs start"
    " from, one that says who may use the account, one outside the account's own folders, a recipe"
    " that may do more than when it was used on this computer last.",
)
@click.option("--no-wait", is_flag=True, help="Exit with 3 instead of waiting.")
@click.option(
    "--top-up", is_flag=True, help="On the old computer: pack what changed since its leg."
)
@keyring_option
@older_option
@click.option("--details", is_flag=True, help="Show every step in order, not by its effect.")
@json_option
@as_value(_Given)
def command(given: _Given) -> None:
    """Do what is due of PARCEL on a machine, and say where to take it next.

    Every command and folder is shown first, and consent is asked for. What is asked for and what a
    person does comes from the terminal, or from the file given with --answers.
    """
    effects, messages = Effects(), Page(to_errors=True)
    if given.machine is None:
        hand_over(given.parcel, given.account)
    here = open_machine(given.machine, given.account, effects)
    company = make_company(messages, given.answers, waits=not given.no_wait)
    visit = open_visit(given.parcel, here, company, given.as_station, effects)
    if visit.asks_programs:
        may_ask(here, visit.recipes, given.yes)
    signed = verify_signatures(visit, given.keyring, older=given.older)
    if given.top_up:
        done = _top_up(visit, messages, yes=given.yes)
    elif not visit.due_here:
        done = visit.after_done(now())
    else:
        _same_plan(visit, messages)
        due = what_is_due(visit, [why for why in WHY if why in given.allow])
        more = grown(visit.recipes)
        _show_due(messages, due, details=given.details)
        show_signed_move(messages, signed)
        show_grown(messages, more)
        _show_apart(messages, due.apart)
        consent(given.yes, "Do this now?")
        consent_to_grown(more, given.allow)
        _consent_apart(due.apart)
        remember_used(visit.recipes)
        if signed.accepted is not None:
            accept(signed.accepted)
        with watched(company):
            done = visit.walk(now())
    report = make_report(visit.parcel)
    _tell(done, report, visit, given.as_json)
    if status := status_of(done, report):
        click.get_current_context().exit(status)


def _show_apart(page: Page, asked: Sequence[Apart]) -> None:
    """Show what needs a consent of its own, which ``--yes`` does not give."""
    if asked:
        page.title("This needs separate consent")
    for one in asked:
        page.line(f"- {one.words}", "yellow", indent=2)


def _consent_apart(asked: Sequence[Apart]) -> None:
    """Ask for that consent.

    Raises:
        Halted: Nobody can be asked, or consent was not given.
    """
    if asked:
        options = " ".join(f"--allow {why}" for why in dict.fromkeys(one.why for one in asked))
        todo = f"Read what is listed separately above, then add {options}."
        consent(False, "Do what is listed separately too?", todo)


def _top_up(visit: Visit, page: Page, *, yes: bool) -> LegDone:
    if can_top_up(visit):
        page.title(f"Topping up on {visit.machine.name} will do this")
        for words in visit.words_of(steps_to_top_up(visit), now()):
            page.line(f"- {words}", indent=2)
        for title in not_topped_up(visit):
            page.line(
                f"- Leave {title} as it was packed: its route cannot be taken again", indent=2
            )
        consent(yes, "Do this now?")
    return do_top_up(visit, now())


def status_of(done: LegDone, report: Report) -> int:
    """Return the exit status of a walk: 3 where something waits, 1 where something came wrong,
    here or at a station before."""
    if done.waits:
        return Halted.status
    return WentWrong.status if done.failed or done.troubles or not report.well else 0


def _same_plan(visit: Visit, page: Page) -> None:
    """Plan anew where the machine is no longer as it was planned, and show that plan.

    Raises:
        Halted: The parcel holds another plan now, which nobody has consented to yet.
    """
    plan = planned_again(visit)
    if plan is None:
        return
    show_plan(page, plan)
    unseen = not visit.station.identity
    what = "was not seen when the plan was made" if unseen else "is no longer as planned"
    raise Halted(
        f"{visit.machine.name} {what}",
        why="the plan was made again and is shown above",
        todo="Read it, then walk again.",
    )


def _show_due(page: Page, due: Due, *, details: bool) -> None:
    """Show what will be done here, before it is done."""
    page.title(f"{due.title}: what will be done")
    show_steps(page, due.steps, details=details)
    if due.damaged:
        names = ", ".join(due.damaged)
        page.line(
            f"Missing or damaged in the parcel, and written again: {names}", "yellow", indent=2
        )
    page.line(f"Backups and the journal are kept in {due.workroom}", indent=2)


def _tell(done: LegDone, report: Report, visit: Visit, as_json: bool) -> None:
    if not as_json:
        page = Page()
        show_done(page, done, report, visit.parcel.folder)
        if done.again and can_top_up(visit):
            page.line("What changed here since its leg is packed by: walk … --top-up", indent=2)
        return
    print_json(
        {
            "leg": done.leg.number,
            "machine": done.machine,
            "again": done.again,
            "steps": [_step(s) for s in done.steps],
            "troubles": list(done.troubles),
            "proved": list(done.proved),
            "topped_up": {
                item: dict(zip(("added", "changed", "left_out"), counts, strict=True))
                for item, counts in done.topped_up.items()
            },
            "tasks": [asdict(task) for task in report.tasks],
            "next": done.next_machine or None,
        }
    )


def show_done(page: Page, done: LegDone, report: Report, parcel: Path) -> None:
    """Show how a walk ended: what is done, what is left to do, where to go next."""
    if done.again and done.proved:
        page.line(f"Leg {done.leg.number} was walked on {done.machine} before.")
    elif done.again:
        page.line(f"Leg {done.leg.number} was walked on {done.machine} before; nothing changed.")
    elif done.topped_up:
        page.title(f"The parcel is topped up on {done.machine}")
    else:
        page.title(f"Leg {done.leg.number} on {done.machine} {_end(done)}")
    walked = {step.step.item for step in done.steps}
    for item in report.items:
        if item.id in done.topped_up:
            page.line(f"{item.title}: {_changes(done.topped_up[item.id])}", "green", indent=2)
        elif item.id in walked:
            _show_item(page, item, {s.step.id: s for s in done.steps})
    for trouble in done.troubles:
        page.line(f"failed at the end: {trouble}", "red", indent=2)
    for proved in done.proved:
        page.line(f"known to be done: {proved}", "green", indent=2)
    if done.waits:
        page.line(f"Next: walk here again when what it waits for is there ({parcel}).", "bold")
    elif done.next_machine and done.next_station == done.leg.station:
        words = "Next: fix the causes above, then walk here again"
        page.line(f"{words} ({parcel}).", "bold")
    elif done.next_machine == done.machine:
        words = "Next: walk it on this machine as the other account (--account)"
        page.line(f"{words} ({parcel}).", "bold")
    elif done.next_machine:
        command = f"widetrail walk {parcel}{done.next_as}"
        words = f"Next: take the parcel to {done.next_machine} and walk there"
        page.line(f"{words} ({command}).", "bold")
    else:
        if report.tasks:
            show_tasks(page, report)
        end = "Move complete" if report.is_complete else "The last leg was walked"
        page.line(f"{end}. {report.headline}", "bold")
        page.line(f"Details: widetrail report {parcel}")


def _end(done: LegDone) -> str:
    """Return how a leg ended, which says no more than its steps do."""
    if done.waits:
        return "waits"
    if not done.steps:
        return "has nothing to do yet, since it depends on a step that failed"
    if len(done.failed) == len(done.steps):
        return "failed"
    return (
        f"is done, except for {show_count(len(done.failed), 'step')}" if done.failed else "is done"
    )


def _changes(counts: tuple[int, int, int]) -> str:
    words = ("added", "changed", "deleted there and left out")
    told = [f"{count} {word}" for count, word in zip(counts, words, strict=True) if count]
    return ", ".join(told) or "nothing changed"


def _show_item(page: Page, item: ItemReport, walked: Mapping[str, StepDone]) -> None:
    """Show how an item stands now, and what of it was walked badly."""
    styles = {"carried": "green", "failed": "red", "waiting": "yellow"}
    verified = f", {show_files(item.verified)} verified" if item.verified else ""
    if item.values:
        verified = f", {show_count(item.values, 'value')}"
    if item.rewritten:
        verified += f", {show_count(item.rewritten, 'path')} rewritten"
    words = (
        f"{item.title} – {item.seat}" if item.seat else f"{item.outcome}: {item.title}{verified}"
    )
    page.line(words, styles.get(item.state, ""), indent=2)
    if item.checks:
        page.line(", ".join(map(_check_words, item.checks)), indent=4)
    for line in item.steps:
        if line.id in walked:
            page.line(f"{line.state}: {walked[line.id].words}", styles["failed"], indent=4)
            page.line(line.reason, indent=6)
            page.line(line.todo, indent=6)
    for path in item.backed_up:
        page.line(f"backup of what existed there: {path}", indent=4)


def _check_words(check: CheckLine) -> str:
    """Return a check in a few words: the value where it holds, else both."""
    new, name = _few(check.new), check.name.replace("_", " ")
    if check.is_empty:
        return f"{name}: none on either computer"
    if check.verdict == "holds":
        return f"{name} {new}"
    return f"{name} {check.verdict} (old computer: {_few(check.old)}, new computer: {new})"


def _few(answer: Noted | None) -> str:
    if answer is not None and isinstance(answer.value, tuple):
        return f"({show_count(len(answer.value), 'entry')})"
    return show_answer(answer)


def _step(step: StepDone) -> dict[str, object]:
    outcome = step.outcome
    return {
        "id": step.step.id,
        "words": step.words,
        "state": state_of(outcome),
        "done": outcome.well,
        "reason": outcome.reason if isinstance(outcome, Failed | Waits) else None,
        "todo": outcome.todo if isinstance(outcome, Failed | Waits) else None,
        "facts": outcome.facts.plain(),
    }
