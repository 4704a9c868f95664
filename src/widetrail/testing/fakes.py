"""Fakes of all that a step may use, for tests of single kinds: no parcel, no plan, no journal file.

Each context of ``steps.contexts`` has one. A test makes a class of those that the kind declares::

    @dataclass(kw_only=True)
    class Given(FakeWork, FakeItem): ...

    given = Given(machine=TempMachine(tmp_path))
    Retire().do(step, given)

What was written to the journal, asked, and put into the parcel stands in their lists afterwards.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import field
from datetime import UTC, datetime

from widetrail.errors import Waiting
from widetrail.finding import Answer, Atlas, Finder, Found, How, Known, Nowhere, Unknown, Where
from widetrail.finding.stores import StoreKind
from widetrail.formats.interface import Platform
from widetrail.lazily import dataclass
from widetrail.machine.platforms.linux import LINUX
from widetrail.recipe import Item, Loaded, Route, load_recipe_text
from widetrail.recipe.models import Application
from widetrail.recipe.settings import Settings
from widetrail.recipe.templates import fill
from widetrail.steps import KINDS, Noted, Step, WrittenAt
from widetrail.steps.contexts import R, T
from widetrail.steps.journal_events import Record
from widetrail.testing.temp_machine import RECIPE, TempMachine
from widetrail.walking import Silent


@dataclass(frozen=True, eq=False)
class FakeFinder(Finder):
    """A finder that answers what it was given: readings (``said``) and places (``at``) by name."""

    said: Mapping[str, Answer | Unknown] = field(default_factory=dict)
    at: Mapping[str, str] = field(default_factory=dict)

    def answer(self, name: str, item: Item) -> Answer | Unknown:
        """Return what a reading is said to be."""
        return self.said.get(name, Unknown("not said"))

    def reading(self, name: str) -> Known | Unknown:
        """Return what a reading is said to be."""
        known = self.said.get(name, Unknown("not said"))
        return known if isinstance(known, Known) else Unknown("not said")

    def place(self, name: str) -> Where:
        """Return where a place is said to be."""
        path = self.at.get(name)
        return Found(path, "folder", How("fixed")) if path else Nowhere("not said")

    def path(self, template: str) -> str | None:
        """Return a template with places and roots put in."""
        return fill(template, lambda name: self.at.get(name) or self.machine.root(name))


@dataclass(kw_only=True)
class FakeWork:
    """A ``steps.contexts.Work``: ``journal`` holds what was recorded, ``said`` what was told."""

    machine: TempMachine
    workroom: str = "/state/run"
    now: datetime = datetime(2026, 1, 1, tzinfo=UTC)
    journal: list[Record] = field(default_factory=list)
    said: list[str] = field(default_factory=list)
    signs: str = ""
    """What shows that the program is open, if it is."""

    put_here: tuple[str, ...] = ()
    waited: list[str] = field(default_factory=list)

    def __post_init__(self) -> None:
        self.onlooker = Silent()
        self._seconds = 0.0
        self.machine.host(self.workroom).mkdir(parents=True, exist_ok=True)

    def clock(self) -> float:
        """Return seconds that go on by one each time."""
        self._seconds += 1
        return self._seconds

    def slug(self, item: str) -> str:
        """Return the item's name."""
        return item

    def record(self, record: Record) -> None:
        """Keep a record."""
        self.journal.append(record.model_copy(update={"at": len(self.journal)}))

    def recorded(self, event: type[T], step: str) -> T | None:
        """Return the newest record of an event and step."""
        return next((r for r in reversed(self.records(event)) if r.step == step), None)

    def records(self, event: type[R]) -> tuple[R, ...]:
        """Return the records of an event."""
        return tuple(r for r in self.journal if isinstance(r, event))

    def put_there(self) -> tuple[str, ...]:
        """Return what is said to have been put there."""
        return self.put_here

    def await_(
        self,
        what: Callable[[], str],
        todo: str,
        seconds: float | None = None,
        grace: float = 0.0,
    ) -> None:
        """Look once.

        Raises:
            Waiting: Something is missing.
        """
        if lacking := what():
            self.waited.append(lacking)
            raise Waiting(lacking, todo=todo)

    def open_signs(self, item: str) -> str:
        """Return what is said to show that the program is open."""
        return self.signs

    def await_closed(self, item: str) -> None:
        """Raise where the program is said to be open."""
        self.await_(lambda: self.signs, "Close it.")


@dataclass(kw_only=True)
class FakeItem:
    """A ``steps.contexts.OfItem``: one item of one recipe, with answers to its readings.

    ``settings_of`` are what the recipe says of the step, ``values`` what stands in braces.
    """

    machine: TempMachine
    recipe: str = RECIPE
    name: str = "notes"
    settings_of: Settings | None = None
    answers: Mapping[str, Answer | Unknown] = field(default_factory=dict)
    values: Mapping[str, str] = field(default_factory=dict)
    place: str = "/home/ada/notes"
    old_place: str = "/home/old/notes"
    partner: str = "other"
    kept_in: StoreKind | None = None
    belongs_elsewhere: tuple[str, ...] = ()
    paths_in: tuple[WrittenAt, ...] = ()
    comes_along: Mapping[str, str] = field(default_factory=dict)

    @property
    def loaded(self) -> Loaded:
        """The recipe."""
        return load_recipe_text(self.recipe, "fake.trail.yaml", KINDS)

    def finder(self, item: str) -> Finder:
        """Return a finder of the answers that were given."""
        return FakeFinder(self.machine, self.loaded, said=self.answers, at={self.name: self.place})

    def item(self, item: str) -> Item:
        """Return the recipe's item."""
        return self.loaded.recipe.items[self.name]

    def application(self, item: str) -> Application:
        """Return the recipe's application."""
        return self.loaded.recipe.application

    def route(self, item: str) -> Route:
        """Return the first route of the item."""
        return self.item(item).routes[0]

    def settings(self, step: Step) -> Settings:
        """Return the settings that were given."""
        assert self.settings_of is not None, "the step comes from no recipe"
        return self.settings_of

    def other(self) -> str:
        """Return the name of the other machine."""
        return self.partner

    def carved(self, item: str) -> tuple[str, ...]:
        """Return what belongs to other items."""
        return self.belongs_elsewhere

    def pinned(self, item: str) -> str:
        """Return the item's place."""
        return self.place

    def store(self, item: str) -> StoreKind | None:
        """Return the store that the item is in."""
        return self.kept_in

    def is_told(self, item: str) -> bool:
        """Return that no program tells the place."""
        return False

    def written(self, item: str) -> tuple[WrittenAt, ...]:
        """Return where paths stand in the item."""
        return self.paths_in

    def outside(self, item: str) -> Mapping[str, str]:
        """Return the files elsewhere that go along."""
        return self.comes_along

    def place_on_old(self, item: str) -> str:
        """Return the item's place on old."""
        return self.old_place

    def names_on_old(self, item: str) -> Mapping[str, str]:
        """Return that nothing is called otherwise."""
        return {}

    def fill(self, step: Step, text: str) -> str:
        """Return a template with the values put in that were given."""
        return fill(text, lambda name: self.values[name])


@dataclass(kw_only=True)
class FakeEvidence:
    """A ``steps.contexts.Evidence``."""

    notes: Mapping[str, Noted] = field(default_factory=dict)
    came: bool = True

    def noted(self, item: str) -> Mapping[str, Noted]:
        """Return what old is said to have noted."""
        return self.notes

    def looked_at(self, item: str, check: str) -> bool:
        """Return that every check is looked at."""
        return True

    def arrived(self, item: str) -> bool:
        """Return whether the item is said to have arrived."""
        return self.came


@dataclass(kw_only=True)
class FakePaths:
    """A ``steps.contexts.Paths``, in which nothing names old."""

    old_names: tuple[str, ...] = ("/home/old",)
    here: Sequence[tuple[str, Sequence[str]]] = ()
    stays: Sequence[str] = ()

    def atlas(self, item: str, target: str, came_as: Mapping[str, str] | None = None) -> Atlas:
        """Raise: an item that holds paths is tested with a whole trail."""
        raise AssertionError("a fake translates no paths")

    def came_beside(self) -> Mapping[str, str]:
        """Return that nothing came beside anything."""
        return {}

    def was_carried(self, path: str) -> bool:
        """Return that nothing was carried."""
        return False

    def dangling(self, item: str) -> Sequence[str]:
        """Return that nothing is left out."""
        return ()

    def place_told(self, item: str, place: str) -> tuple[str, str]:
        """Return that no place is told."""
        return "", ""

    @property
    def platform_of_old(self) -> Platform:
        """The platform of old."""
        return LINUX.name

    def landed(self, item: str) -> Sequence[tuple[str, Sequence[str]]]:
        """Return where the item's files are said to be."""
        return self.here

    def told_elsewhere(self, item: str) -> Sequence[str]:
        """Return the paths that are said to stay as they are."""
        return self.stays

    def old_paths(self, item: str) -> tuple[str, ...]:
        """Return the paths that nothing may name."""
        return self.old_names
