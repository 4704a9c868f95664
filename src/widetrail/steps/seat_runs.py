"""The recipe's own commands within an act on a seat: run once, or again exactly as it was begun."""

from __future__ import annotations

from collections.abc import Callable, Collection
from typing import NamedTuple, Protocol, TypeVar

from widetrail.licence.exchange import ANSWER, REQUEST
from widetrail.licence.seat import finished
from widetrail.licence.seat_events import Answered, Broken, Refused, Requested, Shown
from widetrail.licence.terms import AT
from widetrail.recipe.templates import plain
from widetrail.steps.commands import ANSWER_MADE, REQUEST_MADE
from widetrail.steps.contexts import Programs
from widetrail.steps.journal_events import ToBeDoneAgain
from widetrail.steps.maker_answer import (
    MEANWHILE,
    ForSeat,
    by_maker,
    closed_already,
    done_with,
    purpose_of,
    walk_again,
)
from widetrail.steps.outcomes import Done, Failed, Outcome
from widetrail.steps.run_events import RunBegun, RunStarted, status_of, was_run
from widetrail.steps.step import Step


class Has(ForSeat, Programs, Protocol):
    """What the recipe's commands of an act take."""


S = TypeVar("S", bound=Step)


class Statuses(NamedTuple):
    """The exit statuses of a command that mean well, and those that mean it was refused."""

    wanted: Collection[int]
    refused: Collection[int]


def run_for_seat(step: Step, statuses: Statuses, doing: Has, run: Callable[[], Outcome]) -> Outcome:
    """Run a command that is part of an act on a seat, once, or again exactly as it was.

    ``run`` runs it.
    """
    seats = doing.seats
    if (closed := closed_already(step, doing)) is not None:
        return closed
    ran = was_run(step.id, doing)
    if ran and (outcome := _resolved(step, statuses, doing)) is not None:
        return outcome
    if not ran and _was_left(step, statuses, doing):
        seats.happens(step.item, Broken())
    doubted = seats.now(step.item).in_doubt
    if doubted and not ran and step.repeat != "safe" and not _was_asked(step, doing):
        return by_maker(step, doing, "whether it was done before is not known")
    fetches = step.writes == (ANSWER_MADE,)
    if _takes_answer(step) and (wrong := seats.wrong_answer(step.item)):
        return Failed(wrong, _fetch(step, doing))
    if ran and fetches and step.repeat == "safe":
        doing.record(ToBeDoneAgain(step=step.id))
    outcome = run()
    if isinstance(outcome, Done) and fetches and (wrong := seats.wrong_answer(step.item)):
        seats.happens(step.item, Broken())
        doing.record(ToBeDoneAgain(step=step.id))
        todo = f"To have the answer fetched once more, {walk_again(doing)}."
        return Failed(wrong, todo, outcome.facts)
    if isinstance(outcome, Done):
        made(step, doing)
        return outcome
    assert isinstance(outcome, Failed)
    return _failed(step, statuses, doing, outcome, doubted=doubted)


def _failed(
    step: Step, statuses: Statuses, doing: Has, outcome: Failed, *, doubted: bool
) -> Outcome:
    """Have it happen that a command of an act failed; return what comes of it.

    ``doubted`` tells that it was in doubt before it was run.
    """
    purpose, seats = purpose_of(step), doing.seats
    if status_of(step.id, doing) in statuses.refused:
        seats.happens(step.item, Refused())
        if seats.now(step.item).act is None:
            seats.have_again(step.item, purpose)
            words = f"it was refused, and nothing changed: {outcome.reason}"
            return Failed(words, _refused(step, doing), outcome.facts)
        return by_maker(step, doing, f"it was refused when asked for again: {outcome.reason}")
    if not was_run(step.id, doing):  # it could not be started
        act = seats.now(step.item).act
        if act is None or act.phase != "intent" or _was_asked(step, doing):
            return Failed(outcome.reason, f"{outcome.todo} {MEANWHILE[purpose]}", outcome.facts)
        seats.happens(step.item, Refused())
        seats.have_again(step.item, purpose)
        words = f"it could not be started, and nothing changed: {outcome.reason}"
        return Failed(words, _refused(step, doing), outcome.facts)
    seats.happens(step.item, Broken())
    if doubted or step.repeat != "safe":
        return by_maker(step, doing, outcome.reason)
    again = "it is asked exactly as before"
    if _takes_answer(step):
        fetch = seats.command("fetch", step.item)
        again = f"the same answer is registered (to have it fetched once more first: {fetch})"
    todo = f"To go on, {walk_again(doing)}: {again}. {MEANWHILE[purpose]}"
    return Failed(outcome.reason, todo, outcome.facts)


def _was_left(step: Step, statuses: Statuses, doing: Has) -> bool:
    """Return whether the same command was begun here by an earlier plan of this move, and how that
    ended is not known."""
    number = step.id.rsplit("/", 2)[1:]
    begun = {r.step for r in doing.records(RunBegun)} - {step.id}
    others = [
        one for one in begun if one.startswith(f"{step.item}/") and one.rsplit("/", 2)[1:] == number
    ]
    return any(
        was_run(one, doing) and status_of(one, doing) not in statuses.wanted for one in others
    )


def _takes_answer(step: Step) -> bool:
    """Return whether a command is given the maker's answer, and does not fetch it itself."""
    takes = any(ANSWER_MADE in word for command in step.commands.values() for word in command)
    return takes and step.writes != (ANSWER_MADE,)


def _was_asked(step: Step, doing: Has) -> bool:
    """Return whether a step of the same act was run here in this move."""
    begun = doing.records(RunBegun)
    mine = step.id.rsplit("/", 2)[0]  # below it a step has its number and its kind
    return any(r.step.startswith(f"{mine}/") and r.step != step.id for r in begun)


def _fetch(step: Step, doing: Has) -> str:
    return (
        f"Put the right file in its place and {walk_again(doing)}. To have it fetched once more: "
        f"{doing.seats.command('fetch', step.item)}, then walk on the machine between "
        f"(--as between). {MEANWHILE[purpose_of(step)]}"
    )


def _refused(step: Step, doing: Has) -> str:
    purpose, seats = purpose_of(step), doing.seats
    letter = seats.command("letter", step.item)
    ways = [f"Fix the cause above, then {walk_again(doing)}; {letter} writes to the maker."]
    if purpose == "claim":
        ways.append(f"To have it back on {doing.other()}: {seats.command('return', step.item)}.")
        ways.append("Until then neither computer has the licence.")
    if purpose == "release":
        keep = f"To leave it where it is: {seats.command('give-up', step.item)}."
        ways.append(f"{keep} Until then it stays on {doing.machine.name}.")
    return " ".join(ways)


def _resolved(step: Step, statuses: Statuses, doing: Has) -> Outcome | None:
    """Return the outcome of a command that was cut off or failed before; ``None``: do it again.

    Raises:
        Waiting: It may not be repeated, and nothing tells how it ended.
    """
    purpose, seats = purpose_of(step), doing.seats
    status = status_of(step.id, doing)
    if status in statuses.wanted:
        return None  # what it made or said is looked at again by the run itself
    if status is None:
        started = doing.recorded(RunStarted, step.id)
        assert started is not None
        doing.await_ended(started.pid, started.started)
    if not seats.now(step.item).in_doubt:
        seats.happens(step.item, Broken())
    if step.station == AT[purpose]:
        word, says = seats.word(step.item)
        if finished(purpose, word):
            seats.happens(step.item, Shown(word))
            return done_with(step, doing, says)
    if step.repeat == "safe":
        return None
    return by_maker(step, doing, "the recipe does not say that it may be asked for again")


def made(step: Step, doing: Has) -> None:
    """Have it happen that a step made the request or the answer of the open act."""
    if step.writes == (REQUEST_MADE,):
        doing.seats.happens(step.item, Requested())
    elif step.writes == (ANSWER_MADE,):
        doing.seats.happens(step.item, Answered())


def named(step: S) -> S:
    """Return a step as people are shown it: with the names of its request and answer put in."""
    if step.seat is None or not step.seat.stem:
        return step
    stem = plain(step.seat.stem)
    known = {"request": f"{stem}{REQUEST}", "answer": f"{stem}{ANSWER}"}
    return step.refilled(known.get, made=True)
