"""What a maker says of a seat, how it is asked for, and what is told where it cannot be so."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal, Protocol

from widetrail.errors import Halted, Waiting
from widetrail.licence.seat import closed_as_done, contradicts
from widetrail.licence.seat_events import Told
from widetrail.licence.seat_words import words_of
from widetrail.licence.terms import AT, ENDS, Holder, Purpose, Word
from widetrail.recipe import Station
from widetrail.steps.contexts import Licences, OfItem, People, Work
from widetrail.steps.outcomes import Done, Facts, Failed, Outcome, SeatTold
from widetrail.steps.people import Asked
from widetrail.steps.step import Step


class ForSeat(Work, OfItem, People, Licences, Protocol):
    """What every step of an act on a seat takes."""


UNKNOWN = "unknown"
"""What is answered where a person does not know yet."""


HOLDERS: Mapping[str, Holder] = {"old": "old", "new": "new", "nobody": "nobody"}
"""What is answered to who holds a seat, as the maker says."""

MEANWHILE: Mapping[Purpose, str] = {
    "release": "Until then the new computer cannot claim the licence.",
    "claim": "Until then it is not known that any computer has the licence.",
    "return": "Until then it is not known that any computer has the licence.",
}
"""What holds as long as nothing more is done, by the purpose of the act that is open."""


def purpose_of(step: Step) -> Purpose:
    """Return the purpose of the act that a step belongs to."""
    assert step.seat is not None, "a plan says which act a step is part of"
    return step.seat.purpose


Whose = Literal["program", "maker", "person"]


def done_with(step: Step, doing: ForSeat, says: str = "", by: Whose = "program") -> Done:
    """Return that a step was done, with how far the seat is now and what shows that."""
    return Done(Facts(seat=SeatTold(stage=doing.seats.now(step.item).stage, says=says, by=by)))


def asked_of(
    step: Step, doing: ForSeat, name: str, words: str, choices: tuple[str, ...] = ("yes", "no")
) -> Asked:
    recipe = doing.finder(step.item).loaded.id
    return Asked(recipe, name, words, step.item, choices=choices)


def name_of(step: Step, doing: ForSeat) -> str:
    return doing.application(step.item).name


def walk_again(doing: ForSeat) -> str:
    """Return that a person should walk again, with the command."""
    return f"walk again ({doing.seats.walk()})"


def closed_already(step: Step, doing: ForSeat) -> Outcome | None:
    """Return the outcome of a step of an act that is closed, and ``None`` while it is open.

    Raises:
        Halted: The act was never begun, or closed without having been done.
    """
    seat, purpose = doing.seats.now(step.item), purpose_of(step)
    if seat.act is not None and seat.act.purpose == purpose:
        return None
    if closed_as_done(seat, purpose):
        return done_with(step, doing)
    raise Halted(
        f"no {purpose} of the seat is open",
        why=f"it is {words_of(seat)}",
        todo=f"To see what to do: {doing.seats.command('', step.item)}.",
    )


def by_maker(step: Step, doing: ForSeat, why: str) -> Outcome:
    """Return the outcome of an act as the maker says that it ended.

    Raises:
        Waiting: Nobody tells what the maker says.
    """
    purpose, seats = purpose_of(step), doing.seats
    words = (
        f"How the {purpose} of the seat of {name_of(step, doing)} ended is not known. Who holds "
        "the seat, as its maker says?"
    )
    asked = f"seat_{ENDS[purpose]}"
    answer = doing.ask(asked_of(step, doing, asked, words, (*HOLDERS, UNKNOWN)))
    if answer in (None, UNKNOWN):
        letter = seats.command("letter", step.item)
        todo = f"Ask its maker who holds the seat ({letter} writes to them), then "
        todo += f"{walk_again(doing)} and answer {asked}: old, new or nobody."
        if step.repeat == "safe":
            todo += " Without an answer it is asked exactly as before."
        raise Waiting(
            why,
            why=f"only the maker can say how the {purpose} ended",
            todo=f"{todo} {MEANWHILE[purpose]}",
        )
    assert answer is not None
    word: Word = "unknown"
    holder, at = HOLDERS[answer], AT[purpose]
    if step.station == at:
        word, says = seats.word(step.item)
        if contradicts(holder, at, word):
            raise contradiction(step, doing, holder, says)
    seats.happens(step.item, Told(holder, at, word))
    seat = seats.now(step.item)
    if closed_as_done(seat, purpose):
        return done_with(step, doing, by="maker")
    seats.have_again(step.item, purpose)
    if seat.stage == "verified":
        seats.have_again(step.item, "release")
    todo = f"Fix what the maker names, then {walk_again(doing)}. {MEANWHILE[purpose]}"
    if holder == "new" and purpose == "return":
        todo = f"To leave it on {doing.other()}: {seats.command('claim', step.item)}."
    elif holder == "old" and purpose == "claim":
        todo = (
            f"Walk on {doing.other()}: it is released there again. To leave it there: "
            f"{seats.command('give-up', step.item)}."
        )
    words = f"by the maker's word the {purpose} was not done: the seat is {words_of(seat)}"
    return Failed(words, todo)


def contradiction(step: Step, doing: ForSeat, holder: Holder, says: str) -> Halted:
    """Return what a person is told where the maker and the program say what cannot both be."""
    machine, name = doing.machine.name, name_of(step, doing)
    who = {"nobody": "nobody", "old": _machine(step, doing, "old")}
    who["new"] = _machine(step, doing, "new")
    letter = doing.seats.command("letter", step.item)
    why = f"its maker says that {who[holder]} holds the seat, {name} on {machine} says {says}"
    if holder == step.station:
        todo = (
            f"Have {name} show on {machine} that it is licensed (type its serial there, or sign in "
            f"again), or have the maker free the seat ({letter} writes to them); then "
            f"{walk_again(doing)}."
        )
    else:
        todo = f"Take the licence out of {name} on {machine} by its own menu; then "
        todo += f"{walk_again(doing)}."
        if step.station == "old":
            gone = doing.seats.command("claim", step.item)
            todo += f" Where it cannot be had to let go: {gone} --old-is-gone."
    why += "; until that is settled nothing more is done with the seat"
    return Halted(f"what {name} and its maker say cannot both be so", why=why, todo=todo)


def _machine(step: Step, doing: ForSeat, station: Station) -> str:
    return doing.machine.name if station == step.station else doing.other()
