"""The seat of a licence, and all that can happen to it, as values and as facts in a file."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, fields
from functools import cache
from typing import Literal, get_args

from pydantic import TypeAdapter

from widetrail.lazily import dataclass
from widetrail.licence.terms import At, Holder, Phase, Purpose, Stage, Word


@dataclass(frozen=True)
class Act:
    """A release, claim or return that was begun: how far it is, and the how manieth it is."""

    purpose: Purpose
    phase: Phase
    attempt: int


@dataclass(frozen=True)
class Seat:
    """What is certain of a seat, the act that is open, and how many were begun so far."""

    stage: Stage = "known"
    act: Act | None = None
    attempts: int = 0
    given_up: bool = False
    """Whether a person wants nothing more done with it in this move."""

    @property
    def in_doubt(self) -> bool:
        """Whether only the program or the maker can say how the open act ended."""
        return self.act is not None and self.act.phase == "unknown"

    @property
    def at_end(self) -> bool:
        """Whether it is certain who holds it, and that is where it is to stay."""
        if self.act is not None:
            return False
        left = self.given_up and self.stage in ("known", "noted", "verified")
        return left or self.stage in ("claimed", "returned", "settled")


@dataclass(frozen=True)
class Adopted:
    """An earlier move of the same seat had come that far on old when this one began."""

    stage: Stage
    purpose: Purpose | None = None


@dataclass(frozen=True)
class Noted:
    """The serial is durable, on old and in the parcel."""


@dataclass(frozen=True)
class Verified:
    """What the program needs is verified on new, or a person took the risk after packing."""


@dataclass(frozen=True)
class Begin:
    """An act is to begin or to go on; ``word`` is what the program there says before."""

    purpose: Purpose
    word: Word


@dataclass(frozen=True)
class Requested:
    """The request of the open act is made."""


@dataclass(frozen=True)
class Answered:
    """The answer to the request of the open act is there."""


@dataclass(frozen=True)
class Spoiled:
    """The answer that is there cannot be used: it is to be fetched again."""


@dataclass(frozen=True)
class Broken:
    """What does the open act was cut off, or failed without a word on what came of it."""


@dataclass(frozen=True)
class Refused:
    """The open act was refused, and nothing came of it."""


@dataclass(frozen=True)
class Shown:
    """All of the open act was done; ``word`` is what the program says after it."""

    word: Word


@dataclass(frozen=True)
class Told:
    """The maker says who holds the seat, to a person who is at the station ``at``; ``word`` is
    what the program there says after that."""

    holder: Holder
    at: At
    word: Word = "unknown"


@dataclass(frozen=True)
class Renounced:
    """New will not claim the seat in this move; ``word`` is what its program says."""

    word: Word


@dataclass(frozen=True)
class Gone:
    """A person answers for it that a machine does not hold the seat and will never get it."""

    who: Literal["old", "new"]


@dataclass(frozen=True)
class Settled:
    """A person accepts how it ended."""


@dataclass(frozen=True)
class GivenUp:
    """A person gives the seat up."""


@dataclass(frozen=True)
class TakenUp:
    """A person wants a seat moved after all that was given up."""


Event = (
    Adopted
    | Noted
    | Verified
    | Begin
    | Requested
    | Answered
    | Spoiled
    | Broken
    | Refused
    | Shown
    | Told
    | Renounced
    | Gone
    | Settled
    | GivenUp
    | TakenUp
)


_EVENTS: Mapping[str, type[Event]] = {
    "adopted": Adopted,
    "noted": Noted,
    "verified": Verified,
    "begin": Begin,
    "requested": Requested,
    "answered": Answered,
    "spoiled": Spoiled,
    "broken": Broken,
    "refused": Refused,
    "shown": Shown,
    "told": Told,
    "renounced": Renounced,
    "gone": Gone,
    "settled": Settled,
    "given up": GivenUp,
    "taken up": TakenUp,
}


_NAMES = {kind: name for name, kind in _EVENTS.items()}
assert set(_NAMES) == set(get_args(Event))


def event_facts(event: Event) -> dict[str, str | None]:
    """Return an event as plain JSON values."""
    return {"what": _NAMES[type(event)], **asdict(event)}


def event_of(facts: Mapping[str, object]) -> Event:
    """Return the event that ``event_facts`` told; other values beside it are not read.

    Raises:
        KeyError, ValueError: It is none.
    """
    what = str(facts["what"])
    kind = _EVENTS[what]
    event: Event = _shape_of(what).validate_python(
        {f.name: facts[f.name] for f in fields(kind) if f.name in facts}
    )
    return event


@cache
def _shape_of(what: str) -> TypeAdapter[Event]:
    return TypeAdapter(_EVENTS[what])
