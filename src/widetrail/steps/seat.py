"""``seat``: what is done with the seat of a licence around the commands that the recipe names.

A licence's steps are commands and persons of the recipe between steps of this kind: ``note`` keeps
the serial, ``ready`` looks whether all is there to move it, ``begin`` and ``end`` enclose an act.
Whether any of it may be is decided by ``licence.seat`` alone; here it is only carried out.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Literal, Protocol

from widetrail.errors import Halted, Waiting
from widetrail.finding import Unknown
from widetrail.formats.stored_values import Text
from widetrail.licence.seat import contradicts
from widetrail.licence.seat_events import (
    Adopted,
    Begin,
    Broken,
    Gone,
    Noted,
    Renounced,
    Shown,
    Verified,
)
from widetrail.licence.terms import AT, BEGINS, Holder, Stage, Word
from widetrail.steps.contexts import Programs
from widetrail.steps.kind import Act
from widetrail.steps.maker_answer import (
    HOLDERS,
    UNKNOWN,
    ForSeat,
    asked_of,
    by_maker,
    closed_already,
    contradiction,
    done_with,
    name_of,
    purpose_of,
    walk_again,
)
from widetrail.steps.outcomes import Done, Facts, Outcome, SeatTold
from widetrail.steps.seat_step import SeatStep
from widetrail.steps.step import Step


class Has(ForSeat, Programs, Protocol):
    """What the engine's own steps of an act take."""


class SeatFacts(Facts):
    """``serial`` is how the serial ends, where it was kept and is long enough to tell that."""

    passing = Facts.passing | {"serial"}

    serial: Text = ""


class SeatActs(Act[SeatStep, Has]):
    """The steps of the plan that are about a seat."""

    step = SeatStep
    effect = "starts"
    facts = SeatFacts
    of_seats = True

    def words(self, step: SeatStep) -> str:
        return step.words

    def do(self, step: SeatStep, doing: Has) -> Outcome:
        return _ACTS[step.act](step, doing)


def _note(step: Step, doing: Has) -> Outcome:
    """Keep the serial, and take note of how far an earlier move of the seat had come."""
    item, seats = step.item, doing.seats
    seats.insist_newest(item)
    licence = seats.licence(item)
    serial = None
    if licence.serial is not None:
        serial = seats.find_serial(item)
        if serial is None:
            raise Halted(
                f"the serial of {name_of(step, doing)} is not known on {doing.machine.name}",
                why="it is not where the recipe reads it from",
                todo="Look it up in the program or on its invoice, and type it into the program "
                f"there, then {walk_again(doing)}; until then nothing is done with the licence.",
            )
        if not serial.isprintable():
            raise Halted(
                f"the serial of {name_of(step, doing)} is not one line of text",
                why="it could not be given to the program on the new computer as it is",
                todo="Fix what the recipe reads it from, then plan again; until then nothing is "
                "done with the licence.",
            )
        doing.secret(step, "serial", serial)
    told = {name: _kept(step, doing, name) for name in licence.keep}
    word, says = seats.word(item)
    if word != "active" and seats.now(item).stage == "known":
        adopted = _begun_before(step, doing, word, says)
        if adopted is not None:
            seats.happens(item, adopted)
    if serial is not None:
        seats.keep_serial(item, serial)
    seats.happens(item, Noted())
    ending = serial[-2:] if serial is not None and len(serial) > 8 else ""
    seat = SeatTold(stage=seats.now(item).stage, says=says)
    return Done(SeatFacts(serial=ending, told=told, seat=seat))


def _kept(step: Step, doing: Has, name: str) -> str:
    found = doing.finder(step.item).reading(name)
    if isinstance(found, Unknown):
        raise Halted(
            f"{name} is not known on {doing.machine.name}, and the claim needs it",
            why=found.reason,
            todo=f"Have the program show it there, then {walk_again(doing)}; nothing was done "
            "with the licence.",
        )
    return str(found)


def _begun_before(step: Step, doing: Has, word: Word, says: str) -> Adopted | None:
    """Return how far the seat has come that the program on old may not hold: by an earlier move,
    or as the maker says; ``None`` where nothing tells that it does not.

    Raises:
        Halted: The maker says that old holds it, so that only they can free it.
        Waiting: Nobody tells what the maker says.
    """
    adopted, partner = doing.seats.earlier(step.item)
    machine, name = doing.machine.name, name_of(step, doing)
    if adopted is not None and partner == doing.other():
        return adopted
    if adopted is not None:
        words = f"Does the maker say that no machine holds the seat, {partner} neither?"
        if doing.ask(asked_of(step, doing, "seat_free", words, ("yes", "no"))) == "yes":
            return Adopted("released")
        raise Waiting(
            f"the seat was released for {partner} in an earlier move",
            why=f"whether {partner} holds it is not known here",
            todo="Ask the maker whether a machine holds it. Where none does, "
            f"{walk_again(doing)} and answer seat_free: yes. Until then nothing is done with the "
            "licence.",
        )
    if word == "unknown":
        return None
    words = f"{name} on {machine} says {says}. Who holds the seat, as its maker says?"
    answer = doing.ask(asked_of(step, doing, "seat_found", words, (*HOLDERS, UNKNOWN)))
    if answer in (None, UNKNOWN):
        raise Waiting(
            f"{name} on {machine} does not hold the seat that is to be moved",
            why=f"it says {says}",
            todo=f"Ask its maker who holds it, then {walk_again(doing)} and answer seat_found: "
            "old, new or nobody. Until then nothing is done with the licence.",
        )
    if answer == "old":
        raise contradiction(step, doing, "old", says)
    return Adopted("released", "claim") if answer == "new" else Adopted("released")


def _ready(step: Step, doing: Has) -> Outcome:
    """Look whether all is there that the move of the seat needs."""
    seats, station = doing.seats, step.station
    if station == "old":  # the person takes the risk that what is packed does not arrive
        seats.make_cargo_durable()
        seats.happens(step.item, Verified())
        return done_with(step, doing)
    _insist_may(step, doing)
    seat, name, machine = seats.now(step.item), name_of(step, doing), doing.machine.name
    word, says = seats.word(step.item)
    if word in ("active", "other") and seat.act is None and seat.stage in ("noted", "verified"):
        raise Halted(
            f"{name} on {machine} is licensed already, before {doing.other()} lets go of its seat",
            why=f"on {machine} it says {says}",
            todo=f"Take the licence out of {name} on {machine} by its own menu, then "
            f"{walk_again(doing)}; or keep both as they are: "
            f"{seats.command('give-up', step.item)}. Nothing was released.",
        )
    if lacking := seats.lacking(step.item):
        raise Halted(
            f"the licence of {name} could not be claimed on {machine}",
            why="; ".join(lacking),
            todo=f"Fix the cause above on {machine}, then {walk_again(doing)}. Nothing was "
            f"released: {doing.other()} keeps the licence until then.",
        )
    seats.happens(step.item, Verified())
    return done_with(step, doing, says)


def _insist_may(step: Step, doing: Has) -> None:
    """Raise where nothing may be done with the seat here: a later move of it has begun, or the
    serial is not in this parcel."""
    doing.seats.insist_newest(step.item)
    if not doing.seats.knows_serial(step.item):
        raise Halted(
            f"the serial of {name_of(step, doing)} is not in this parcel",
            todo="Take the parcel that was on the old computer last.",
        )


def _begin(step: Step, doing: Has) -> Outcome:
    purpose, seats = purpose_of(step), doing.seats
    _insist_may(step, doing)
    word, says = seats.word(step.item)
    name, machine = name_of(step, doing), doing.machine.name
    if word == "other":
        raise Halted(
            f"{name} on {machine} is licensed by another serial than the one that is moved",
            why=f"it says {says}",
            todo=_other(step, doing),
        )
    fresh = seats.now(step.item).act is None and seats.now(step.item).stage == BEGINS[purpose]
    if fresh and purpose != "release" and word == "active" and not seats.is_own(step.item):
        return by_maker(
            step, doing, f"{name} on {machine} is licensed, and by which serial is not known"
        )
    seats.happens(step.item, Begin(purpose, word))
    if fresh and purpose != "release" and seats.was_left_open(step.item):
        seats.happens(step.item, Broken())  # what an earlier move asked may be done still
    return done_with(step, doing, says)


def _end(step: Step, doing: Has) -> Outcome:
    """See in the program that an act is done, or hear it from the maker."""
    item, purpose, seats = step.item, purpose_of(step), doing.seats
    word, says = seats.word(item)
    if closed_already(step, doing) is not None:
        held = "new" if seats.now(item).act is not None else _HELD[seats.now(item).stage]
        if contradicts(held, AT[purpose], word):
            raise contradiction(step, doing, held, says)
        return done_with(step, doing, says)
    seats.happens(item, Shown(word))
    if seats.now(item).act is None:
        return done_with(step, doing, says)
    machine, name = doing.machine.name, name_of(step, doing)
    verb = {"release": "released on", "claim": "claimed for", "return": "given back to"}[purpose]
    why = f"whether the seat of {name} is {verb} {machine} is not known: {name} says {says}"
    return by_maker(step, doing, why)


def _other(step: Step, doing: Has) -> str:
    name, machine = name_of(step, doing), doing.machine.name
    todo = (
        f"Take that licence out of {name} on {machine} by its own menu, then {walk_again(doing)}. "
        "Nothing is done with the seat that is moved until then."
    )
    if purpose_of(step) == "claim":
        back = doing.seats.command("return", step.item)
        todo += f" To have it back on {doing.other()} instead: {back}."
    return todo


_HELD: Mapping[Stage, Holder] = {
    "noted": "old",
    "verified": "old",
    "returned": "old",
    "released": "nobody",
    "renounced": "nobody",
    "claimed": "new",
}
"""Who holds a seat at a stage, while no act is open."""


def _renounce(step: Step, doing: Has) -> Outcome:
    word, says = doing.seats.word(step.item)
    name, claim = name_of(step, doing), doing.seats.command("claim", step.item)
    if word == "active":
        raise Halted(
            f"{name} is licensed on {doing.machine.name}",
            why=f"it says {says}",
            todo=f"Take the licence out of {name} there by its own menu, then "
            f"{walk_again(doing)}; or leave it where it is: {claim}.",
        )
    if word == "unknown" or doing.seats.was_left_open(step.item):
        machine = doing.machine.name
        words = (
            f"{name} says {says}. Does the maker say that {machine} does not hold the seat, and "
            "will no request of it be taken to them any more?"
        )
        if doing.ask(asked_of(step, doing, "new_is_free", words)) != "yes":
            raise Waiting(
                f"whether {machine} holds the seat is not known",
                why=says,
                todo=f"Ask its maker ({doing.seats.command('letter', step.item)} writes to them), "
                f"then {walk_again(doing)} and answer new_is_free: yes. Until then neither "
                "computer is known to have the licence.",
            )
    doing.seats.happens(step.item, Renounced("not"))
    return done_with(step, doing, by="program" if word == "not" else "maker")


def _gone(step: Step, doing: Has) -> Outcome:
    """Hear from a person that the other machine is out, where nobody can go there."""
    words = (
        f"Do you answer for it that {doing.other()} does not hold the seat of "
        f"{name_of(step, doing)} and will never claim it?"
    )
    who: Literal["old", "new"] = "new" if step.station == "old" else "old"
    if doing.ask(asked_of(step, doing, f"{who}_is_gone", words)) != "yes":
        raise Waiting(
            f"nobody answers for {doing.other()}",
            why="it is out of reach, so only a person can",
            todo="Once it is wiped, or the maker has taken the seat from it, "
            f"{walk_again(doing)} and answer {who}_is_gone: yes. Until then nothing is done with "
            "the licence.",
        )
    doing.seats.happens(step.item, Gone(who))
    return done_with(step, doing, by="person")


_ACTS: Mapping[str, Callable[[Step, Has], Outcome]] = {
    "note": _note,
    "ready": _ready,
    "begin": _begin,
    "end": _end,
    "renounce": _renounce,
    "gone": _gone,
}
