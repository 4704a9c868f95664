"""The shapes of what journals and ledgers hold; see ``formats.stored_values``."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from datetime import datetime
from typing import Annotated, Any

from pydantic import AfterValidator, Field, StrictInt, model_validator

from widetrail.formats.stored_values import Count, Mode, Moment, Text, Told, Truth, plain_values
from widetrail.machine.moves import MoveKind
from widetrail.parcel.logbook import SeatRecord
from widetrail.steps import read_outcome, record_of
from widetrail.steps.outcomes import WrittenOutcome

Judge = Callable[[Any], None]
"""Told a record; raises ``ValueError`` where it is none."""


def _when(text: str) -> str:
    datetime.fromisoformat(text)
    return text


When = Annotated[Text, AfterValidator(_when)]
_Move = tuple[MoveKind, Text, Text]
_Command = Annotated[list[Text], Field(min_length=1)]


class _Store(Told):
    kind: Text
    place: Text


class _Act(Told):
    moves: list[_Move] = Field(default_factory=list)
    command: list[Text] = Field(default_factory=list)
    values: tuple[()] | tuple[Text, Text, Text] = ()
    modes: dict[Text, Mode] = Field(default_factory=dict)


class _Record(Told):
    """A record of a station's journal: its event, and what that needs."""

    event: Text
    step: Text = ""
    kind: Text = ""
    words: Text = ""
    loose: Truth = False
    outcome: WrittenOutcome | None = None
    leg: Count = 0
    plan: Text = ""
    generation: Text = ""
    turn: Count = 0
    time: When = "1970-01-01"
    count: Count = 0
    read: tuple[Count, Count] | None = None
    moves: list[_Move] = Field(default_factory=list)
    times: dict[Text, Moment] = Field(default_factory=dict)
    modes: dict[Text, Mode] = Field(default_factory=dict)
    missing: list[Text] = Field(default_factory=list)
    path: Text = ""
    place: Text = ""
    kept: Text = ""
    store: _Store | None = None
    places: dict[Text, dict[Text, Text]] = Field(default_factory=dict)
    programs: dict[Text, list[Text]] = Field(default_factory=dict)
    locks: dict[Text, list[Text]] = Field(default_factory=dict)
    to: Text = ""
    command: _Command = Field(default_factory=lambda: ["-"])
    before: Truth | None = None
    pid: Count = 0
    started: Annotated[float, Field(ge=0, lt=1e12, allow_inf_nan=False)] = 0
    trouble: Text = ""
    status: StrictInt | None = None
    tells: dict[Text, Text] = Field(default_factory=dict)
    done: Truth | None = None
    acts: list[_Act] = Field(default_factory=list)
    cannot: list[Text] = Field(default_factory=list)
    act: Count = 0
    wrong: list[Text] = Field(default_factory=list)

    @model_validator(mode="after")
    def _holds_what_its_event_needs(self) -> _Record:
        if lacking := _NEEDED.get(self.event, set()) - self.model_fields_set:
            raise ValueError(f"a record of {self.event!r} holds no {', '.join(sorted(lacking))}")
        return self


_NEEDED: Mapping[str, set[str]] = {
    "pinned": {"places"},
    "leg begun": {"leg", "generation", "time"},
    "step begun": {"step", "kind", "words", "loose"},
    "step done": {"step", "outcome"},
    "made folders": {"count"},
    "cargo checked": {"generation"},
    "moves": {"step", "moves"},
    "appeared": {"step", "moves"},
    "saved": {"step", "place", "kept", "missing"},
    "putting back": {"step", "place", "moves"},
    "put back": {"step", "place"},
    "let go": {"step", "place", "kept"},
    "values saving": {"step", "kept", "store"},
    "values saved": {"step", "kept"},
    "run begun": {"step"},
    "run started": {"step", "pid", "started"},
    "run ended": {"step", "trouble", "status", "tells"},
    "undone by": {"step", "command", "before"},
    "fetched": {"place", "path", "kept"},
    "detached": {"to"},
    "undo begun": {"time", "acts", "cannot"},
    "undo ran": {"act"},
    "undone": {"wrong"},
}


def judge_record(record: Any) -> None:
    """Raise where a record of a journal is none."""
    told = _Record.model_validate(plain_values(record))
    if (own := record_of(told.event)) is not None:
        own.model_validate(record)
    if told.outcome is not None:
        read_outcome(record["outcome"])


def judge_seat(record: Any) -> None:
    """Raise where a record of a ledger is none."""
    SeatRecord.model_validate(plain_values(record))
