"""Another way for a seat than the one that was planned: back to old, on to new after all, given up.

What the parcel's plan has still to do with the seat is planned anew; the walk then does it.
"""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime

from widetrail.errors import Halted, InputUnusable
from widetrail.findings import did_you_mean
from widetrail.licence.letter import letter
from widetrail.licence.seat import GivenUp, step, words_of
from widetrail.parcel import Parcel
from widetrail.parcel.parcel import SERIAL
from widetrail.planning import Plan
from widetrail.planning.licences import SoFar, plan_claim, plan_return, plan_without
from widetrail.recipe import Loaded
from widetrail.steps import KINDS
from widetrail.walking.doing import came_well
from widetrail.walking.seats import SeatLine, ledger_of_parcel, record_of


def seat_line(parcel: Parcel, item: str) -> SeatLine:
    """Return what a parcel tells of the seat ``item`` (or ``recipe``, where that has one).

    Raises:
        InputUnusable: The parcel moves no such seat.
    """
    lines = ledger_of_parcel(parcel)
    found = [ln for ln in lines if item in ("", ln.item) or ln.item.partition(".")[0] == item]
    if len(found) != 1:
        known = [line.item for line in lines]
        hint = did_you_mean(item, known) or f"There are: {', '.join(known) or 'none'}."
        raise InputUnusable("which seat is meant?", where=item or str(parcel.folder), todo=hint)
    return found[0]


def _recipe(parcel: Parcel, line: SeatLine) -> Loaded:
    planned = parcel.plan.item(line.item)
    return next(r for r in parcel.recipes(KINDS) if r.id == planned.recipe)


def _so_far(parcel: Parcel, line: SeatLine) -> SoFar:
    well = frozenset(s for s, outcome in parcel.outcomes.items() if came_well(outcome))
    return SoFar(len(parcel.legs_done), well, line.seat.stage == "renounced")


def _insist(line: SeatLine, may: bool, wanted: str) -> None:
    if not may:
        raise Halted(
            f"the seat of {line.title} cannot be {wanted} now", why=f"it is {line.words}",
            todo=line.todo or "There is nothing more to do with it.",
        )  # fmt: skip


def bring_back(parcel: Parcel, line: SeatLine, now: datetime, *, gone: bool) -> Plan:
    """Plan that a seat which was released comes back to old; new renounces it first.

    Where new is ``gone``, a person answers for it on old instead.

    Raises:
        Halted: The seat is not so that it can be brought back.
    """
    seat = line.seat
    free = seat.stage == "renounced" or (seat.act is None and seat.stage == "released")
    lost = seat.stage in ("released", "claimed") and (not seat.act or seat.act.purpose == "claim")
    _insist(line, free or (gone and lost), "brought back")
    loaded = _recipe(parcel, line)
    plan = plan_return(parcel.plan, loaded, line.item, _so_far(parcel, line), gone=gone)
    parcel.renew(plan, now)
    return plan


def claim_after_all(parcel: Parcel, line: SeatLine, now: datetime, *, gone: bool) -> Plan:
    """Plan that a seat is claimed on new after all: it was to be brought back, or old is ``gone``.

    Raises:
        Halted: The seat is not so that it can be claimed.
    """
    seat = line.seat
    free = seat.act is None and seat.stage == "released"
    theirs = seat.act is None or seat.act.purpose in ("release", "return")
    _insist(line, free or (gone and seat.stage != "claimed" and theirs), "claimed")
    loaded = _recipe(parcel, line)
    plan = plan_claim(parcel.plan, loaded, line.item, _so_far(parcel, line), gone=gone)
    parcel.renew(plan, now)
    return plan


def give_up(parcel: Parcel, line: SeatLine, now: datetime) -> Plan:
    """Give a seat up: nothing more is done with it in this move.

    Raises:
        Halted: It is at its end.
    """
    _insist(line, not line.seat.at_end, "given up")
    seat, _ = step(line.seat, GivenUp())
    where = {
        "title": line.title, "station": "a person", "machine": "a person", "partner": "",
        "n": len(parcel.seats(line.item)) + 1,
    }  # fmt: skip
    record = record_of(parcel, line.item, where, now, GivenUp(), seat)
    plan = plan_without(parcel.plan, line.item, _so_far(parcel, line))
    parcel.tell_seats({"seats": [record], "machine": "a person"})
    parcel.renew(plan, now)
    return plan


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
            f"the serial of {line.title} is not in this parcel", why=words_of(line.seat),
            todo=f"Walk on {line.old} first.",
        )  # fmt: skip
    return kept[line.item, SERIAL]
