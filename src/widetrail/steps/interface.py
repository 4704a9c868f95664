"""What a step is, and what doing one may ask of the machine, the parcel and the journal.

A step of a plan is a comparable value; what does it is registered apart, by kind, so that the
dry run, a rehearsal and the real walk consume the same plan. The protocols here let steps stand
before planning, parcel and walking without importing them.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass
from typing import BinaryIO, Literal, Protocol

from pydantic import Field

from widetrail.finding import Finder
from widetrail.formats.checked import Model
from widetrail.machine import Entry, Machine
from widetrail.recipe import Existing, Item, Loaded, Station

Fact = str | int | float | bool | None | list["Fact"] | dict[str, "Fact"]
"""A plain JSON value."""

Facts = dict[str, Fact]


class Step(Model):
    """One act at one station, as a plan holds it.

    ``after`` names the steps that must be done before; ``reads``, ``writes`` and ``changes`` are
    paths of the station's machine or, in braces, of the parcel.
    """

    id: str
    kind: str
    station: Station
    item: str
    arguments: dict[str, str | tuple[str, ...]] = Field(default_factory=dict)
    after: tuple[str, ...] = ()
    reads: tuple[str, ...] = ()
    writes: tuple[str, ...] = ()
    changes: tuple[str, ...] = ()
    repeat: Literal["safe", "ask", "never"] = "safe"

    def text(self, name: str) -> str:
        """Return the argument ``name``, which is one text."""
        value = self.arguments.get(name, "")
        assert isinstance(value, str)
        return value

    def texts(self, name: str) -> tuple[str, ...]:
        """Return the argument ``name``, which is several texts."""
        value = self.arguments.get(name, ())
        assert isinstance(value, tuple)
        return value


@dataclass(frozen=True, slots=True)
class Unfolding:
    """What a recipe's step is given to unfold into steps of a plan.

    ``subject`` is the item's name within the plan, ``number`` the step's place in the route from
    1, ``rule`` its settings. ``expand`` puts in what is known of a text's braces at the station
    and leaves the rest; ``parts`` are the values chosen of each part.
    """

    loaded: Loaded
    subject: str
    route: str
    existing: Existing
    station: Station
    number: int
    rule: Model
    old_path: str
    new_path: str
    parts: Mapping[str, tuple[str, ...]]
    expand: Callable[[str], str]

    def step_id(self, kind: str) -> str:
        """Return the id of the step of ``kind`` that this unfolds into."""
        return f"{self.subject}/{self.route}/{self.number}/{kind}"

    @property
    def place(self) -> str:
        """The item's place at the station."""
        return self.old_path if self.station == "old" else self.new_path


@dataclass(frozen=True, slots=True)
class CargoEntry:
    """One name in the cargo: whose it is, its status, and where in the segments its bytes lie.

    ``mtime`` in nanoseconds, ``offset`` in bytes into the segment ``segment``; ``sha256`` is empty
    unless it is a file.
    """

    item: str
    path: str
    kind: Literal["file", "folder", "link"]
    size: int
    mtime: int
    mode: int
    target: str = ""
    sha256: str = ""
    segment: str = ""
    offset: int = 0


class Packing(Protocol):
    """The cargo of a parcel while it is packed on old."""

    def add(
        self, item: str, entries: Iterable[Entry], open_file: Callable[[str], BinaryIO]
    ) -> tuple[int, int]:
        """Pack ``entries``; return the number of files and their bytes."""


class Packed(Protocol):
    """The cargo of a parcel as it is read on new."""

    def of(self, item: str) -> tuple[CargoEntry, ...]:
        """Return the entries of an item, folders before what is in them."""

    def chunks(self, entry: CargoEntry) -> Iterator[bytes]:
        """Give the bytes of a packed file."""


class Doing(Protocol):
    """What doing a step may use."""

    @property
    def machine(self) -> Machine:
        """The machine of this station."""

    @property
    def packing(self) -> Packing:
        """The cargo that this leg packs."""

    @property
    def packed(self) -> Packed:
        """The cargo that an earlier leg packed."""

    @property
    def workroom(self) -> str:
        """The run's own folder on this machine."""

    def finder(self, item: str) -> Finder:
        """Return what finds the things of the item's recipe here."""

    def item(self, item: str) -> Item:
        """Return the recipe's item that a plan's item is or is an instance of."""

    def carved(self, item: str) -> tuple[str, ...]:
        """Return the paths below the item's place that belong to other items."""

    def pinned(self, item: str) -> str:
        """Return the item's place on this station, as it was resolved before the first step."""

    def noted(self, item: str) -> Facts:
        """Return what old noted about the item."""

    def record(self, event: str, **facts: Fact) -> None:
        """Write a record to the station's journal and make it durable."""

    def recorded(self, event: str, item: str) -> Facts | None:
        """Return the facts of a record of this run in the station's journal, if there is one."""

    def insist_closed(self, item: str) -> None:
        """Raise ``Halted`` where the item's program is open."""


@dataclass(frozen=True, slots=True)
class Done:
    """A step that was done, with the facts a report tells."""

    facts: Facts


@dataclass(frozen=True, slots=True)
class Failed:
    """A step that came out wrong: what is wrong, what to do, and the facts known so far."""

    reason: str
    todo: str
    facts: Facts


Outcome = Done | Failed


class Teller(Protocol):
    """How the steps of one kind are told."""

    def words(self, step: Step) -> str:
        """Return the step as a plan tells it to a person."""


class Act(Teller, Protocol):
    """How the steps of one kind are told and done."""

    def do(self, step: Step, doing: Doing) -> Outcome:
        """Do the step.

        Raises:
            Halted: It cannot be done now; nothing of it is left half-way.
            WideTrailError: The parcel or machine cannot be used for it.
        """


class Rule(Protocol):
    """How a recipe's step of one kind is written and what it becomes in a plan."""

    @property
    def schema(self) -> type[Model]:
        """The model of the step's settings."""

    def unfold(self, unfolding: Unfolding) -> tuple[Step, ...]:
        """Return the steps of the plan, in order."""


class ToldRule(Rule, Teller, Protocol):
    """A recipe's step that becomes steps of its own kind, which it tells itself."""
