"""What a station's journal holds, as values: each event is a model of its own.

A journal that was written down may have been changed since, so each value has its bounds here.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Annotated, ClassVar

from pydantic import ConfigDict, Field

from widetrail.finding.stores import StoreKind
from widetrail.formats.stored_values import Mode, Moment, Text, Told, Truth
from widetrail.machine.moves import Move
from widetrail.steps.outcomes import Fact, WrittenOutcome


class Record(Told):
    """A record of a station's journal; ``at`` is its place there, -1 while it has none."""

    model_config = ConfigDict(extra="ignore", frozen=True)

    event: ClassVar[str]
    """The code of what happened, as files hold it."""

    ends_moves: ClassVar[bool] = False
    """Whether every move is made that its step told before."""

    at: Annotated[int, Field(exclude=True)] = -1

    def plain(self) -> dict[str, Fact]:
        """Return the record as plain JSON values."""
        return {"event": self.event, **self.model_dump(mode="json", exclude_unset=True)}

    def paths(self) -> Iterator[str]:
        """Give the paths that it names, those of the run's own folders among them."""
        yield from ()


class StepRecord(Record):
    """A record that is about a step."""

    step: Text


class StepBegun(StepRecord):
    """A step is begun; it is ``loose`` where it says that it changes nothing."""

    event = "step begun"

    kind: Text
    words: Text
    loose: Truth


class StepEnded(StepRecord):
    """A step came to its end, well or not."""

    event = "step done"

    outcome: WrittenOutcome

    @property
    def well(self) -> bool:
        """Whether it came out well."""
        return self.outcome.state == "done"


class ToBeDoneAgain(StepRecord):
    """What came of a step before is over; ``generation`` is the parcel's that says so, if any."""

    event = "to be done again"

    generation: Text = ""


class Changing(StepRecord):
    """Moves that are going to be made, with the times and modes that folders have before."""

    moves: tuple[Move, ...] = ()
    times: dict[Text, Moment] = Field(default_factory=dict)
    modes: dict[Text, Mode] = Field(default_factory=dict)

    def paths(self) -> Iterator[str]:
        """Give every path that it names."""
        yield from (path for move in self.moves for path in (move.source, move.target))


class Moves(Changing):
    """The moves by which a step changes places; ``aside`` is where what was there is kept."""

    event = "moves"

    aside: tuple[Text, ...] = ()


class Appeared(Changing):
    """Something appeared in the way of a move, and is put aside."""

    event = "appeared"


class OfPlace(Changing):
    """A record about what is saved of a place."""

    place: Text


class Saved(OfPlace):
    """What was at a place is kept, if anything was, and a copy of it put there.

    ``missing`` are the folders above it that were not there.
    """

    event = "saved"

    kept: Text
    missing: tuple[Text, ...]

    def paths(self) -> Iterator[str]:
        """Give every path that it names."""
        yield self.kept
        yield from super().paths()


class PuttingBack(OfPlace):
    """What was saved of a place is going to be given back by the walk itself."""

    event = "putting back"


class PutBack(OfPlace):
    """What was saved of a place was given back by the walk itself."""

    event = "put back"


class LetGo(OfPlace):
    """What was kept of a place was let go of, since an earlier step keeps it too."""

    event = "let go"

    kept: Text

    def paths(self) -> Iterator[str]:
        """Give every path that it names."""
        yield self.kept


class ValuesSaving(StepRecord):
    """What values of a store are is going to be kept at a path, before they are changed."""

    event = "values saving"

    kept: Text
    store: StoreKind
    place: Text

    def paths(self) -> Iterator[str]:
        """Give every path that it names."""
        yield self.kept


class ValuesSaved(StepRecord):
    """What values of a store were is kept at a path."""

    event = "values saved"

    kept: Text

    def paths(self) -> Iterator[str]:
        """Give every path that it names."""
        yield self.kept


OWN: tuple[type[Record], ...] = (
    StepBegun,
    StepEnded,
    ToBeDoneAgain,
    Moves,
    Appeared,
    Saved,
    PuttingBack,
    PutBack,
    LetGo,
    ValuesSaving,
    ValuesSaved,
)
"""The records that any kind of step may write."""
