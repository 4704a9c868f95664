"""A letter to a maker, for where only they can say who holds a seat, or move it by hand."""

from __future__ import annotations

from collections.abc import Sequence

from widetrail.licence.seat_events import Seat

SERIAL = "‹serial›"
"""What stands for the serial where it is not to be shown."""


def letter(
    application: str,
    maker: str,
    serial: str,
    old: str,
    new: str,
    seat: Seat,
    history: Sequence[tuple[str, str, str]],
) -> str:
    """Return the text of a letter that holds what a maker needs.

    ``history`` has the time, machine and words of each thing that happened.
    """
    lines = [
        f"To {maker or f'the maker of {application}'}",
        "",
        f"We are moving {application} from the computer {old} to the computer {new}.",
        f"Serial: {serial}",
        "",
        "What happened so far:",
        *(f"  {time}  {machine}: {words}" for time, machine, words in history),
        *(["  nothing yet"] if not history else []),
        "",
        "Please tell us:",
        f"  1. Which computer holds the seat of this serial by your records: {old}, {new}, none?",
        f"  2. {_request(seat, old, new)}",
        "",
    ]
    return "\n".join(lines)


def _request(seat: Seat, old: str, new: str) -> str:
    act = seat.act
    if act is not None and act.purpose == "return":
        return f"Please let {old} have the seat again, and take it from {new} if it is there."
    if act is not None and act.purpose == "claim":
        return f"Please let {new} have the seat, or free it, so that it can be claimed again."
    if seat.stage in ("released", "renounced"):
        return f"Please see to it that the seat is free, so that {new} or {old} can claim it."
    if seat.stage == "claimed":
        return f"Please take the seat from {new}, where it can no longer be released."
    return f"Please release the seat of {old}, so that {new} can claim it."
