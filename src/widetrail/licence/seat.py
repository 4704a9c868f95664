"""The seat of a licence as a pure state machine: what may be done with it, and what is certain.

::

    known → noted → verified → released → claimed → settled
                                 ↓
                             renounced → returned → settled

A seat stands at the last stage that is certain. Beside it an act may be open: a release, claim or
return that was begun and whose end is not certain yet. While one is open no other begins, and one
that is in doubt is only ever repeated as it was, or closed by what the program or the maker says.
What the maker says counts where the program does not say otherwise. A person may give a seat up
and take it up again: what is certain of it stays as it was. ``step`` is the one function that a
walk uses and that the tests explore.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import asdict, dataclass, replace
from functools import cache
from typing import Any, Literal, get_args

from pydantic import TypeAdapter

Stage = Literal[
    "known",
    "noted",
    "verified",
    "released",
    "claimed",
    "renounced",
    "returned",
    "settled",
]
Purpose = Literal["release", "claim", "return"]
Phase = Literal["intent", "requested", "answered", "unknown"]
Word = Literal["active", "other", "not", "unknown"]
"""What a program says of its own licence: ``other`` is that it is active by another seat."""

Holder = Literal["old", "new", "nobody"]
"""Who holds the seat, as the maker says."""

At = Literal["old", "new", "between"]

BEGINS: Mapping[Purpose, Stage] = {
    "release": "verified",
    "claim": "released",
    "return": "renounced",
}
"""The stage at which an act may begin."""

ENDS: Mapping[Purpose, Stage] = {"release": "released", "claim": "claimed", "return": "returned"}
"""The stage that an act leads to."""

AT: Mapping[Purpose, At] = {"release": "old", "claim": "new", "return": "old"}
"""The station whose program an act is about."""


@dataclass(frozen=True, slots=True)
class Act:
    """A release, claim or return that was begun: how far it is, and the how manieth it is."""

    purpose: Purpose
    phase: Phase
    attempt: int


@dataclass(frozen=True, slots=True)
class Seat:
    """What is certain of a seat, the act that is open, and how many were begun so far."""

    stage: Stage = "known"
    act: Act | None = None
    attempts: int = 0
    given_up: bool = False
    """Whether a person wants nothing more done with it in this move."""

    @property
    def in_doubt(self) -> bool:
        """Whether only the program or the maker can say how the open act ended."""
        return self.act is not None and self.act.phase == "unknown"

    @property
    def at_end(self) -> bool:
        """Whether it is certain who holds it, and that is where it is to stay."""
        if self.act is not None:
            return False
        left = self.given_up and self.stage in ("known", "noted", "verified")
        return left or self.stage in ("claimed", "returned", "settled")


# Events


@dataclass(frozen=True, slots=True)
class Adopted:
    """An earlier move of the same seat had come that far on old when this one began."""

    stage: Stage
    purpose: Purpose | None = None


@dataclass(frozen=True, slots=True)
class Noted:
    """The serial is durable, on old and in the parcel."""


@dataclass(frozen=True, slots=True)
class Verified:
    """What the program needs is verified on new, or a person took the risk after packing."""


@dataclass(frozen=True, slots=True)
class Begin:
    """An act is to begin or to go on; ``word`` is what the program there says before."""

    purpose: Purpose
    word: Word


@dataclass(frozen=True, slots=True)
class Requested:
    """The request of the open act is made."""


@dataclass(frozen=True, slots=True)
class Answered:
    """The answer to the request of the open act is there."""


@dataclass(frozen=True, slots=True)
class Spoiled:
    """The answer that is there cannot be used: it is to be fetched again."""


@dataclass(frozen=True, slots=True)
class Broken:
    """What does the open act was cut off, or failed without a word on what came of it."""


@dataclass(frozen=True, slots=True)
class Refused:
    """The open act was refused, and nothing came of it."""


@dataclass(frozen=True, slots=True)
class Shown:
    """All of the open act was done; ``word`` is what the program says after it."""

    word: Word


@dataclass(frozen=True, slots=True)
class Told:
    """The maker says who holds the seat, to a person who is at the station ``at``; ``word`` is
    what the program there says after that."""

    holder: Holder
    at: At
    word: Word = "unknown"


@dataclass(frozen=True, slots=True)
class Renounced:
    """New will not claim the seat in this move; ``word`` is what its program says."""

    word: Word


@dataclass(frozen=True, slots=True)
class Gone:
    """A person answers for it that a machine does not hold the seat and will never get it."""

    who: Literal["old", "new"]


@dataclass(frozen=True, slots=True)
class Settled:
    """A person accepts how it ended."""


@dataclass(frozen=True, slots=True)
class GivenUp:
    """A person gives the seat up."""


@dataclass(frozen=True, slots=True)
class TakenUp:
    """A person wants a seat moved after all that was given up."""


Event = (
    Adopted
    | Noted
    | Verified
    | Begin
    | Requested
    | Answered
    | Spoiled
    | Broken
    | Refused
    | Shown
    | Told
    | Renounced
    | Gone
    | Settled
    | GivenUp
    | TakenUp
)

# Effects


@dataclass(frozen=True, slots=True)
class Do:
    """Do the open act; where it is ``again``, exactly as it was begun."""

    act: Act
    again: bool = False


@dataclass(frozen=True, slots=True)
class AskMaker:
    """Only the maker, or the program itself later, can say how the open act ended."""

    act: Act


@dataclass(frozen=True, slots=True)
class Refuse:
    """It may not be: nothing is changed, for that reason."""

    why: str


Effect = Do | AskMaker | Refuse
Step = tuple[Seat, tuple[Effect, ...]]


def step(seat: Seat, event: Event) -> Step:
    """Return the seat after ``event``, and what is to be done now.

    The event is written down before any of it is done. An event that may not be changes nothing
    and gives one ``Refuse``.
    """
    if seat.stage == "settled":
        return (seat, ()) if isinstance(event, Settled) else _no(seat, "the seat is settled")
    if isinstance(event, GivenUp | TakenUp):
        return replace(seat, given_up=isinstance(event, GivenUp)), ()
    if seat.given_up and not (isinstance(event, Settled) and seat.at_end):
        return _no(seat, "the seat was given up")
    match event:
        case Adopted():
            return _adopted(seat, event)
        case Noted():
            return (replace(seat, stage="noted") if seat.stage == "known" else seat), ()
        case Verified():
            if seat.stage == "known":
                return _no(seat, "the serial is not noted yet")
            return (replace(seat, stage="verified") if seat.stage == "noted" else seat), ()
        case Begin():
            return _begin(seat, event)
        case Told():
            return _told(seat, event)
        case Renounced():
            if seat.stage == "renounced" and seat.act is None:
                return seat, ()
            if event.word != "not":
                return _no(seat, "whether new holds the seat is not known")
            if seat.stage != "released" or seat.act is not None:
                return _no(seat, _why_not(seat, "released"))
            return replace(seat, stage="renounced"), ()
        case Gone():
            return _gone(seat, event)
        case Settled():
            if not seat.at_end:
                return _no(seat, f"the seat is {words_of(seat)}")
            return replace(seat, stage="settled"), ()
    return _within(seat, event)


def _gone(seat: Seat, event: Gone) -> Step:
    """Where new is out, old may take the seat back; where old is, new may claim it again."""
    new = event.who == "new"
    known: tuple[Stage, ...] = ("released", "claimed")
    if not new:
        known = ("known", "noted", "verified", "renounced", "returned")
    after: Stage = "renounced" if new else "released"
    theirs = seat.act is None or AT[seat.act.purpose] == event.who
    if seat.stage == after and seat.act is None:
        return seat, ()
    if seat.stage not in known or not theirs:
        return _no(seat, f"the seat is {words_of(seat)}, so {event.who} may get it still")
    return replace(seat, stage=after, act=None), ()


def _no(seat: Seat, why: str) -> Step:
    return seat, (Refuse(why),)


def _why_not(seat: Seat, wanted: Stage) -> str:
    return f"the seat is {words_of(seat)}, and must be {wanted}"


def _adopted(seat: Seat, event: Adopted) -> Step:
    if seat != Seat():
        return _no(seat, "this move of the seat has begun already")
    if event.purpose is None:
        return Seat(event.stage), ()
    return Seat(event.stage, Act(event.purpose, "unknown", 1), 1), ()


def closed_as_done(seat: Seat, purpose: Purpose) -> bool:
    """Return whether an act of that purpose is over and came to what it was for."""
    if seat.act is not None and seat.act.purpose == purpose:
        return False
    return seat.stage in _AFTER[purpose]


_AFTER: Mapping[Purpose, frozenset[Stage]] = {
    "release": frozenset({"released", "claimed", "renounced", "returned"}),
    "claim": frozenset({"claimed"}),
    "return": frozenset({"returned"}),
}


def finished(purpose: Purpose, word: Word) -> bool:
    """Return whether a program's word on its licence shows that an act is done."""
    return word == ("not" if purpose == "release" else "active")


def _begin(seat: Seat, event: Begin) -> Step:
    purpose, act = event.purpose, seat.act
    done = replace(seat, stage=ENDS[purpose], act=None)
    if event.word == "other":
        return _no(seat, f"the program on {AT[purpose]} is active by another seat")
    if act is not None and act.purpose != purpose:
        return _no(seat, f"a {act.purpose} of the seat is open")
    if act is not None:
        if finished(purpose, event.word):
            return done, ()
        return seat, (Do(act, again=act.phase == "unknown"),)
    if seat.stage == ENDS[purpose] or (purpose == "release" and seat.stage == "claimed"):
        if purpose == "release" and event.word == "active":
            return _no(seat, f"the seat is {words_of(seat)}, and the program on old is active")
        return seat, ()
    if seat.stage != BEGINS[purpose]:
        return _no(seat, _why_not(seat, BEGINS[purpose]))
    if finished(purpose, event.word):  # a person did it alone
        return done, ()
    act = Act(purpose, "intent", seat.attempts + 1)
    return replace(seat, act=act, attempts=act.attempt), (Do(act),)


def _within(seat: Seat, event: Requested | Answered | Spoiled | Broken | Refused | Shown) -> Step:
    """Judge what happens within the open act."""
    act = seat.act
    if act is None:
        return _no(seat, "no act on the seat is open")
    match event:
        case Requested():
            return _at(seat, "requested" if act.phase == "intent" else act.phase), ()
        case Answered():
            if act.phase == "intent":
                return _no(seat, "no request was made")
            return _at(seat, "answered"), ()  # which says what came of this very request
        case Spoiled():
            return _at(seat, "requested" if act.phase == "answered" else act.phase), ()
        case Broken():
            return _at(seat, "unknown"), ()
        case Refused():
            if act.phase == "unknown":  # the refusal may be of the second try: the first got it
                return seat, (AskMaker(act),)
            return replace(seat, act=None), ()
        case Shown():
            if finished(act.purpose, event.word):
                return replace(seat, stage=ENDS[act.purpose], act=None), ()
            doubt = _at(seat, "unknown")
            assert doubt.act is not None
            return doubt, (AskMaker(doubt.act),)


def _at(seat: Seat, phase: Phase) -> Seat:
    assert seat.act is not None
    return replace(seat, act=replace(seat.act, phase=phase))


def contradicts(holder: Holder, at: At, word: Word) -> bool:
    """Return whether what a program at ``at`` says cannot be so where ``holder`` has the seat."""
    if at == "between":
        return False
    return word == "active" if holder != at else word in ("not", "other")


_AS_TOLD: Mapping[Holder, Mapping[bool, Stage]] = {
    "old": {False: "verified", True: "returned"},
    "nobody": {False: "released", True: "renounced"},
}
"""The stage by who holds the seat, and whether new has renounced it."""


def _told(seat: Seat, event: Told) -> Step:
    """Take the maker's word; that new holds the seat is certain on new only."""
    if seat.stage == "known":
        return _no(seat, "the seat was not looked at yet")
    if contradicts(event.holder, event.at, event.word):
        return _no(seat, f"the program on {event.at} says otherwise")
    act = seat.act
    if act is not None and event.at != AT[act.purpose]:
        where = AT[act.purpose]
        return _no(seat, f"a {act.purpose} is open on {where}, which could go on with it")
    if act is None and seat.stage in ("noted", "verified") and event.at != "old":
        return _no(seat, "the seat is with old, so it is to be said there")
    if act is None and seat.stage in ("claimed", "returned"):
        holder = "new" if seat.stage == "claimed" else "old"
        if event.holder != holder and event.at != holder:
            return _no(seat, f"the seat is with {holder}, so it is to be said there")
    if event.holder != "new":
        renounced = seat.stage in ("renounced", "returned")
        return replace(seat, stage=_AS_TOLD[event.holder][renounced], act=None), ()
    if event.at == "new" or seat.stage == "claimed":
        return replace(seat, stage="claimed", act=None), ()
    claim = Act("claim", "unknown", seat.attempts + 1)
    return replace(seat, stage="released", act=claim, attempts=claim.attempt), ()


# In words, and as plain values

_STAGES: Mapping[Stage, str] = {
    "known": "not looked at yet",
    "noted": "active on old, its serial noted",
    "verified": "active on old, and may be released",
    "released": "released: no machine holds it",
    "claimed": "claimed on new",
    "renounced": "released, and new will not claim it",
    "returned": "back on old",
    "settled": "settled",
}
_BEFORE: Mapping[Purpose, str] = {
    "release": "active on old before",
    "claim": "released on old",
    "return": "released on old, and renounced by new",
}
_PHASES: Mapping[Phase, str] = {
    "intent": "begun",
    "requested": "requested",
    "answered": "answered, not registered yet",
    "unknown": "in doubt",
}


def words_of(seat: Seat) -> str:
    """Return what is known of a seat in words."""
    words = _STAGES[seat.stage]
    if seat.act is not None:
        words = f"{_BEFORE[seat.act.purpose]}; its {seat.act.purpose} is {_PHASES[seat.act.phase]}"
    return f"given up by a person ({words})" if seat.given_up else words


def todo_of(seat: Seat, old: str, new: str, parcel: str = "PARCEL", item: str = "") -> str:
    """Return what is to be done next with a seat that goes from ``old`` to ``new``, with the
    command; an empty text where nothing is.

    ``parcel`` and ``item`` are what a command is told.
    """
    if seat.at_end:
        return ""
    walk, seat_of = f"widetrail walk {parcel}", f"{parcel} {item}".strip()
    act = seat.act
    if seat.given_up:
        back = act.purpose != "claim" if act is not None else seat.stage == "renounced"
        verb = "return" if back else "claim"
        return (
            f"To have the licence moved after all: widetrail seat {verb} {seat_of}. To have it "
            f"freed or moved by its maker: widetrail seat letter {seat_of}."
        )
    if act is None:
        return {
            "known": f"Walk on {old}: {walk}.",
            "noted": f"Walk on {new}: {walk}. What arrives is verified before the seat is "
            "released.",
            "verified": f"Walk on {old}: {walk}. The seat is released there.",
            "released": f"Walk on {new}: {walk}. The seat is claimed there. To have it back on "
            f"{old} instead: widetrail seat return {seat_of}.",
            "renounced": f"Walk on {old}: {walk}. The seat is taken back there.",
        }[seat.stage]
    at = new if act.purpose == "claim" else old
    if act.phase == "requested":
        return (
            f"Walk on a machine with a network: {walk} --as between. The request is taken to the "
            "maker there."
        )
    if act.phase == "answered":
        return f"Walk on {at}: {walk}. The answer is registered there."
    if act.phase == "unknown":
        return (
            f"Walk on {at}: {walk}. It is asked exactly as before, or you say there what the "
            f"maker says; this writes to them: widetrail seat letter {seat_of}."
        )
    return f"Walk on {at}: {walk}. The {act.purpose} goes on."


def meanwhile_of(seat: Seat, old: str, new: str) -> str:
    """Return who can use the licence as long as nothing is done; an empty text at the end."""
    if seat.at_end:
        return ""
    act = seat.act
    if act is None:
        none = f"neither {old} nor {new} has the licence"
        return f"Until then {none if seat.stage in _FREE else f'{old} keeps the licence'}."
    if act.purpose == "claim":
        return f"Until then {old} does not have the licence, and {new} may not have it."
    if act.purpose == "return":
        return f"Until then {new} does not have the licence, and {old} may not have it."
    return f"Until then {old} may have lost the licence already, and {new} cannot claim it."


_FREE: frozenset[Stage] = frozenset({"released", "renounced"})
"""The stages at which no machine holds the seat."""


_EVENTS: Mapping[str, type[Any]] = {
    "adopted": Adopted,
    "noted": Noted,
    "verified": Verified,
    "begin": Begin,
    "requested": Requested,
    "answered": Answered,
    "spoiled": Spoiled,
    "broken": Broken,
    "refused": Refused,
    "shown": Shown,
    "told": Told,
    "renounced": Renounced,
    "gone": Gone,
    "settled": Settled,
    "given up": GivenUp,
    "taken up": TakenUp,
}
_NAMES = {kind: name for name, kind in _EVENTS.items()}
assert set(_NAMES) == set(get_args(Event))


def event_facts(event: Event) -> dict[str, str | None]:
    """Return an event as plain JSON values."""
    return {"what": _NAMES[type(event)], **asdict(event)}


def event_of(facts: Mapping[str, Any]) -> Event:
    """Return the event that ``event_facts`` told; other values beside it are not read.

    Raises:
        KeyError, ValueError: It is none.
    """
    kind = _EVENTS[facts["what"]]
    event: Event = _shape_of(facts["what"]).validate_python(
        {n: facts[n] for n in kind.__slots__ if n in facts}
    )
    return event


@cache
def _shape_of(what: str) -> TypeAdapter[Event]:
    return TypeAdapter(_EVENTS[what])


def replay(events: Iterable[Mapping[str, Any]]) -> Seat:
    """Return the seat as ``events`` leave it."""
    seat = Seat()
    for facts in events:
        seat, _ = step(seat, event_of(facts))
    return seat
