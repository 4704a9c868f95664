"""``seat``: what is done with the seat of a licence around the commands that the recipe names.

A licence's steps are commands and persons of the recipe between steps of this kind: ``note`` keeps
the serial, ``ready`` looks whether all is there to move it, ``begin`` and ``end`` enclose an act.
Whether any of it may be is decided by ``licence.seat`` alone; here it is only carried out.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Literal

from widetrail.errors import Halted, Waiting
from widetrail.licence.exchange import ANSWER, REQUEST
from widetrail.licence.seat import (
    AT,
    BEGINS,
    ENDS,
    Adopted,
    Answered,
    Begin,
    Broken,
    Gone,
    Holder,
    Noted,
    Purpose,
    Refused,
    Renounced,
    Requested,
    Shown,
    Told,
    Verified,
    finished,
    words_of,
)
from widetrail.recipe.templates import plain, refill
from widetrail.steps.commands import ANSWER_MADE, COMMAND, REQUEST_MADE, RunRule
from widetrail.steps.interface import Asked, Doing, Done, Facts, Failed, Outcome, Step
from widetrail.steps.running import OF_SEAT, run_step, status_of, was_run

_MAKER = "Ask the maker (widetrail seat letter writes the text), then walk again and answer."


class SeatStep:
    """The steps of the plan that are about a seat."""

    def words(self, step: Step) -> str:
        return step.text("words")

    def do(self, step: Step, doing: Doing) -> Outcome:
        return _ACTS[step.text("act")](step, doing)


def _note(step: Step, doing: Doing) -> Outcome:
    """Keep the serial, and take note of how far an earlier move of the seat had come."""
    item, seats = step.item, doing.seats
    serial = seats.find_serial(item)
    if serial is None:
        raise Halted(
            f"the serial of {_name(step, doing)} is not known on {doing.machine.name}",
            why="what the recipe reads it from does not tell it",
            todo="Look it up in the program or on its invoice, then ask the maker to move it.",
        )  # fmt: skip
    doing.secret(step, "serial", serial)
    word, says = seats.word(item)
    adopted, partner = seats.earlier(item)
    if adopted is not None and word != "active":
        if partner != doing.other():
            if not _maker_says_free(step, doing, partner):
                raise Waiting(
                    f"the seat was released for {partner} in an earlier move",
                    why=f"whether {partner} holds it is not known here",
                    todo="Ask the maker whether a machine holds it, then walk again and answer.",
                )  # fmt: skip
            adopted = Adopted("released")
        seats.happens(item, adopted)
    seats.keep_serial(item, serial)
    seats.happens(item, Noted())
    return Done(
        {"serial": f"kept, ends in {serial[-2:]}" if len(serial) > 8 else "kept"} | says_fact(says)
    )


def says_fact(says: str) -> Facts:
    """Return a program's own words on its licence as a fact."""
    return {"says": says}


def _maker_says_free(step: Step, doing: Doing, partner: str) -> bool:
    words = f"Does the maker say that no machine holds the seat, {partner} neither?"
    asked = _asked(step, doing, "seat_free", words)
    return doing.ask(asked) == "yes"


def _asked(
    step: Step, doing: Doing, name: str, words: str, choices: tuple[str, ...] = ("yes", "no")
) -> Asked:
    recipe = doing.finder(step.item).loaded.id
    return Asked(recipe, name, words, step.item, choices=choices)


def _name(step: Step, doing: Doing) -> str:
    return doing.application(step.item).name


def _ready(step: Step, doing: Doing) -> Outcome:
    """Look whether all is there that the move of the seat needs."""
    seats, station = doing.seats, step.station
    if station == "old":  # the person takes the risk that what is packed does not arrive
        seats.make_cargo_durable()
        seats.happens(step.item, Verified())
        return Done({"ready": "what is packed was read back from the medium"})
    _insist_serial(step, doing)
    _, says = seats.word(step.item)
    seats.happens(step.item, Verified())
    return Done({"ready": "the program is here, and its serial came"} | says_fact(says))


def _insist_serial(step: Step, doing: Doing) -> None:
    """Raise where the serial is not in this parcel: nothing may be done with the seat then."""
    if not doing.seats.knows_serial(step.item):
        raise Halted(
            f"the serial of {_name(step, doing)} is not in this parcel",
            todo="Take the parcel that was on old last.",
        )  # fmt: skip


def _begin(step: Step, doing: Doing) -> Outcome:
    purpose, seats = purpose_of(step), doing.seats
    _insist_serial(step, doing)
    word, says = seats.word(step.item)
    seats.happens(step.item, Begin(purpose, word))
    return Done({"seat": words_of(seats.now(step.item)), **says_fact(says)})


def _end(step: Step, doing: Doing) -> Outcome:
    """See in the program that an act is done, or hear it from the maker."""
    item, purpose, seats = step.item, purpose_of(step), doing.seats
    if seats.now(item).act is None and seats.now(item).stage != BEGINS[purpose]:
        return Done({"seat": words_of(seats.now(item))})
    word, says = seats.word(item)
    seats.happens(item, Shown(word))
    if seats.now(item).act is None:
        return Done({"seat": words_of(seats.now(item)), **says_fact(says)})
    machine, name = doing.machine.name, _name(step, doing)
    verb = {"release": "released on", "claim": "claimed for", "return": "given back to"}[purpose]
    why = f"whether the seat of {name} is {verb} {machine} is not known: {name} says {says}"
    return _by_maker(step, doing, why)


HOLDERS: Mapping[str, Holder] = {"old": "old", "new": "new", "nobody": "nobody"}
"""What is answered to who holds a seat, as the maker says."""


def _renounce(step: Step, doing: Doing) -> Outcome:
    word, says = doing.seats.word(step.item)
    if word == "active":
        raise Halted(
            f"{_name(step, doing)} is licensed on {doing.machine.name}", why=f"it says: {says}",
            todo="Release it there yourself first, or leave it where it is.",
        )  # fmt: skip
    if word == "unknown":
        machine = doing.machine.name
        words = f"{says}. Does the maker say that {machine} does not hold the seat?"
        if doing.ask(_asked(step, doing, "new_is_free", words)) != "yes":
            raise Waiting(
                f"whether {machine} holds the seat is not known", why=says, todo=_MAKER
            )  # fmt: skip
    doing.seats.happens(step.item, Renounced("not"))
    return Done({"seat": words_of(doing.seats.now(step.item))})


def _gone(step: Step, doing: Doing) -> Outcome:
    """Hear from a person that the other machine is out, where nobody can go there."""
    words = (
        f"Do you answer for it that {doing.other()} does not hold the seat of {_name(step, doing)} "
        "and will never claim it?"
    )
    who: Literal["old", "new"] = "new" if step.station == "old" else "old"
    if doing.ask(_asked(step, doing, f"{who}_is_gone", words)) != "yes":
        raise Waiting(
            f"nobody answers for {doing.other()}", why="it is out of reach, so only a person can",
            todo="Answer yes once it is wiped or the maker has taken the seat from it.",
        )  # fmt: skip
    doing.seats.happens(step.item, Gone(who))
    return Done({"seat": words_of(doing.seats.now(step.item)), "by": "a person's word"})


_ACTS: Mapping[str, Callable[[Step, Doing], Outcome]] = {
    "note": _note,
    "ready": _ready,
    "begin": _begin,
    "end": _end,
    "renounce": _renounce,
    "gone": _gone,
}


def purpose_of(step: Step) -> Purpose:
    """Return the purpose of the act that a step belongs to."""
    purposes: Mapping[str, Purpose] = {"release": "release", "claim": "claim", "return": "return"}
    return purposes[step.text(OF_SEAT)]


# The recipe's own steps within an act


def run_for_seat(step: Step, doing: Doing) -> Outcome:
    """Run a command that is part of an act on a seat, once, or again exactly as it was."""
    purpose, seats = purpose_of(step), doing.seats
    closed = closed_already(step, doing)
    if closed is not None:
        return closed
    if was_run(step, doing) and (outcome := _resolved(step, doing)) is not None:
        return outcome
    takes = any(ANSWER_MADE in argument for argument in step.texts(COMMAND))
    if takes and step.writes != (ANSWER_MADE,) and (wrong := seats.wrong_answer(step.item)):
        return Failed(wrong, "Put the right file in its place, then walk again.", {})
    outcome = run_step(step, doing)
    if isinstance(outcome, Done):
        made(step, doing)
        return outcome
    rule = doing.rule(step)
    assert isinstance(rule, RunRule) and isinstance(outcome, Failed)
    if status_of(step, doing) in rule.refused:
        seats.happens(step.item, Refused())
        if seats.now(step.item).act is None:
            seats.have_again(step.item, purpose)
            todo = "Mend what the maker names, then walk again; or ask the maker."
            return Failed(f"it was refused, and nothing changed: {outcome.reason}", todo, {})
        return _by_maker(step, doing, "it was refused when it was asked for again")
    seats.happens(step.item, Broken())
    todo = "Walk again: it is asked exactly as before." if step.repeat == "safe" else _MAKER
    return Failed(outcome.reason, todo, outcome.facts)


def _resolved(step: Step, doing: Doing) -> Outcome | None:
    """Return the outcome of a command that was cut off or failed before; ``None``: do it again.

    Raises:
        Waiting: It may not be repeated, and nothing tells how it ended.
    """
    purpose, seats = purpose_of(step), doing.seats
    status = status_of(step, doing)
    rule = doing.rule(step)
    assert isinstance(rule, RunRule)
    if status in rule.exit:
        return None  # what it made or said is looked at again by the run itself
    if status is None:
        started = doing.recorded("run started", step.id)
        assert started is not None
        doing.await_ended(int(str(started["pid"])), float(str(started["started"])))
    if not seats.now(step.item).in_doubt:
        seats.happens(step.item, Broken())
    if step.station == AT[purpose]:
        word, says = seats.word(step.item)
        if finished(purpose, word):
            seats.happens(step.item, Shown(word))
            return Done({"resumed": f"the program says: {says}"})
    if step.repeat == "safe":
        return None
    return _by_maker(step, doing, "the recipe does not say that it may be asked for again")


def _by_maker(step: Step, doing: Doing, why: str) -> Outcome:
    """Return the outcome of an act as the maker says that it ended.

    Raises:
        Waiting: Nobody tells what the maker says.
    """
    purpose, seats = purpose_of(step), doing.seats
    words = (
        f"How the {purpose} of the seat of {_name(step, doing)} ended is not known. Who holds the "
        "seat, as its maker says?"
    )
    answer = doing.ask(_asked(step, doing, f"seat_{ENDS[purpose]}", words, tuple(HOLDERS)))
    if answer is None:
        raise Waiting(why, why=f"only the maker can say how the {purpose} ended", todo=_MAKER)
    seats.happens(step.item, Told(HOLDERS[answer], AT[purpose]))
    stage = words_of(seats.now(step.item))
    if seats.now(step.item).stage != BEGINS[purpose]:
        return Done({"seat": stage, "by": "the maker's word"})
    seats.have_again(step.item, purpose)
    todo = "Mend what the maker names, then walk again."
    return Failed(f"by the maker's word the {purpose} was not done: the seat is {stage}", todo, {})


def closed_already(step: Step, doing: Doing) -> Outcome | None:
    """Return the outcome of a step of an act that is closed, and ``None`` while it is open.

    Raises:
        Halted: The act was never begun, or closed without having been done.
    """
    seat, purpose = doing.seats.now(step.item), purpose_of(step)
    if seat.act is not None and seat.act.purpose == purpose:
        return None
    if seat.act is None and seat.stage != BEGINS[purpose]:
        return Done({"seat": f"nothing was to be done: {words_of(seat)}"})
    raise Halted(f"no {purpose} of the seat is open", why=words_of(seat), todo="Walk on old.")


def made(step: Step, doing: Doing) -> None:
    """Have it happen that a step made the request or the answer of the open act."""
    if step.writes == (REQUEST_MADE,):
        doing.seats.happens(step.item, Requested())
    elif step.writes == (ANSWER_MADE,):
        doing.seats.happens(step.item, Answered())


NAMES = "names"
"""The argument that tells what request and answer are called without their endings."""


def named(step: Step) -> Step:
    """Return a step as people are shown it: with the names of its request and answer put in."""
    if NAMES not in step.arguments:
        return step
    stem = plain(step.text(NAMES))
    known = {"request": f"{stem}{REQUEST}", "answer": f"{stem}{ANSWER}"}

    def fill(value: str | tuple[str, ...]) -> str | tuple[str, ...]:
        if isinstance(value, str):
            return refill(value, known.get)
        return tuple(refill(text, known.get) for text in value)

    arguments = {name: fill(value) for name, value in step.arguments.items()}
    writes = tuple(refill(path, known.get) for path in step.writes)
    return step.model_copy(update={"arguments": arguments, "writes": writes})
