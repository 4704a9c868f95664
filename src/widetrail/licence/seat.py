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
from dataclasses import replace

from widetrail.lazily import dataclass
from widetrail.licence.seat_events import (
    Act,
    Adopted,
    Answered,
    Begin,
    Broken,
    Event,
    GivenUp,
    Gone,
    Noted,
    Refused,
    Renounced,
    Requested,
    Seat,
    Settled,
    Shown,
    Spoiled,
    TakenUp,
    Told,
    Verified,
)
from widetrail.licence.seat_words import words_of
from widetrail.licence.terms import AT, BEGINS, ENDS, At, Holder, Phase, Purpose, Stage, Word

# Events


# Effects


@dataclass(frozen=True)
class Do:
    """Do the open act; where it is ``again``, exactly as it was begun."""

    act: Act
    again: bool = False


@dataclass(frozen=True)
class AskMaker:
    """Only the maker, or the program itself later, can say how the open act ended."""

    act: Act


@dataclass(frozen=True)
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
                return _no(seat, "it is not known whether the new computer holds the seat")
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
            return _no(
                seat, f"the seat is {words_of(seat)}, and the program on the old computer is active"
            )
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
        return _no(seat, "the seat is with the old computer, so it is to be said there")
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


def replay(events: Iterable[Event]) -> Seat:
    """Return the seat as ``events`` leave it."""
    seat = Seat()
    for event in events:
        seat, _ = step(seat, event)
    return seat
