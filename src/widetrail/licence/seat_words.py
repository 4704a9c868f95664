"""How a seat stands in words, and what a person does about it."""

from __future__ import annotations

from collections.abc import Mapping

from widetrail.licence.seat_events import Seat
from widetrail.licence.terms import Phase, Purpose, Stage

_STAGES: Mapping[Stage, str] = {
    "known": "not looked at yet",
    "noted": "active on the old computer, its serial noted",
    "verified": "active on the old computer, and may be released",
    "released": "released: no machine holds it",
    "claimed": "claimed on the new computer",
    "renounced": "released, and the new computer will not claim it",
    "returned": "back on the old computer",
    "settled": "settled",
}


_BEFORE: Mapping[Purpose, str] = {
    "release": "active on the old computer before",
    "claim": "released on the old computer",
    "return": "released on the old computer, and renounced by the new computer",
}


_PHASES: Mapping[Phase, str] = {
    "intent": "begun",
    "requested": "requested",
    "answered": "answered, not registered yet",
    "unknown": "in doubt",
}


_FREE: frozenset[Stage] = frozenset({"released", "renounced"})
"""The stages at which no machine holds the seat."""


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
