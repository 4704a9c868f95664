"""What doing a step may use, in small parts of which each kind declares those that it takes.

A kind that takes several says so by a protocol of its own that is made of them. They let steps
stand before planning, parcel and walking without importing them; ``widetrail.testing.fakes`` has a
fake of each.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from datetime import datetime
from typing import Protocol, TypeVar

from widetrail.finding import Atlas, Finder
from widetrail.finding.stores import StoreKind
from widetrail.formats.interface import Platform
from widetrail.machine import Channels, Completed, Machine
from widetrail.recipe import Item, Route
from widetrail.recipe.models import Application
from widetrail.recipe.settings import Settings
from widetrail.steps.cargo import Packed, Packing
from widetrail.steps.journal_events import Record, StepRecord
from widetrail.steps.outcomes import Noted
from widetrail.steps.people import Asked, Onlooker, Task
from widetrail.steps.seats import Seats
from widetrail.steps.step import Step, WrittenAt

R = TypeVar("R", bound=Record)
T = TypeVar("T", bound=StepRecord)


class Work(Protocol):
    """Where a step is done: the machine, the run's own folder there, its journal, and time."""

    @property
    def machine(self) -> Machine:
        """The machine of this station."""

    @property
    def workroom(self) -> str:
        """The run's own folder on this machine."""

    @property
    def now(self) -> datetime:
        """The moment of this walk."""

    def clock(self) -> float:
        """Return seconds that only go on, for how long something takes."""

    @property
    def onlooker(self) -> Onlooker:
        """Who is told how it goes."""

    def slug(self, item: str) -> str:
        """Return a name for the item that any volume can hold."""

    def record(self, record: Record) -> None:
        """Write a record to the station's journal and make it durable."""

    def recorded(self, event: type[T], step: str) -> T | None:
        """Return the newest record of that event and step in the station's journal.

        Its ``at`` is its place in the journal: what came later has a higher one.
        """

    def records(self, event: type[R]) -> tuple[R, ...]:
        """Return every record of that event in the station's journal, oldest first."""

    def put_there(self) -> tuple[str, ...]:
        """Return the paths on this machine that this run put there."""

    def await_(
        self, what: Callable[[], str], todo: str, seconds: float | None = None, grace: float = 0.0
    ) -> None:
        """Wait until ``what`` says nothing more; it says what is missing still.

        What was asked for has ``grace`` seconds to come, also where the walk is not to wait.

        Raises:
            Waiting: The walk is not to wait, or ``seconds`` have passed.
        """

    def open_signs(self, item: str) -> str:
        """Return what shows that the item's program is open, or an empty text."""

    def await_closed(self, item: str) -> None:
        """Wait until the item's program is closed.

        Raises:
            Waiting: The walk is not to wait.
        """


class OfItem(Protocol):
    """What is known of the item that a step is about, by the recipe, the plan and this machine."""

    def finder(self, item: str) -> Finder:
        """Return what finds the things of the item's recipe here, as they are now."""

    def item(self, item: str) -> Item:
        """Return the recipe's item that a plan's item is or is an instance of."""

    def application(self, item: str) -> Application:
        """Return the application of the item's recipe."""

    def settings(self, step: Step) -> Settings:
        """Return the recipe's settings that the step comes from."""

    def route(self, item: str) -> Route:
        """Return the recipe's route that the item goes."""

    def other(self) -> str:
        """Return the name of the machine at the other end."""

    def carved(self, item: str) -> tuple[str, ...]:
        """Return the paths below the item's place that belong to other items."""

    def pinned(self, item: str) -> str:
        """Return the item's place on this station, as it was resolved before the first step."""

    def store(self, item: str) -> StoreKind | None:
        """Return the kind of store that the item's values lie in; ``None`` where it is files."""

    def is_told(self, item: str) -> bool:
        """Return whether a program's settings tell where the item's place is here."""

    def written(self, item: str) -> tuple[WrittenAt, ...]:
        """Return where the item holds paths of the machine."""

    def outside(self, item: str) -> Mapping[str, str]:
        """Return the files elsewhere that go with the item, by what they become below it."""

    def place_on_old(self, item: str) -> str:
        """Return where the item's place is on old."""

    def names_on_old(self, item: str) -> Mapping[str, str]:
        """Return what paths below the item's place are called on old, where that is otherwise."""

    def fill(self, step: Step, text: str) -> str:
        """Return a template with every value put in.

        Raises:
            Halted: A value is not known here.
        """


class Evidence(Protocol):
    """What shows whether an item arrived: what old noted of it, and what was checked."""

    def noted(self, item: str) -> Mapping[str, Noted]:
        """Return what old noted about the item."""

    def looked_at(self, item: str, check: str) -> bool:
        """Return whether a check of the item counts what was chosen."""

    def arrived(self, item: str) -> bool:
        """Return whether the checks of the item were looked at on new and held."""


class Paths(Protocol):
    """What old's paths are on new, and what of an item came there under which name."""

    def atlas(self, item: str, target: str, came_as: Mapping[str, str] | None = None) -> Atlas:
        """Return what translates old's paths for this machine; the item comes to ``target``.

        ``came_as`` are the paths of it below there that are called otherwise, since something was
        there already.
        """

    def came_beside(self) -> Mapping[str, str]:
        """Return what this run put beside something that was there, by the path of that."""

    def was_carried(self, path: str) -> bool:
        """Return whether a path of this machine is one that something carried was to have."""

    def dangling(self, item: str) -> Sequence[str]:
        """Return the paths on new of what the item's files name and the plan says is left out."""

    def place_told(self, item: str, place: str) -> tuple[str, str]:
        """Return where a place of the item's recipe is here, and where it would be untold."""

    @property
    def platform_of_old(self) -> Platform:
        """The platform of the old machine."""

    def landed(self, item: str) -> Sequence[tuple[str, Iterable[str]]]:
        """Return the folders in which the item's files are on new, with their paths below.

        Where a program took the item in, they are those that the recipe says hold paths.
        """

    def told_elsewhere(self, item: str) -> Sequence[str]:
        """Return the paths that are told to stay as they are on new, though they are old's."""

    def old_paths(self, item: str) -> tuple[str, ...]:
        """Return the paths that nothing here may name: old's account's, the medium's, and where
        what moved was."""


class Programs(Protocol):
    """The application's programs, the files that they make, and the secrets that they tell."""

    def command(self, step: Step, command: Sequence[str]) -> tuple[str, tuple[str, ...]]:
        """Return the path of a command's program, as it was recognised, and its arguments.

        Raises:
            Halted: The application declares no such program, or an argument cannot be given.
        """

    def run(
        self,
        step: Step,
        command: Sequence[str],
        seconds: float,
        channels: Channels = ...,
    ) -> Completed:
        """Run a command of the application; as ``command`` and ``Machine.start``."""

    def at_end(self, step: Step, command: Sequence[str]) -> None:
        """Run a command however the leg ends."""

    def settle_down(self, places: Sequence[str], item: str) -> None:
        """Make durable what a program wrote: where it says that it writes, in the person's own
        folders, and in the folder of the files that it made."""

    def await_ended(self, pid: int, started: float) -> None:
        """Wait until a process that an earlier walk started has ended."""

    def room_for_made(self, item: str) -> str:
        """Return the folder on this machine where programs make and find the item's files."""

    def keep(self, item: str, names: Iterable[str]) -> None:
        """Put files that a program made in that folder into the parcel."""

    def secrets(self, step: Step) -> frozenset[str]:
        """Return the names of what the recipe asks for as secrets."""

    def secret(self, step: Step, name: str, value: str) -> None:
        """Keep ``value`` out of everything from now on; steps of the item may use it here."""

    def masked(self, text: str) -> str:
        """Return ``text`` without any secret."""


class Cargo(Protocol):
    """What travels in the parcel, and the medium that it is on."""

    @property
    def packing(self) -> Packing:
        """The cargo that this leg packs."""

    @property
    def packed(self) -> Packed:
        """The cargo that an earlier leg packed."""

    @property
    def is_sealed(self) -> bool:
        """Whether what is private of the cargo may not stand in the logbook, which anyone reads."""

    def medium(self) -> Callable[[], str]:
        """Return what says, for as long as the medium is there, that it is."""

    def take_along(self) -> str:
        """Bring what is left of the parcel to this machine; return the folder it is in now."""


class People(Protocol):
    """The person at the station."""

    def ask(self, asked: Asked) -> str | None:
        """Ask the person."""

    def have_done(self, step: Step, task: Task) -> bool:
        """Have the person do a task; return whether they say it is done."""


class Licences(Protocol):
    """The seats of licences."""

    @property
    def seats(self) -> Seats:
        """The seats of licences."""


class Everything(Work, OfItem, Evidence, Paths, Programs, Cargo, People, Licences, Protocol):
    """All that a walk lends to the steps that it does."""
