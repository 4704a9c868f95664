"""How a step came out, as a value: what files hold of it are codes, words stand where it is shown.

An outcome that was written down may have been changed since, so each value has its bounds here.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import field
from typing import ClassVar, Literal

from pydantic import Field

from widetrail.formats.documents import Model
from widetrail.formats.stored_values import Text
from widetrail.lazily import dataclass
from widetrail.machine.effect_failed import RefusedBy

Fact = str | int | float | bool | None | Sequence["Fact"] | Mapping[str, "Fact"]
"""A plain JSON value."""

RemarkCode = Literal[
    "elsewhere",
    "unsayable",
    "not_rewritten",
    "rewritten_whole",
    "mention",
    "not_searched",
    "appeared",
    "irregular",
    "open_to_others",
    "unreadable",
    "dangling",
    "attributes_lost",
]
"""What a person should know of a path: it names what did not move; what cannot be said on new; it
was not rewritten, or written anew as a whole; it mentions old; it was not looked through; it
appeared meanwhile and was put aside; it is not a regular file; others may read it now; it cannot be
read; it names a path that does not exist; it lost its extended attributes."""


class Remark(Model):
    """Something that a person should know of a path, and the reason where there is one."""

    code: RemarkCode
    path: Text
    reason: Text = ""


def remarks(code: RemarkCode, paths: Iterable[str]) -> tuple[Remark, ...]:
    """Return one remark for each path."""
    return tuple(Remark(code=code, path=path) for path in paths)


class SeatTold(Model):
    """How far a seat was after a step, what its program said of it, and whose word that is."""

    stage: Text = ""
    says: Text = ""
    by: Literal["program", "maker", "person"] = "program"


class Facts(Model):
    """What is known of a step that was done; each kind adds its own.

    ``backed_up`` is where what was there before is kept, ``made`` are the files that were put into
    the parcel, ``told`` what a program told by the names of the recipe. ``refused`` is how the
    system refused a change, where that ended the step.
    """

    passing: ClassVar[frozenset[str]] = frozenset({"backed_up", "told", "seat", "refused"})
    """The names of what depends on the way, so that a walk which was cut off may tell otherwise."""

    backed_up: tuple[Text, ...] = ()
    made: tuple[Text, ...] = ()
    told: dict[Text, Text] = Field(default_factory=dict)
    remarks: tuple[Remark, ...] = ()
    seat: SeatTold | None = None
    refused: RefusedBy | None = None

    @property
    def is_nothing(self) -> bool:
        """Whether there was nothing to carry by a step that carries."""
        return False

    def of(self, *codes: RemarkCode) -> Iterator[str]:
        """Give the paths of the remarks of those codes."""
        return (one.path for one in self.remarks if one.code in codes)

    def plain(self) -> dict[str, Fact]:
        """Return the facts as plain JSON values, without those that say nothing."""
        return self.model_dump(mode="json", exclude_defaults=True)

    def lasting(self) -> dict[str, Fact]:
        """Return the plain facts that do not depend on the way."""
        return {name: fact for name, fact in self.plain().items() if name not in self.passing}


class Noted(Model):
    """A reading as it was taken: its value, why it is unknown, or an answer for each part."""

    value: str | int | float | bool | tuple[Text, ...] | None = None
    unknown: Text = ""
    by: dict[Text, Noted] | None = None

    @property
    def is_known(self) -> bool:
        """Whether there is a value."""
        return self.value is not None

    def plain(self) -> Fact:
        """Return it as a plain JSON value: what it is, or else what is known of it."""
        told: Fact = self.model_dump(mode="json", exclude_unset=True)
        return self.value if self.is_known else told


@dataclass(frozen=True)
class Done:
    """A step that was done, with what a report tells."""

    facts: Facts

    @property
    def well(self) -> bool:
        """Whether the step came out well."""
        return True


@dataclass(frozen=True)
class Failed:
    """A step that came out wrong: what is wrong, what to do, and the facts known so far.

    What it would have changed is as it was before.
    """

    reason: str
    todo: str
    facts: Facts = field(default_factory=Facts)

    @property
    def well(self) -> bool:
        """Whether the step came out well."""
        return False


@dataclass(frozen=True)
class Waits:
    """A step that could not be done yet: what it waits for, and what to do."""

    reason: str
    todo: str
    facts: Facts = field(default_factory=Facts)

    @property
    def well(self) -> bool:
        """Whether the step came out well."""
        return False


Outcome = Done | Failed | Waits

State = Literal["done", "failed", "waits"]

_STATES: Mapping[type, State] = {Done: "done", Failed: "failed", Waits: "waits"}


def state_of(outcome: Outcome) -> State:
    """Return the code of how a step came out: ``done``, ``failed`` or ``waits``."""
    return _STATES[type(outcome)]


class WrittenOutcome(Model):
    """An outcome as files hold it, with the kind of its step, which says what its facts are."""

    kind: Text
    state: State
    reason: Text = ""
    todo: Text = ""
    facts: dict[Text, object] = Field(default_factory=dict)


def write_outcome(kind: str, outcome: Outcome) -> WrittenOutcome:
    """Return the outcome of a step of a kind as files hold it."""
    facts, state = outcome.facts.plain(), state_of(outcome)
    if isinstance(outcome, Done):
        return WrittenOutcome(kind=kind, state=state, facts=facts)
    reason, todo = outcome.reason, outcome.todo
    return WrittenOutcome(kind=kind, state=state, reason=reason, todo=todo, facts=facts)


def outcome_of(written: WrittenOutcome, facts: Facts) -> Outcome:
    """Return the outcome that was written, with its facts as they are for its kind."""
    match written.state:
        case "done":
            return Done(facts)
        case "failed":
            return Failed(written.reason, written.todo, facts)
        case "waits":
            return Waits(written.reason, written.todo, facts)
