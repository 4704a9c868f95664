"""What doing a step may ask of the machine, the parcel, the journal and the person.

The protocols here let steps stand before planning, parcel and walking without importing them.
"""

from __future__ import annotations

import json
from base64 import b64decode
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any, BinaryIO, Literal, NamedTuple, Protocol

from widetrail.errors import Halted, MachineUnusable
from widetrail.finding import Atlas, Finder
from widetrail.finding.stores import StoreKind
from widetrail.formats.interface import Platform
from widetrail.licence.exchange import Exchange
from widetrail.licence.seat import Adopted, Effect, Event, Purpose, Seat, Word
from widetrail.machine import Completed, Entry, Machine
from widetrail.machine.interface import Channels
from widetrail.recipe import Item, Route
from widetrail.recipe.models import Application, Licence
from widetrail.recipe.settings import Settings
from widetrail.steps.outcomes import Fact, Noted
from widetrail.steps.step import Step, WrittenAt

Record = Mapping[str, Any]
"""A record of a station's journal: its event, and what that tells."""

Piece = tuple[str, int, int]
"""A segment, the offset into it, and a number of bytes."""


class CargoEntry(NamedTuple):
    """One name in the cargo: whose it is, its status, and where in the segments its bytes lie.

    ``mtime`` in nanoseconds, ``offset`` in bytes into the segment ``segment``; ``sha256`` is empty
    unless it is a file. ``hard`` is another name of the file ``target``; ``sparse`` is 1 for a file
    with holes; ``attributes`` are its extended attributes as a JSON object of base64 texts,
    ``pieces`` a JSON list of segment, offset and size for a file that no segment holds whole.
    """

    item: str
    path: str
    kind: Literal["file", "folder", "link", "hard"]
    size: int
    mtime: int
    mode: int
    target: str = ""
    sha256: str = ""
    segment: str = ""
    offset: int = 0
    sparse: int = 0
    attributes: str = ""
    pieces: str = ""

    @property
    def in_pieces(self) -> tuple[Piece, ...]:
        """Where the bytes of the file lie, in order."""
        if not self.pieces:
            return ((self.segment, self.offset, self.size),)
        return tuple((str(s), int(o), int(n)) for s, o, n in json.loads(self.pieces))

    @property
    def is_sparse(self) -> bool:
        """Whether the file had holes."""
        return bool(self.sparse)

    @property
    def attributes_by_name(self) -> dict[str, bytes]:
        """The extended attributes; none that cannot be read."""
        if not self.attributes:
            return {}
        told = json.loads(self.attributes)
        return {str(name): b64decode(value) for name, value in told.items()}


class Unstable(Halted):
    """Something of an item, by its path below the place, is not what it was when it was listed."""

    def __init__(self, path: str) -> None:
        super().__init__(
            "it changed while it was packed",
            where=path or "the place itself",
            why="its size, times or number are not what they were",
            todo="Close the program that writes it, then walk again.",
        )
        self.path = path


class UnreadableFile(MachineUnusable):
    """A file of an item, by its ``path`` below the place, that the system cannot read."""

    def __init__(self, path: str, error: MachineUnusable) -> None:
        super().__init__(error.what, where=error.where, why=error.why, todo=_UNREADABLE)
        self.path = path


_UNREADABLE = "Walk again, and say whether it is left out: at a terminal, or with --answers."


class Packing(Protocol):
    """The cargo of a parcel while it is packed on old."""

    def add(
        self,
        item: str,
        entries: Iterable[Entry],
        open_file: Callable[[str], BinaryIO],
        moved: Callable[[int, int], None] = ...,
        attributes: Callable[[str], Mapping[str, bytes]] = ...,
    ) -> tuple[int, int]:
        """Pack ``entries``; return the number of files and their bytes.

        What was packed of them by a walk that was cut off, and is as it was, is not packed again.
        ``moved`` is told the bytes and files that were packed since it was told last. Where this
        raises, what was packed so far stays.

        Raises:
            Unstable: A file is not the one that was listed.
            UnreadableFile: One cannot be read.
        """


class Packed(Protocol):
    """The cargo of a parcel as it is read on new."""

    def of(self, item: str) -> tuple[CargoEntry, ...]:
        """Return the entries of an item, folders before what is in them."""

    def chunks(self, entry: CargoEntry) -> Iterator[bytes]:
        """Give the bytes of a packed file, as they are in the parcel."""

    def insist(self, entry: CargoEntry) -> None:
        """Check the bytes of a packed file.

        Raises:
            ParcelUnusable: They are not those that were packed.
        """


@dataclass(frozen=True, slots=True)
class Asked:
    """Something a person is asked for: by its name within a recipe or a step's id, in words.

    ``item`` is empty unless each item has an answer of its own.
    A ``secret`` is never shown; one that is ``made`` here is typed twice, since nobody could open
    what was sealed with a slip. ``choices`` are the only answers, where there are any.
    """

    recipe: str
    name: str
    words: str
    item: str = ""
    secret: bool = False
    made: bool = False
    choices: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Task:
    """Something a person is to do for an item: its name, the step, what to do, what shows it.

    ``shown`` are secrets that a program told, by name: only the person may see them.
    """

    recipe: str
    item: str
    name: str
    step: str
    words: str
    proof: tuple[str, ...] = ()
    shown: Mapping[str, str] | None = None


class Hands(Protocol):
    """The person at the station: answers, and does what only a person can."""

    def answer(self, asked: Asked) -> str | None:
        """Return the answer, or ``None`` where nobody gives one."""

    def act(self, task: Task, play: Callable[[Sequence[str]], None]) -> bool:
        """Have a task done and return whether the person says it is.

        ``play`` runs one of the application's programs, where that does what a person would.
        """


class Seats(Protocol):
    """The seats of licences as they are known at this station, and what may happen to them."""

    def now(self, item: str) -> Seat:
        """Return what is certain of a seat, by the parcel and by what was done here."""

    def happens(self, item: str, event: Event) -> tuple[Effect, ...]:
        """Have something happen to a seat: it is durable here when this returns.

        Raises:
            Halted: It may not be; nothing is changed.
        """

    def insist_newest(self, item: str) -> None:
        """Raise where a later move of the seat has begun here.

        Raises:
            Halted: It has.
        """

    def licence(self, item: str) -> Licence:
        """Return the recipe's licence that a plan's item is."""

    def word(self, item: str) -> tuple[Word, str]:
        """Return what the program here says of its own licence, and its very words or the reason
        why that is not known."""

    def earlier(self, item: str) -> tuple[Adopted | None, str]:
        """Return how far an earlier move of the seat had come here, and the machine that it was
        for; ``None`` where there was none, or it is at its end."""

    def was_left_open(self, item: str) -> bool:
        """Return whether an earlier move left a claim open here, whose end is not known."""

    def find_serial(self, item: str) -> str | None:
        """Return the serial as the program here tells it, or as an earlier move kept it."""

    def keep_serial(self, item: str, serial: str) -> None:
        """Make a serial durable, sealed, on this machine and in the parcel.

        Raises:
            Halted: The parcel is not sealed, or the medium does not hold what was written.
        """

    def knows_serial(self, item: str) -> bool:
        """Return whether the serial came here in the parcel, or there is none."""

    def is_own(self, item: str) -> bool:
        """Return whether it is certain that what the program here is active by is the seat that
        is moved."""

    def lacking(self, item: str) -> Sequence[str]:
        """Return why a claim here could not be done: what its steps need that is not known."""

    def walk(self) -> str:
        """Return the command that walks here again, as it is typed."""

    def command(self, verb: str, item: str) -> str:
        """Return a ``widetrail seat`` command about a seat, as it is typed."""

    def make_cargo_durable(self) -> None:
        """Write what was packed so far to the logbook, and read it back from the medium."""

    def exchange(self, item: str, purpose: Purpose | None = None) -> Exchange:
        """Return what the request and answer of the open act are about, or of the one of that
        ``purpose`` that would begin now."""

    def wrong_answer(self, item: str) -> str:
        """Return why the answer at hand is not the one to the open act's request, naming the right
        file; an empty text where it is, or nothing tells."""

    def have_again(self, item: str, purpose: Purpose) -> None:
        """Have every step of an act done again, here and elsewhere, by a later walk."""


class Onlooker(Protocol):
    """Told how a walk goes; every text is fit to be shown."""

    def begins(self, step: Step, words: str, number: int, total: int) -> None:
        """A step begins, the one of that ``number`` among the ``total`` of this walk."""

    def waits(self, what: str) -> None:
        """The walk waits for something, or still does."""

    def moves(
        self,
        done: float,
        total: float,
        unit: str,
        left: float | None,
        files: tuple[int, int] | None = None,
    ) -> None:
        """Of the step at hand ``done`` of ``total`` (``bytes`` or a reading's name) are there;
        ``left`` are the seconds it will take still, where that can be said. ``files`` tells how
        many files of how many are done."""


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

    @property
    def onlooker(self) -> Onlooker:
        """Who is told how it goes."""

    @property
    def now(self) -> datetime:
        """The moment of this walk."""

    @property
    def seats(self) -> Seats:
        """The seats of licences."""

    def finder(self, item: str) -> Finder:
        """Return what finds the things of the item's recipe here, as they are now."""

    def item(self, item: str) -> Item:
        """Return the recipe's item that a plan's item is or is an instance of."""

    def application(self, item: str) -> Application:
        """Return the application of the item's recipe."""

    def settings(self, step: Step) -> Settings:
        """Return the recipe's settings that the step comes from."""

    def other(self) -> str:
        """Return the name of the machine at the other end."""

    def is_told(self, item: str) -> bool:
        """Return whether a program's settings tell where the item's place is here."""

    def carved(self, item: str) -> tuple[str, ...]:
        """Return the paths below the item's place that belong to other items."""

    def pinned(self, item: str) -> str:
        """Return the item's place on this station, as it was resolved before the first step."""

    def slug(self, item: str) -> str:
        """Return a name for the item that any volume can hold."""

    def noted(self, item: str) -> Mapping[str, Noted]:
        """Return what old noted about the item."""

    def looked_at(self, item: str, check: str) -> bool:
        """Return whether a check of the item counts what was chosen."""

    def arrived(self, item: str) -> bool:
        """Return whether the checks of the item were looked at on new and held."""

    def fill(self, step: Step, text: str) -> str:
        """Return a template with every value put in.

        Raises:
            Halted: A value is not known here.
        """

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

    def secrets(self, step: Step) -> frozenset[str]:
        """Return the names of what the recipe asks for as secrets."""

    def secret(self, step: Step, name: str, value: str) -> None:
        """Keep ``value`` out of everything from now on; steps of the item may use it here."""

    def masked(self, text: str) -> str:
        """Return ``text`` without any secret."""

    def store(self, item: str) -> StoreKind | None:
        """Return the kind of store that the item's values lie in; ``None`` where it is files."""

    def written(self, item: str) -> tuple[WrittenAt, ...]:
        """Return where the item holds paths of the machine."""

    def place_on_old(self, item: str) -> str:
        """Return where the item's place is on old."""

    def names_on_old(self, item: str) -> Mapping[str, str]:
        """Return what paths below the item's place are called on old, where that is otherwise."""

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

    def outside(self, item: str) -> Mapping[str, str]:
        """Return the files elsewhere that go with the item, by what they become below it."""

    @property
    def platform_of_old(self) -> Platform:
        """The platform of the old machine."""

    def landed(self, item: str) -> Sequence[tuple[str, Sequence[str]]]:
        """Return the folders in which the item's files are on new, with their paths below.

        Where a program took the item in, they are those that the recipe says hold paths.
        """

    def told_elsewhere(self, item: str) -> Sequence[str]:
        """Return the paths that are told to stay as they are on new, though they are old's."""

    def old_paths(self, item: str) -> tuple[str, ...]:
        """Return the paths that nothing here may name: old's account's, the medium's, and where
        what moved was."""

    def room_for_made(self, item: str) -> str:
        """Return the folder on this machine where programs make and find the item's files."""

    def keep(self, item: str, names: Iterable[str]) -> None:
        """Put files that a program made in that folder into the parcel."""

    def record(self, event: str, **facts: Fact) -> None:
        """Write a record to the station's journal and make it durable."""

    def recorded(self, event: str, step: str) -> Record | None:
        """Return the newest record of that event and step in the station's journal.

        ``at`` in it is its place in the journal: what came later has a higher one.
        """

    def records(self, event: str) -> tuple[Record, ...]:
        """Return every record of that event in the station's journal, oldest first."""

    def ask(self, asked: Asked) -> str | None:
        """Ask the person."""

    def have_done(self, step: Step, task: Task) -> bool:
        """Have the person do a task; return whether they say it is done."""

    def await_(
        self, what: Callable[[], str], todo: str, seconds: float | None = None, grace: float = 0.0
    ) -> None:
        """Wait until ``what`` says nothing more; it says what is missing still.

        What was asked for has ``grace`` seconds to come, also where the walk is not to wait.

        Raises:
            Waiting: The walk is not to wait, or ``seconds`` have passed.
        """

    def settle_down(self, places: Sequence[str], item: str) -> None:
        """Make durable what a program wrote: where it says that it writes, in the person's own
        folders, and in the folder of the files that it made."""

    def await_ended(self, pid: int, started: float) -> None:
        """Wait until a process that an earlier walk started has ended."""

    def open_signs(self, item: str) -> str:
        """Return what shows that the item's program is open, or an empty text."""

    def await_closed(self, item: str) -> None:
        """Wait until the item's program is closed.

        Raises:
            Waiting: The walk is not to wait.
        """

    def at_end(self, step: Step, command: Sequence[str]) -> None:
        """Run a command however the leg ends."""

    def put_there(self) -> tuple[str, ...]:
        """Return the paths on this machine that this run put there."""

    def clock(self) -> float:
        """Return seconds that only go on, for how long something takes."""

    def route(self, item: str) -> Route:
        """Return the recipe's route that the item goes."""

    def medium(self) -> Callable[[], str]:
        """Return what says, for as long as the medium is there, that it is."""

    def take_along(self) -> str:
        """Bring what is left of the parcel to this machine; return the folder it is in now."""
