"""Another way for a seat than the one that was planned: back to old, on to new after all, given up.

What the parcel's plan has still to do with the seat is planned anew; the walk then does it.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from datetime import datetime

from widetrail.errors import Halted, InputUnusable
from widetrail.findings import did_you_mean
from widetrail.licence.letter import letter
from widetrail.licence.seat import Refuse, step
from widetrail.licence.seat_events import Event, GivenUp, Gone, Renounced, Seat, Spoiled, TakenUp
from widetrail.licence.seat_words import words_of
from widetrail.licence.terms import Purpose
from widetrail.parcel import Parcel
from widetrail.parcel.layout import SERIAL
from widetrail.parcel.seat_record import SeatPlace, SeatRecord, seat_record, turn_of
from widetrail.planning import Plan
from widetrail.planning.licences import SoFar, plan_claim, plan_return, plan_without
from widetrail.recipe import Loaded
from widetrail.steps import KINDS
from widetrail.walking.seats import (
    SeatLine,
    answer_steps,
    ledger_of_parcel,
)


def seat_line(parcel: Parcel, item: str) -> SeatLine:
    """Return what a parcel tells of the seat ``item`` (or ``recipe``, where that has one).

    Raises:
        InputUnusable: The parcel moves no such seat.
    """
    lines = ledger_of_parcel(parcel)
    found = [ln for ln in lines if item in ("", ln.item) or ln.item.partition(".")[0] == item]
    if len(found) != 1:
        known = [line.item for line in lines]
        hint = did_you_mean(item, known) or f"Available: {', '.join(known) or 'none'}."
        raise InputUnusable("specify the seat", where=item or str(parcel.folder), todo=hint)
    return found[0]


def _recipe(parcel: Parcel, line: SeatLine) -> Loaded:
    planned = parcel.plan.item(line.item)
    return next(r for r in parcel.recipes(KINDS) if r.id == planned.recipe)


def _so_far(parcel: Parcel, line: SeatLine) -> SoFar:
    return SoFar(len(parcel.legs_done), _well(parcel), line.seat.stage)


def _well(parcel: Parcel) -> frozenset[str]:
    """Return the steps that came out well."""
    return frozenset(s for s, outcome in parcel.outcomes.items() if outcome.well)


def _insist(line: SeatLine, may: bool, wanted: str) -> None:
    if not may:
        raise Halted(
            f"the seat of {line.title} cannot be {wanted} now",
            why=f"it is {line.words}",
            todo=line.todo or "There is nothing more to do with it in this move.",
        )


def _taken_up(parcel: Parcel, line: SeatLine, now: datetime) -> tuple[SeatLine, list[SeatRecord]]:
    """Return a seat that was given up as it is once it is taken up again, with the record of it."""
    if not line.seat.given_up:
        return line, []
    record, seat = _record(parcel, line, now, TakenUp())
    return replace(line, seat=seat), [record]


def _record(parcel: Parcel, line: SeatLine, now: datetime, event: Event) -> tuple[SeatRecord, Seat]:
    """Return the record of what a person has happen to a seat, and the seat after it."""
    seat, _ = step(line.seat, event)
    told = parcel.seats(line.item)
    where = SeatPlace(line.title, _PERSON, _PERSON, "", len(told) + 1, turn_of(told))
    time = now.isoformat(timespec="seconds")
    return seat_record(parcel.run, line.item, where, time, event, seat), seat


_PERSON = "a person"
"""The station and machine of what happens to a seat at no station."""


def _may(seat: Seat, event: Event) -> bool:
    return not any(isinstance(effect, Refuse) for effect in step(seat, event)[1])


def _is_planned(parcel: Parcel, line: SeatLine, purpose: Purpose) -> bool:
    """Return whether steps of an act are in the parcel's plan that are still to be done."""
    well = _well(parcel)
    mine = (s for s in parcel.plan.steps if s.item == line.item and s.id not in well)
    return any(s.purpose_is(purpose) for s in mine)


def bring_back(parcel: Parcel, line: SeatLine, now: datetime, *, gone: bool) -> Plan:
    """Plan that a seat which was released comes back to old; new renounces it first.

    Where new is ``gone``, a person answers for it on old instead.

    Raises:
        Halted: The seat is not so that it can be brought back.
    """
    line, told = _taken_up(parcel, line, now)
    seat = line.seat
    goes_on = seat.act is not None and seat.act.purpose == "return"
    may = _may(seat, Gone("new")) if gone else _may(seat, Renounced("not"))
    may = may or (goes_on and not gone and not _is_planned(parcel, line, "return"))
    _insist(line, may, "brought back")
    so_far = _so_far(parcel, line)
    plan = plan_return(parcel.plan, _recipe(parcel, line), line.item, so_far, gone=gone)
    parcel.renew(plan, now, told)
    return plan


def claim_after_all(parcel: Parcel, line: SeatLine, now: datetime, *, gone: bool) -> Plan:
    """Plan that a seat is claimed on new after all: it was to be brought back or given up, or old
    is ``gone``.

    Raises:
        Halted: The seat is not so that it can be claimed.
    """
    known = line.seat.given_up and line.seat.stage in ("noted", "verified")
    line, told = _taken_up(parcel, line, now)
    seat = line.seat
    free = seat.act is None and (seat.stage == "released" or known)
    goes_on = seat.act is not None and seat.act.purpose != "return"
    goes_on = goes_on and not _is_planned(parcel, line, "claim")
    may = _may(seat, Gone("old")) if gone else free or goes_on
    _insist(line, may, "claimed")
    so_far = _so_far(parcel, line)
    plan = plan_claim(parcel.plan, _recipe(parcel, line), line.item, so_far, gone=gone)
    parcel.renew(plan, now, told)
    return plan


def give_up(parcel: Parcel, line: SeatLine, now: datetime) -> Plan:
    """Give a seat up: nothing more is done with it in this move, until it is taken up again.

    Raises:
        Halted: It is at its end, or was given up.
    """
    _insist(line, not (line.seat.at_end or line.seat.given_up), "given up")
    record, _ = _record(parcel, line, now, GivenUp())
    plan = plan_without(parcel.plan, line.item, _so_far(parcel, line))
    parcel.renew(plan, now, [record])
    return plan


def fetch_again(parcel: Parcel, line: SeatLine, now: datetime) -> Plan:
    """Have the maker's answer fetched once more, where what came of it cannot be used.

    Raises:
        Halted: No answer is there that is to be registered.
    """
    act = line.seat.act
    steps = [s for s in answer_steps(parcel.plan, line.item) if s in parcel.outcomes]
    _insist(line, act is not None and act.phase != "intent" and bool(steps), "asked for again")
    record, _ = _record(parcel, line, now, Spoiled())
    parcel.renew(parcel.plan, now, [record], steps)
    return parcel.plan


def letter_to_maker(parcel: Parcel, line: SeatLine, serial: str) -> str:
    """Return the text of a letter to the maker of a licence's program; see ``licence.letter``."""
    application = _recipe(parcel, line).recipe.application
    about = application.name, application.maker, serial, line.old, line.new
    return letter(*about, line.seat, line.history)


def serial_of(parcel: Parcel, line: SeatLine) -> str:
    """Return the serial of a licence, which an opened parcel holds.

    Raises:
        Halted: It was not kept yet.
        Waiting: The parcel is sealed, and its passphrase was not given.
    """
    kept: Mapping[tuple[str, str], str] = parcel.secrets()
    if (line.item, SERIAL) not in kept:
        raise Halted(
            f"the serial of {line.title} is not in this parcel",
            why=words_of(line.seat),
            todo=f"Walk on {line.old} first.",
        )
    return kept[line.item, SERIAL]
