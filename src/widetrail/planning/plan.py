"""The plan: pure data whose id is the hash of its canonical form."""

from __future__ import annotations

import json
from typing import Literal, Self

from pydantic import Field, model_validator

from widetrail.errors import ParcelUnusable
from widetrail.finding import Said
from widetrail.finding.stores import StoreKind
from widetrail.formats import canonical, digest
from widetrail.formats.documents import Model
from widetrail.formats.stored_values import plain_values
from widetrail.formats.versions import CURRENT, brought_up
from widetrail.machine.paths import base, join
from widetrail.machine.platforms import Platform
from widetrail.planning.station_facts import Source
from widetrail.recipe import Existing, Loss, Station
from widetrail.records import Duplicates
from widetrail.steps import AnyStep, Step, WrittenAt, words_of

BETWEEN = "a machine with a network"
"""What a station between is called, since any such machine will do."""

PassCode = Literal["for", "need", "limit", "only", "parts", "place", "choice", "sealed"]
"""Why a route is passed over: it is not for this case; a need is unmet; it cannot hold so much; it
narrows what it carries; it cannot carry the chosen parts alone; there is no place on new; the
person chose another; it is a secret, and the parcel is not sealed."""


class RejectedRoute(Model):
    """A route that was passed over, with the values that decided.

    ``facts`` are the unmet needs of a ``need``: facts and readings by their names.
    """

    route: str
    code: PassCode
    reason: str
    facts: tuple[str, ...] = ()

    @property
    def codes(self) -> tuple[str, ...]:
        """The words by which a rehearsal expects it."""
        return self.facts or (self.code,)


class PlannedRecipe(Model):
    """A recipe the plan was made from; ``digest`` is the SHA-256 of its file.

    ``old`` holds the release and edition that old has, where they are known; ``places`` are its
    places there that are one folder or file. ``at`` are the places on new that a person chose,
    and ``real`` is which of several on old is the real one.
    """

    id: str
    name: str
    old: dict[str, str] = Field(default_factory=dict)
    places: dict[str, str] = Field(default_factory=dict)
    at: dict[str, str] = Field(default_factory=dict)
    real: dict[str, str] = Field(default_factory=dict)
    revision: int
    digest: str


class PlannedStation(Model):
    """A machine of the plan, and what was known of it.

    ``identity`` is empty for a machine nothing is known of yet; ``source`` says where the facts
    come from. ``roots`` and ``variables`` are old's, by which its paths are understood on new.
    """

    station: Station
    machine: str
    identity: str
    facts: dict[str, str]
    roots: dict[str, str] = Field(default_factory=dict)
    variables: dict[str, str] = Field(default_factory=dict)
    source: Source = "seen"


class ToldBy(Model):
    """What tells a program where a place is: the number of the place's case, and whose platform's
    text of it is meant."""

    case: int
    platform: Platform


class PlannedItem(Model):
    """An item with the route it goes, where it is on both sides, and what is not carried.

    ``instance`` and ``new_instance`` are the program's names for one of several on both sides.
    ``new_path`` is empty where new was not seen; it is found on the new computer. ``parts`` are the
    values chosen, ``parts_left`` those that were not. ``carved`` are paths below the place that
    belong to another item. ``met`` are the needs that decided for the route, ``assumed`` those
    that could not be judged. ``whole`` tells that the place goes as one folder, ``single`` that it
    is one file, ``store`` what it is where it holds named values, ``registered`` that new's program
    has yet to make or list the place, ``chosen`` that a person chose where it is to be on new;
    its program is told of that as ``set_in`` says. ``shared`` tells that other items take what is
    in the place too, of which ``carved`` are not this one's. ``renames`` are the paths below it
    that new cannot call so, with what they become, as canonical JSON, since they need not be valid
    text. ``written`` is where it holds paths of the machine; ``outside`` are files elsewhere that
    go along, with what they become below the place, as canonical JSON; ``dangling`` are what it
    names on old and does not go, though the recipe does not say so.
    """

    id: str
    recipe: str
    item: str
    instance: str = ""
    new_instance: str = ""
    title: str
    kind: str
    route: str
    existing: Existing
    whole: bool
    single: bool = False
    store: Literal[""] | StoreKind = ""
    registered: bool = False
    chosen: bool = False
    set_in: ToldBy | None = None
    shared: bool = False
    renames: str = ""
    duplicates: Duplicates | None = None
    written: tuple[WrittenAt, ...] = ()
    outside: str = ""
    dangling: tuple[str, ...] = ()
    old_path: str
    old_how: str
    new_path: str
    new_how: str
    occupied: bool
    files: int
    size: int
    largest: int = 0
    rejected: tuple[RejectedRoute, ...] = ()
    met: tuple[str, ...] = ()
    assumed: tuple[str, ...] = ()
    parts: dict[str, tuple[str, ...]] = Field(default_factory=dict)
    parts_left: dict[str, tuple[str, ...]] = Field(default_factory=dict)
    carved: tuple[str, ...] = ()
    awaited: tuple[str, ...] = ()
    losses: tuple[Loss, ...] = ()
    tasks: tuple[str, ...] = ()

    @model_validator(mode="after")
    def _names_are_texts(self) -> Self:
        for told in (self.renames, self.outside):
            names = json.loads(told or "{}")
            if not isinstance(names, dict) or not all(isinstance(n, str) for n in names.values()):
                raise ValueError("it does not say what names become")
        return self

    def path_at(self, station: Station) -> str:
        """Return where it is on old, or comes to on new."""
        return self.old_path if station == "old" else self.new_path

    def called_at(self, station: Station) -> str:
        """Return which of several it is, as it is called on old or on new."""
        return self.instance if station == "old" else self.new_instance

    @property
    def renamed(self) -> dict[str, str]:
        """The paths below the place that are called otherwise on new."""
        told: dict[str, str] = json.loads(self.renames or "{}")
        return told

    @property
    def from_outside(self) -> dict[str, str]:
        """The files elsewhere that go along, by what they become below the place."""
        told: dict[str, str] = json.loads(self.outside or "{}")
        return told

    @property
    def place_kind(self) -> Literal["file", "folder"]:
        """What its place is, where it is files."""
        return "file" if self.single else "folder"

    def outside_at(self, target: str) -> dict[str, str]:
        """Return what the files elsewhere that go along become where the item comes to."""
        own = len(base(self.old_path))
        return {
            path: f"{target}{name[own:]}" if self.single else join(target, name)
            for name, path in self.from_outside.items()
        }


class LeftItem(Model):
    """An item that no route carries: why each was passed over, and what a person can do.

    ``there`` is what both machines call the folder, where they see the same one, and ``nothing``
    why there is nothing of an optional item: then there is nothing to carry.
    """

    id: str
    title: str
    there: str = ""
    nothing: str = ""
    rejected: tuple[RejectedRoute, ...] = ()
    losses: tuple[Loss, ...] = ()
    todo: str = ""


class Neither(Model):
    """Files of a place that no item takes and none leaves on purpose: perhaps they were forgotten.

    ``items`` are those of the place, ``count`` the number of files, ``some`` the first of them.
    """

    items: tuple[str, ...]
    place: str
    count: int
    some: tuple[str, ...]

    @property
    def words(self) -> str:
        """What is told of it."""
        files = "1 file is" if self.count == 1 else f"{self.count:,} files are"
        more = f" and {self.count - len(self.some):,} more" if self.count > len(self.some) else ""
        told = f"{', '.join(self.some)}{more}"
        return f"{', '.join(self.items)}: {files} not covered by the recipe ({told})"


class PlannedLeg(Model):
    """What is done at one station without walking away, by the ids of its steps."""

    number: int
    station: Station
    steps: tuple[str, ...]


class Plan(Model):
    """Everything that will be done, readable before anything is.

    ``parcel_size`` is the room in bytes that the cargo needs on the medium. ``bound`` legs are
    needed at least, and ``exact`` tells that there are as few as can be. ``notices`` are what a
    person should know beforehand. ``sealed`` tells that the parcel is, so that nobody makes an open
    one of it.
    """

    format: int = CURRENT["plan"]
    recipes: tuple[PlannedRecipe, ...]
    stations: tuple[PlannedStation, ...]
    items: tuple[PlannedItem, ...]
    left: tuple[LeftItem, ...] = ()
    steps: tuple[AnyStep, ...]
    legs: tuple[PlannedLeg, ...]
    bound: int
    exact: bool
    parcel_size: int
    neither: tuple[Neither, ...] = ()
    notices: tuple[str, ...] = ()
    sealed: bool = False

    @classmethod
    def read(cls, data: bytes) -> Self:
        """Return the plan that was written down as ``data``.

        Raises:
            ValueError: It is none, or of another format.
        """
        return cls.model_validate(brought_up("plan", json.loads(data)))

    @model_validator(mode="after")
    def _fits_together(self) -> Self:
        """Raise where a part names another that is not there, or two have one name."""
        items, steps = [i.id for i in self.items], [s.id for s in self.steps]
        for names in (items, steps, [s.station for s in self.stations]):
            if len(set(names)) < len(names):
                raise ValueError("two parts of the plan have one name")
        recipes = {r.id for r in self.recipes}
        if unknown := {i.recipe for i in self.items} - recipes:
            raise ValueError(f"it has no recipe {min(unknown)}")
        if unknown := {s.item for s in self.steps} - {*items, *(i.id for i in self.left)}:
            raise ValueError(f"it has no item {min(unknown)}")
        for step in self.steps:
            try:
                words_of(step)
            except LookupError as error:
                raise ValueError(f"{step.id} cannot be described: {error}") from error
        walked = [step for leg in self.legs for step in leg.steps]
        if set(walked) - set(steps) or len(set(walked)) < len(walked):
            raise ValueError("its legs and its steps do not fit")
        if [leg.number for leg in self.legs] != list(range(1, len(self.legs) + 1)):
            raise ValueError("its legs are not in order")
        if "platform" not in self.station("old").facts:
            raise ValueError("it does not say which computer is the old one")
        plain_values(self.model_dump(mode="json"))
        return self

    def encoded(self) -> bytes:
        """Return the plan in canonical form."""
        return canonical(self.model_dump(mode="json"))

    @property
    def id(self) -> str:
        """The SHA-256 of the canonical form, in hexadecimal."""
        return digest(self.encoded())

    @property
    def essence(self) -> bytes:
        """What consent was given to, in canonical form: routes, places, parts, steps and legs.

        Sizes, what was known or assumed on the way, and the values of parts that all go, may differ
        between two plans that are one in essence.
        """
        items = [
            [
                i.id,
                i.route,
                i.existing,
                i.old_path,
                i.new_path,
                {part: values for part, values in i.parts.items() if part in i.parts_left},
                i.carved,
                i.renames,
                i.outside,
            ]
            for i in self.items
        ]
        left = [item.id for item in self.left]
        acts = {name: getattr(self, name) for name in ("steps", "legs")}
        plain = {name: [v.model_dump(mode="json") for v in values] for name, values in acts.items()}
        return canonical({"items": items, "left": left, **plain})

    @property
    def trips(self) -> int:
        """How often somebody walks from one station to another."""
        return max(0, len(self.legs) - 1)

    def station(self, station: Station) -> PlannedStation:
        """Return what the plan knows of a station; of one between, that nobody has seen it."""
        unseen = PlannedStation(
            station=station, machine=BETWEEN, identity="", facts={}, source="assumed"
        )
        return next((s for s in self.stations if s.station == station), unseen)

    def said(self, station: Station) -> dict[str, Said]:
        """Return what a person said of the places at a station, by the ids of the recipes."""
        if station == "new":
            return {recipe.id: Said(at=recipe.at) for recipe in self.recipes}
        return {recipe.id: Said(real=recipe.real) for recipe in self.recipes if station == "old"}

    def said_as(self, station: Station | None) -> str:
        """Return the option of ``walk`` by which a machine is said to be ``station``, where the
        plan does not know it; else an empty text."""
        known = station is None or self.station(station).identity
        return "" if known else f" --as {station}"

    @property
    def placed(self) -> tuple[PlannedItem, ...]:
        """The items that have a place: all but licences, and what programs keep themselves."""
        return tuple(item for item in self.items if item.kind != "licence" and item.old_path)

    def item(self, item: str) -> PlannedItem:
        """Return the item of that id.

        Raises:
            ParcelUnusable: There is none, or it stays behind.
        """
        found = next((i for i in self.items if i.id == item), None)
        if found is None:
            raise ParcelUnusable("the plan is not consistent", where=item, why="it has none")
        return found

    def steps_of(self, leg: PlannedLeg) -> tuple[Step, ...]:
        """Return the steps of a leg, in order."""
        by_id = {step.id: step for step in self.steps}
        return tuple(by_id[s] for s in leg.steps)
