"""What happened to a seat, as ledgers of machines and logbooks of parcels hold it."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING, NamedTuple, Self

from pydantic import ConfigDict, model_validator

from widetrail.formats.stored_values import Count, Text, Told, Truth
from widetrail.licence.terms import Phase, Purpose, Stage
from widetrail.steps import Fact

if TYPE_CHECKING:  # few moves have a licence
    from widetrail.licence.seat_events import Event, Seat


class SeatKey(NamedTuple):
    """What tells a record from every other of its run: where it was written, and its number."""

    station: str
    number: int


class SeatRecord(Told):
    """What happened to a seat: where and when, the event with its own values, the seat after it.

    ``partner`` is the machine at the other end; ``n`` numbers the records of a run at a station,
    ``turn`` is one more than that of any move which the station knew when this one began.
    """

    model_config = ConfigDict(frozen=True)

    run: Text
    item: Text
    title: Text = ""
    turn: Count = 0
    station: Text
    machine: Text
    partner: Text = ""
    n: Count
    time: Text
    what: Text
    stage: Stage
    act: tuple[Purpose, Phase, Count] | None
    attempts: Count
    given_up: Truth = False

    @model_validator(mode="after")
    def _tells_an_event(self) -> Self:
        try:
            _ = self.happened
        except KeyError as error:
            raise ValueError(f"it does not hold an event: {error}") from error
        return self

    @property
    def happened(self) -> Event:
        """What happened."""
        from widetrail.licence.seat_events import event_of

        return event_of({"what": self.what, "stage": self.stage, **(self.model_extra or {})})

    @property
    def seat(self) -> Seat:
        """The seat after it."""
        from widetrail.licence.seat_events import Act, Seat

        act = Act(*self.act) if self.act is not None else None
        return Seat(self.stage, act, self.attempts, self.given_up)

    @property
    def key(self) -> SeatKey:
        """What tells it from every other of its run."""
        return SeatKey(self.station, self.n)

    def plain(self) -> dict[str, Fact]:
        """Return the record as plain JSON values."""
        return self.model_dump(mode="json", exclude_unset=True)


class SeatPlace(NamedTuple):
    """Where and as what a record is written; see ``SeatRecord``."""

    title: str
    station: str
    machine: str
    partner: str
    number: int
    turn: int


def seat_record(
    run: str, item: str, where: SeatPlace, time: str, event: Event, after: Seat
) -> SeatRecord:
    """Return the record of something that happened to a seat, which is ``after`` it."""
    from widetrail.licence.seat_events import event_facts

    act = after.act
    return SeatRecord.model_validate(
        {
            "event": "seat",
            "run": run,
            "item": item,
            "title": where.title,
            "station": where.station,
            "machine": where.machine,
            "partner": where.partner,
            "n": where.number,
            "turn": where.turn,
            "time": time,
            **event_facts(event),
            "stage": after.stage,
            "act": (act.purpose, act.phase, act.attempt) if act is not None else None,
            "attempts": after.attempts,
            "given_up": after.given_up,
        }
    )


def turn_of(records: Iterable[SeatRecord]) -> int:
    """Return the turn of the move that ``records`` tell of; 0 where there are none."""
    return max((record.turn for record in records), default=0)
