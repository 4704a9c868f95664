"""Seats of licences: where each is, and other ways for it than planned."""

from __future__ import annotations

import os
from datetime import UTC, datetime
from pathlib import Path
from typing import Literal

from widetrail.errors import InputUnusable, not_written
from widetrail.library.recipes import Where
from widetrail.licence.letter import SERIAL
from widetrail.machine import Effects, Machine
from widetrail.parcel import Parcel
from widetrail.planning import Plan
from widetrail.walking import (
    Company,
    SeatLine,
    bring_back,
    claim_after_all,
    fetch_again,
    give_up,
    ledger_of_machine,
    ledger_of_parcel,
    letter_to_maker,
    seat_line,
    serial_of,
    unseal,
)

SeatWay = Literal["return", "claim", "give up", "fetch"]
"""Another way for a seat: back to the old computer, claimed on the new one after all, nothing more
done with it in this move, or the maker's answer fetched once more."""


def seats(of: Where | Machine) -> tuple[SeatLine, ...]:
    """Return where the seats of licences are, as a parcel or a machine's own ledger has it.

    Raises:
        ParcelUnusable: The folder is not a parcel, or is damaged.

    Example:
        >>> [seat.title for seat in seats("media/usb-stick/first")]
        []
    """
    if isinstance(of, str | os.PathLike):
        return ledger_of_parcel(Parcel(Path(of), Effects()))
    return ledger_of_machine(of)


def replan_seat(
    parcel: Where, item: str, way: SeatWay, *, old_is_gone: bool = False, new_is_gone: bool = False
) -> Plan:
    """Plan another way for a seat; the parcel holds the new plan.

    ``item`` is ``recipe.item``, or empty where the parcel moves one seat. Where a computer cannot
    be walked on any more, the person answers for it at the other one.

    Raises:
        Halted: The seat cannot go that way now; the error says why.
        InputUnusable: The parcel moves no such seat.

    Example:
        >>> replan_seat("media/usb-stick/office", "", "return").legs[-1].station  # doctest: +SKIP
        'old'
    """
    opened, now = Parcel(Path(parcel), Effects()), datetime.now(UTC)
    line = seat_line(opened, item)
    if way == "return":
        return bring_back(opened, line, now, gone=new_is_gone)
    if way == "claim":
        return claim_after_all(opened, line, now, gone=old_is_gone)
    return give_up(opened, line, now) if way == "give up" else fetch_again(opened, line, now)


def letter(parcel: Where, item: str = "") -> str:
    """Return a text to the maker about a seat, with a blank where the serial belongs.

    Raises:
        InputUnusable: The parcel moves no such seat.
    """
    opened = Parcel(Path(parcel), Effects())
    return letter_to_maker(opened, seat_line(opened, item), SERIAL)


def write_letter(parcel: Where, item: str, to: Where, company: Company) -> None:
    """Write that text with the serial in it to a new file that only you can read.

    ``company`` is asked for the passphrase of the parcel.

    Raises:
        InputUnusable: The parcel moves no such seat, or the file cannot be written or lies in the
            parcel.
        Waiting: The passphrase is not known.
    """
    opened, file = Parcel(Path(parcel), Effects()), Path(to)
    line = seat_line(opened, item)
    unseal(opened, company)
    text = letter_to_maker(opened, line, serial_of(opened, line))
    if file.resolve().is_relative_to(Path(parcel).resolve()):
        todo = "Name a file on this machine."
        raise InputUnusable("the serial would lie open in the parcel", where=str(to), todo=todo)
    try:
        handle = os.open(file, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
    except OSError as error:
        raise not_written(to, error) from error
    with os.fdopen(handle, "w", encoding="utf-8") as written:
        written.write(text)
