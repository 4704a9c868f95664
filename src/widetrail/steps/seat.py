"""``seat``: what is done with the seat of a licence around the commands that the recipe names.

A licence's steps are commands and persons of the recipe between steps of this kind: ``note`` keeps
the serial, ``ready`` looks whether all is there to move it, ``begin`` and ``end`` enclose an act.
Whether any of it may be is decided by ``licence.seat`` alone; here it is only carried out.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Literal

from widetrail.errors import Halted, Waiting
from widetrail.finding import Unknown
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
    Stage,
    Told,
    Verified,
    Word,
    closed_as_done,
    contradicts,
    finished,
    words_of,
)
from widetrail.recipe import Station
from widetrail.recipe.templates import plain, refill
from widetrail.steps.commands import ANSWER_MADE, COMMAND, REQUEST_MADE, RunRule
from widetrail.steps.interface import Asked, Doing, Done, Fact, Facts, Failed, Outcome, Step
from widetrail.steps.running import OF_SEAT, run_step, status_of, was_run

UNKNOWN = "unknown"
"""What is answered where a person does not know yet."""


class SeatStep:
    """The steps of the plan that are about a seat."""

    def words(self, step: Step) -> str:
        return step.text("words")

    def do(self, step: Step, doing: Doing) -> Outcome:
        return _ACTS[step.text("act")](step, doing)


def _note(step: Step, doing: Doing) -> Outcome:
    """Keep the serial, and take note of how far an earlier move of the seat had come."""
    item, seats = step.item, doing.seats
    seats.insist_newest(item)
    licence, facts = seats.licence(item), dict[str, Fact]()
    serial = None
    if licence.serial is not None:
        serial = seats.find_serial(item)
        if serial is None:
            raise Halted(
                f"the serial of {_name(step, doing)} is not known on {doing.machine.name}",
                why="what the recipe reads it from does not tell it",
                todo="Look it up in the program or on its invoice, and type it into the program "
                "there, then walk again; until then nothing is done with the licence.",
            )  # fmt: skip
        if not serial.isprintable():
            raise Halted(
                f"the serial of {_name(step, doing)} is not one line of text",
                why="it could not be given to the program on new as it is",
                todo="Mend what the recipe reads it from, then plan again; until then nothing is "
                "done with the licence.",
            )  # fmt: skip
        doing.secret(step, "serial", serial)
        facts["serial"] = f"kept, ends in {serial[-2:]}" if len(serial) > 8 else "kept"
    if licence.keep:
        facts["tells"] = {name: _kept(step, doing, name) for name in licence.keep}
    word, says = seats.word(item)
    if word != "active" and seats.now(item).stage == "known":
        adopted = _begun_before(step, doing, word, says)
        if adopted is not None:
            seats.happens(item, adopted)
    if serial is not None:
        seats.keep_serial(item, serial)
    seats.happens(item, Noted())
    return Done({**facts, **says_fact(says)})


def _kept(step: Step, doing: Doing, name: str) -> str:
    found = doing.finder(step.item).reading(name)
    if isinstance(found, Unknown):
        raise Halted(
            f"{name} is not known on {doing.machine.name}, and the claim needs it",
            why=found.reason,
            todo="Have the program tell it there, then walk again; nothing was done with the "
            "licence.",
        )  # fmt: skip
    return str(found)


def _begun_before(step: Step, doing: Doing, word: Word, says: str) -> Adopted | None:
    """Return how far the seat has come that the program on old may not hold: by an earlier move,
    or as the maker says; ``None`` where nothing tells that it does not.

    Raises:
        Halted: The maker says that old holds it, so that only they can free it.
        Waiting: Nobody tells what the maker says.
    """
    adopted, partner = doing.seats.earlier(step.item)
    machine, name = doing.machine.name, _name(step, doing)
    if adopted is not None and partner == doing.other():
        return adopted
    if adopted is not None:
        words = f"Does the maker say that no machine holds the seat, {partner} neither?"
        if doing.ask(_asked(step, doing, "seat_free", words, ("yes", "no"))) == "yes":
            return Adopted("released")
        raise Waiting(
            f"the seat was released for {partner} in an earlier move",
            why=f"whether {partner} holds it is not known here",
            todo="Ask the maker whether a machine holds it. Where none does, walk again and answer "
            "seat_free: yes. Until then nothing is done with the licence.",
        )  # fmt: skip
    if word == "unknown":
        return None
    words = f"{name} on {machine} says {says}. Who holds the seat, as its maker says?"
    answer = doing.ask(_asked(step, doing, "seat_found", words, (*HOLDERS, UNKNOWN)))
    if answer in (None, UNKNOWN):
        raise Waiting(
            f"{name} on {machine} does not hold the seat that is to be moved",
            why=f"it says {says}",
            todo="Ask its maker who holds it, then walk again and answer seat_found: old, new or "
            "nobody. Until then nothing is done with the licence.",
        )  # fmt: skip
    if answer == "old":
        raise _contradiction(step, doing, "old", says)
    return Adopted("released", "claim") if answer == "new" else Adopted("released")


def _contradiction(step: Step, doing: Doing, holder: Holder, says: str) -> Halted:
    """Return what a person is told where the maker and the program say what cannot both be."""
    machine, name = doing.machine.name, _name(step, doing)
    who = {"nobody": "nobody", "old": _machine(step, doing, "old")}
    who["new"] = _machine(step, doing, "new")
    letter = doing.seats.command("letter", step.item)
    why = f"its maker says that {who[holder]} holds the seat, {name} on {machine} says {says}"
    if holder == step.station:
        todo = (
            f"Have {name} show on {machine} that it is licensed (type its serial there, or sign in "
            f"again), or have the maker free the seat ({letter} writes to them); then walk again."
        )
    else:
        todo = f"Take the licence out of {name} on {machine} by its own menu; then walk again."
        if step.station == "old":
            gone = doing.seats.command("claim", step.item)
            todo += f" Where it cannot be had to let go: {gone} --old-is-gone."
    why += "; until that is settled nothing more is done with the seat"
    return Halted(f"what {name} and its maker say cannot both be so", why=why, todo=todo)


def _machine(step: Step, doing: Doing, station: Station) -> str:
    return doing.machine.name if station == step.station else doing.other()


def says_fact(says: str) -> Facts:
    """Return a program's own words on its licence as a fact."""
    return {"says": says}


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
    _insist_may(step, doing)
    seat, name, machine = seats.now(step.item), _name(step, doing), doing.machine.name
    word, says = seats.word(step.item)
    if word in ("active", "other") and seat.act is None and seat.stage in ("noted", "verified"):
        raise Halted(
            f"{name} on {machine} is licensed already, before {doing.other()} lets go of its seat",
            why=f"on {machine} it says {says}",
            todo=f"Take the licence out of {name} on {machine} by its own menu, then walk again; "
            f"or keep both as they are: {seats.command('give-up', step.item)}. Nothing was "
            "released.",
        )  # fmt: skip
    if lacking := seats.lacking(step.item):
        raise Halted(
            f"the licence of {name} could not be claimed on {machine}", why="; ".join(lacking),
            todo=f"Mend what the reason names on {machine}, then walk again. Nothing was released: "
            f"{doing.other()} keeps the licence until then.",
        )  # fmt: skip
    seats.happens(step.item, Verified())
    return Done({"ready": "the program is here, and can take the licence"} | says_fact(says))


def _insist_may(step: Step, doing: Doing) -> None:
    """Raise where nothing may be done with the seat here: a later move of it has begun, or the
    serial is not in this parcel."""
    doing.seats.insist_newest(step.item)
    if not doing.seats.knows_serial(step.item):
        raise Halted(
            f"the serial of {_name(step, doing)} is not in this parcel",
            todo="Take the parcel that was on old last.",
        )  # fmt: skip


def _begin(step: Step, doing: Doing) -> Outcome:
    purpose, seats = purpose_of(step), doing.seats
    _insist_may(step, doing)
    word, says = seats.word(step.item)
    name, machine = _name(step, doing), doing.machine.name
    if word == "other":
        raise Halted(
            f"{name} on {machine} is licensed by another serial than the one that is moved",
            why=f"it says {says}", todo=_other(step, doing),
        )  # fmt: skip
    fresh = seats.now(step.item).act is None and seats.now(step.item).stage == BEGINS[purpose]
    if fresh and purpose != "release" and word == "active" and not seats.is_own(step.item):
        return _by_maker(
            step, doing, f"{name} on {machine} is licensed, and by which serial is not known"
        )
    seats.happens(step.item, Begin(purpose, word))
    if fresh and purpose != "release" and seats.was_left_open(step.item):
        seats.happens(step.item, Broken())  # what an earlier move asked may be done still
    return Done({"seat": words_of(seats.now(step.item)), **says_fact(says)})


def _end(step: Step, doing: Doing) -> Outcome:
    """See in the program that an act is done, or hear it from the maker."""
    item, purpose, seats = step.item, purpose_of(step), doing.seats
    word, says = seats.word(item)
    if closed_already(step, doing) is not None:
        held = "new" if seats.now(item).act is not None else _HELD[seats.now(item).stage]
        if contradicts(held, AT[purpose], word):
            raise _contradiction(step, doing, held, says)
        return Done({"seat": words_of(seats.now(item)), **says_fact(says)})
    seats.happens(item, Shown(word))
    if seats.now(item).act is None:
        return Done({"seat": words_of(seats.now(item)), **says_fact(says)})
    machine, name = doing.machine.name, _name(step, doing)
    verb = {"release": "released on", "claim": "claimed for", "return": "given back to"}[purpose]
    why = f"whether the seat of {name} is {verb} {machine} is not known: {name} says {says}"
    return _by_maker(step, doing, why)


def _other(step: Step, doing: Doing) -> str:
    name, machine = _name(step, doing), doing.machine.name
    todo = (
        f"Take that licence out of {name} on {machine} by its own menu, then walk again. Nothing "
        "is done with the seat that is moved until then."
    )
    if purpose_of(step) == "claim":
        back = doing.seats.command("return", step.item)
        todo += f" To have it back on {doing.other()} instead: {back}."
    return todo


HOLDERS: Mapping[str, Holder] = {"old": "old", "new": "new", "nobody": "nobody"}
"""What is answered to who holds a seat, as the maker says."""

_HELD: Mapping[Stage, Holder] = {
    "noted": "old", "verified": "old", "returned": "old", "released": "nobody",
    "renounced": "nobody", "claimed": "new",
}  # fmt: skip
"""Who holds a seat at a stage, while no act is open."""


def _renounce(step: Step, doing: Doing) -> Outcome:
    word, says = doing.seats.word(step.item)
    name, claim = _name(step, doing), doing.seats.command("claim", step.item)
    if word == "active":
        raise Halted(
            f"{name} is licensed on {doing.machine.name}", why=f"it says {says}",
            todo=f"Take the licence out of {name} there by its own menu, then walk again; or leave "
            f"it where it is: {claim}.",
        )  # fmt: skip
    if word == "unknown" or doing.seats.was_left_open(step.item):
        machine = doing.machine.name
        words = (
            f"{name} says {says}. Does the maker say that {machine} does not hold the seat, and "
            "will no request of it be taken to them any more?"
        )
        if doing.ask(_asked(step, doing, "new_is_free", words)) != "yes":
            raise Waiting(
                f"whether {machine} holds the seat is not known", why=says,
                todo=f"Ask its maker ({doing.seats.command('letter', step.item)} writes to them), "
                "then walk again and answer new_is_free: yes. Until then neither computer is "
                "known to have the licence.",
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
            todo=f"Walk again and answer {who}_is_gone: yes once it is wiped or the maker has "
            "taken the seat from it. Until then nothing is done with the licence.",
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
    ran = was_run(step, doing)
    if ran and (outcome := _resolved(step, doing)) is not None:
        return outcome
    doubted = seats.now(step.item).in_doubt
    if doubted and not ran and step.repeat != "safe" and not _was_asked(step, doing):
        return _by_maker(step, doing, "whether it was done before is not known")
    takes = any(ANSWER_MADE in argument for argument in step.texts(COMMAND))
    fetches = step.writes == (ANSWER_MADE,)
    if takes and not fetches and (wrong := seats.wrong_answer(step.item)):
        return Failed(wrong, _fetch(step, doing), {})
    if ran and fetches and step.repeat == "safe":
        doing.record("to be done again", step=step.id)
    outcome = run_step(step, doing)
    if isinstance(outcome, Done) and fetches and (wrong := seats.wrong_answer(step.item)):
        seats.happens(step.item, Broken())
        doing.record("to be done again", step=step.id)
        return Failed(wrong, "Walk here again: the answer is fetched once more.", outcome.facts)
    if isinstance(outcome, Done):
        made(step, doing)
        return outcome
    rule = doing.rule(step)
    assert isinstance(rule, RunRule) and isinstance(outcome, Failed)
    if status_of(step, doing) in rule.refused:
        seats.happens(step.item, Refused())
        if seats.now(step.item).act is None:
            seats.have_again(step.item, purpose)
            return Failed(
                f"it was refused, and nothing changed: {outcome.reason}", _refused(step, doing), {}
            )
        return _by_maker(step, doing, f"it was refused when asked for again: {outcome.reason}")
    if not was_run(step, doing):  # it could not be started
        act = seats.now(step.item).act
        if act is None or act.phase != "intent" or _was_asked(step, doing):
            return Failed(outcome.reason, f"{outcome.todo} {_MEANWHILE[purpose]}", outcome.facts)
        seats.happens(step.item, Refused())
        seats.have_again(step.item, purpose)
        words = f"it could not be started, and nothing changed: {outcome.reason}"
        return Failed(words, _refused(step, doing), {})
    seats.happens(step.item, Broken())
    if doubted or step.repeat != "safe":
        return _by_maker(step, doing, outcome.reason)
    again = "it is asked exactly as before"
    if takes and not fetches:
        fetch = seats.command("fetch", step.item)
        again = f"the same answer is registered (to have it fetched once more first: {fetch})"
    return Failed(outcome.reason, f"Walk again: {again}. {_MEANWHILE[purpose]}", outcome.facts)


_MEANWHILE: Mapping[Purpose, str] = {
    "release": "Until then the new computer cannot claim the licence.",
    "claim": "Until then it is not known that any computer has the licence.",
    "return": "Until then it is not known that any computer has the licence.",
}
"""What holds as long as nothing more is done, by the purpose of the act that is open."""


def _was_asked(step: Step, doing: Doing) -> bool:
    """Return whether a step of the same act was run here in this move."""
    begun = doing.records("run begun")
    mine = step.id.rpartition("/")[0]
    return any(str(r["step"]).startswith(f"{mine}/") and r["step"] != step.id for r in begun)


def _fetch(step: Step, doing: Doing) -> str:
    return (
        "Put the right file in its place and walk here again. To have it fetched once more: "
        f"{doing.seats.command('fetch', step.item)}, then walk on the machine between "
        f"(--as between). {_MEANWHILE[purpose_of(step)]}"
    )


def _refused(step: Step, doing: Doing) -> str:
    purpose, seats = purpose_of(step), doing.seats
    ways = [f"Mend what the reason names, then walk again; {seats.command('letter', step.item)} "
            "writes to them."]  # fmt: skip
    if purpose == "claim":
        ways.append(f"To have it back on {doing.other()}: {seats.command('return', step.item)}.")
        ways.append("Until then neither computer has the licence.")
    if purpose == "release":
        keep = f"To leave it where it is: {seats.command('give-up', step.item)}."
        ways.append(f"{keep} Until then it stays on {doing.machine.name}.")
    return " ".join(ways)


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
    asked = f"seat_{ENDS[purpose]}"
    answer = doing.ask(_asked(step, doing, asked, words, (*HOLDERS, UNKNOWN)))
    if answer in (None, UNKNOWN):
        letter = seats.command("letter", step.item)
        again = "Walk again: it is asked exactly as before. Or a" if step.repeat == "safe" else "A"
        raise Waiting(
            why, why=f"only the maker can say how the {purpose} ended",
            todo=f"{again}sk its maker who holds the seat ({letter} writes to them), then walk "
            f"again and answer {asked}: old, new or nobody. {_MEANWHILE[purpose]}",
        )  # fmt: skip
    assert answer is not None
    word: Word = "unknown"
    holder, at = HOLDERS[answer], AT[purpose]
    if step.station == at:
        word, says = seats.word(step.item)
        if contradicts(holder, at, word):
            raise _contradiction(step, doing, holder, says)
    seats.happens(step.item, Told(holder, at, word))
    seat = seats.now(step.item)
    if closed_as_done(seat, purpose):
        return Done({"seat": words_of(seat), "by": "the maker's word"})
    seats.have_again(step.item, purpose)
    if seat.stage == "verified":
        seats.have_again(step.item, "release")
    todo = f"Mend what the maker names, then walk again. {_MEANWHILE[purpose]}"
    if holder == "new" and purpose == "return":
        todo = f"To leave it on {doing.other()}: {seats.command('claim', step.item)}."
    elif holder == "old" and purpose == "claim":
        todo = (
            f"Walk on {doing.other()}: it is released there again. To leave it there: "
            f"{seats.command('give-up', step.item)}."
        )
    words = f"by the maker's word the {purpose} was not done: the seat is {words_of(seat)}"
    return Failed(words, todo, {})


def closed_already(step: Step, doing: Doing) -> Outcome | None:
    """Return the outcome of a step of an act that is closed, and ``None`` while it is open.

    Raises:
        Halted: The act was never begun, or closed without having been done.
    """
    seat, purpose = doing.seats.now(step.item), purpose_of(step)
    if seat.act is not None and seat.act.purpose == purpose:
        return None
    if closed_as_done(seat, purpose):
        return Done({"seat": f"nothing was to be done: {words_of(seat)}"})
    raise Halted(
        f"no {purpose} of the seat is open", why=f"it is {words_of(seat)}",
        todo=f"What to do is told by: {doing.seats.command('', step.item)}.",
    )  # fmt: skip


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
