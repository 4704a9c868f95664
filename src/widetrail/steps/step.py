"""A step of a plan: a comparable value, of which each kind has a model of its own.

What does a step stands apart, by kind, so that the dry run, a rehearsal and the real walk consume
the same plan.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping
from typing import ClassVar, Literal, Self, TypeVar

from widetrail.finding.atlas import HowWritten
from widetrail.formats.documents import Model
from widetrail.lazily import dataclass
from widetrail.licence.terms import Purpose
from widetrail.machine.platforms import StoreName
from widetrail.recipe import Existing, Loaded, Station
from widetrail.recipe.templates import refill
from widetrail.records import Duplicates

Known = Callable[[str], str | None]
"""Told a name in braces; returns its value, or ``None`` where that is not known."""

S = TypeVar("S", bound="Step")


class OfSeat(Model):
    """Which act on a licence's seat a step is part of.

    ``stem`` is what its request and answer are called, without their endings.
    """

    purpose: Purpose
    stem: str = ""


class Step(Model):
    """One act at one station, as a plan holds it; each kind adds what is its own.

    ``number`` is the place in its route of the recipe's step that it comes from, 0 where it comes
    from none; ``repeat`` says whether it may be done once more. Texts and paths are templates:
    braces of what is known only where the step is done stand in them still. ``after`` names the
    steps that must be done before; ``reads``, ``writes`` and ``changes`` are paths of the station's
    machine or, in braces, of the parcel.
    """

    commands_in: ClassVar[tuple[str, ...]] = ()
    """The names of its own values that are commands: a program of the recipe, and arguments."""

    id: str
    kind: str
    station: Station
    item: str
    number: int = 0
    after: tuple[str, ...] = ()
    reads: tuple[str, ...] = ()
    writes: tuple[str, ...] = ()
    changes: tuple[str, ...] = ()
    repeat: Literal["safe", "ask", "never"] = "safe"
    seat: OfSeat | None = None

    @property
    def given(self) -> tuple[str, ...]:
        """The templates of what its program or a person is given, beside commands."""
        return ()

    @property
    def leaves(self) -> tuple[str, ...]:
        """Paths that it may make beside what it says that it changes."""
        return ()

    @property
    def stores(self) -> tuple[tuple[StoreName, str], ...]:
        """Keys that it changes beside its item's place, each with its store: ``changes`` are
        paths."""
        return ()

    @property
    def puts_elsewhere(self) -> bool:
        """Whether it puts its item somewhere else than in its own place."""
        return False

    @property
    def merges_into(self) -> str:
        """The template of the store on new that it merges its item into; else nothing."""
        return ""

    @property
    def main_command(self) -> tuple[str, ...]:
        """The first of the commands that it may start; nothing where it starts none."""
        return next(iter(self.commands.values()), ())

    @property
    def commands(self) -> Mapping[str, tuple[str, ...]]:
        """The commands that it may start, each by the name of the value that it is."""
        found = {name: getattr(self, name) for name in self.commands_in}
        return {name: command for name, command in found.items() if command}

    def purpose_is(self, purpose: Purpose) -> bool:
        """Return whether the step is part of an act of that purpose on a seat."""
        return self.seat is not None and self.seat.purpose == purpose

    def later_than(self, *steps: str) -> Self:
        """Return the step, to be done after ``steps`` too."""
        return self.model_copy(update={"after": tuple(dict.fromkeys([*self.after, *steps]))})

    def named(self, text: str) -> bool:
        """Return whether ``text`` stands in a value that is the step's own."""
        return any(text in one for value in self._own().values() for one in _texts(value))

    def refilled(self, known: Known, *, made: bool = False) -> Self:
        """Return the step with what is known put into all that is its own, and in what it changes;
        in what it writes too where it is asked for what is ``made``."""
        update: dict[str, object] = {n: _refilled(value, known) for n, value in self._own().items()}
        if made:
            update["writes"] = _refilled(self.writes, known)
        else:
            update["changes"] = _refilled(self.changes, known)
        return self.model_copy(update=update)

    def _own(self) -> dict[str, object]:
        own = type(self).model_fields.keys() - Step.model_fields.keys()
        return {name: getattr(self, name) for name in sorted(own)}


def _texts(value: object) -> tuple[str, ...]:
    if isinstance(value, str):
        return (value,)
    if isinstance(value, Model):
        return tuple(
            text for name in type(value).model_fields for text in _texts(getattr(value, name))
        )
    if isinstance(value, Mapping):
        return tuple(str(text) for text in value.values())
    return tuple(text for one in value for text in _texts(one)) if isinstance(value, tuple) else ()


def _refilled(value: object, known: Known) -> object:
    if isinstance(value, str):
        return refill(value, known)
    if isinstance(value, tuple):
        return tuple(_refilled(one, known) for one in value)
    if isinstance(value, Model):
        held = {name: getattr(value, name) for name in type(value).model_fields}
        return value.model_copy(update={name: _refilled(one, known) for name, one in held.items()})
    if isinstance(value, Mapping):
        return {name: _refilled(one, known) for name, one in value.items()}
    return value


@dataclass(frozen=True)
class Unfolding:
    """What a recipe's step is given to unfold into steps of a plan.

    ``subject`` is the item's name within the plan, ``number`` the step's place in the route from
    1. ``expand`` puts in what is known of a text's braces at the station and leaves the rest, with
    more values by name where they are given; ``parts`` are the values chosen of each part,
    ``single`` tells that the item's place is one file, ``store`` which kind of store it is where it
    is no file's, ``shared`` that other items take what is in the place too; ``duplicates`` is what
    the person chose for records that are there already, if they did, and ``narrowed`` the parts of
    which not all values are chosen.
    """

    loaded: Loaded
    subject: str
    route: str
    existing: Existing
    station: Station
    number: int
    old_path: str
    new_path: str
    parts: Mapping[str, tuple[str, ...]]
    expand: Callable[..., str]
    single: bool = False
    store: str = ""
    shared: bool = False
    duplicates: Duplicates | None = None
    narrowed: Collection[str] = ()

    def step_id(self, kind: str) -> str:
        """Return the id of the step of ``kind`` that this unfolds into."""
        return f"{self.subject}/{self.route}/{self.number}/{kind}"

    @property
    def place(self) -> str:
        """The item's place at the station."""
        return self.old_path if self.station == "old" else self.new_path

    def step(
        self,
        model: type[S],
        values: Mapping[str, object] | None = None,
        *,
        called: str = "",
        station: Station | None = None,
        **own: object,
    ) -> S:
        """Return a step of that model at the station, or at another one, with its own ``values``.

        ``called`` is what its id ends with where that is not its kind.
        """
        kind = str(model.model_fields["kind"].default)
        return model.model_validate(
            {
                "id": self.step_id(called or kind),
                "station": station or self.station,
                "item": self.subject,
                "number": self.number,
                **(values or {}),
                **own,
            }
        )


class WrittenAt(Model):
    """Where paths of the machine stand in an item, as a plan holds it.

    ``file`` is below the item's place and may hold globs; it is empty where the place itself is
    meant. ``tells`` names the recipe's place that the value tells the program of. ``outside_said``
    tells that the recipe itself says what becomes of what is named and does not move.
    """

    form: str
    file: str
    at: str
    outside: Literal["ask", "carry", "leave"] = "leave"
    tells: str = ""
    outside_said: bool = False
    missing_too: bool = False
    prefixes: tuple[str, ...] = ()

    @property
    def how(self) -> HowWritten:
        """How the paths are written."""
        return HowWritten(self.prefixes, self.missing_too)
