"""What a walk writes to a station's journal beside what its steps do, and reading it again."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime
from typing import Annotated

from pydantic import AfterValidator, Field

from widetrail.formats.stored_values import Count, Moment, Text, plain_values
from widetrail.parcel.events import LEG_DONE, LEG_HALTED, LEG_MENDED, TOPPED_UP
from widetrail.parcel.seat_record import SeatRecord
from widetrail.steps import read_outcome, record_of
from widetrail.steps.journal_events import Record, StepEnded
from widetrail.steps.undo import UndoAct


def _when(text: str) -> str:
    datetime.fromisoformat(text)
    return text


When = Annotated[Text, AfterValidator(_when)]


class MadeFolders(Record):
    """So many folders were made for the run's own, above its own too."""

    event = "made folders"

    count: Count


class Pinned(Record):
    """Where things were when the first leg was begun here, each by the recipe it is of."""

    event = "pinned"

    places: dict[Text, dict[Text, Text]]
    programs: dict[Text, tuple[Text, ...]] = Field(default_factory=dict)
    locks: dict[Text, tuple[Text, ...]] = Field(default_factory=dict)


class Seen(Record):
    """A state of the parcel was here: ``generation`` is its digest."""

    generation: Text


class CargoChecked(Seen):
    """The cargo was found whole; ``read`` is how many files and bytes were read for it."""

    event = "cargo checked"

    read: tuple[Count, Count] | None = None


class OfLeg(Seen):
    """A record about a leg, by its number."""

    leg: Count


class LegBegun(OfLeg):
    """A walk of a leg begins; ``turn`` is one more than that of any walk on the machine before."""

    event = "leg begun"

    plan: Text = ""
    turn: Count = 0
    time: When


class LegWasDone(OfLeg):
    """A leg is at its end."""

    event = LEG_DONE


class LegWasHalted(OfLeg):
    """A walk is at its end, and its leg is not."""

    event = LEG_HALTED


class LegWasMended(OfLeg):
    """Steps of a leg that is at its end were done once more."""

    event = LEG_MENDED


LegEnded = LegWasDone | LegWasHalted | LegWasMended


class ToppedUp(Seen):
    """What changed on old was packed."""

    event = TOPPED_UP


class Fetched(Record):
    """A file that was made elsewhere was brought here: its name, and its path in the parcel."""

    event = "fetched"

    place: Text
    path: Text
    kept: Text


class Detached(Record):
    """What is left of the parcel lies on this machine now."""

    event = "detached"

    to: Text


class UndoBegun(Record):
    """The run is going to be undone by these acts; what ``cannot`` be is told in words."""

    event = "undo begun"

    time: When
    acts: tuple[UndoAct, ...]
    cannot: tuple[Text, ...]
    times: dict[Text, Moment] = Field(default_factory=dict)

    def paths(self) -> Iterator[str]:
        """Give every path that it names."""
        moves = (move for act in self.acts for move in act.moves)
        yield from (path for move in moves for path in (move.source, move.target))


class UndoRan(Record):
    """The command of an act was run while the run was undone."""

    event = "undo ran"

    act: Count


class Undone(Record):
    """The run was undone; ``wrong`` is what went wrong with commands, in words."""

    event = "undone"

    wrong: tuple[Text, ...]


_OWN: tuple[type[Record], ...] = (
    MadeFolders,
    Pinned,
    CargoChecked,
    LegBegun,
    LegWasDone,
    LegWasHalted,
    LegWasMended,
    ToppedUp,
    Fetched,
    Detached,
    UndoBegun,
    UndoRan,
    Undone,
)
_EVENTS = {record.event: record for record in _OWN}


def read_record(at: int, told: object) -> Record:
    """Return the record of a journal that ``told`` was written from, ``at`` its place there.

    Raises:
        ValueError: It is none.
    """
    plain_values(told)
    event = told.get("event") if isinstance(told, dict) else None
    model = _EVENTS.get(event) or record_of(event) if isinstance(event, str) else None
    if model is None or not isinstance(told, dict):
        raise ValueError(f"{event!r} is not an event of a journal")
    record = model.model_validate({**told, "at": at})
    if isinstance(record, StepEnded):
        read_outcome(record.outcome)
    return record


def read_seat(_at: int, told: object) -> SeatRecord:
    """Return the record of a ledger that ``told`` was written from.

    Raises:
        ValueError: It is none.
    """
    return SeatRecord.model_validate(plain_values(told))
