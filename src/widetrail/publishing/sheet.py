"""A sheet: all that a reviewer or technician reads of a recipe, before it is walked."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

from widetrail.lazily import dataclass
from widetrail.machine.platforms import PLATFORMS
from widetrail.publishing.sheet_places import (
    KeptPlace,
    places_of,
    platforms_of,
    programs_of,
    signs_of,
)
from widetrail.publishing.sheet_routes import (
    SheetItem,
    SheetLoss,
    first_trips,
    items_of,
    losses_of,
)
from widetrail.recipe import Loaded, Station
from widetrail.rehearsing import Rehearsal
from widetrail.rehearsing.history import Passed
from widetrail.trust import Permission, permissions_of


@dataclass(frozen=True)
class Proof:
    """A case of a rehearsal of a recipe, and when it last passed as far as a history tells."""

    file: str
    title: str
    case: str
    old: str
    new: str
    passed: Passed | None


@dataclass(frozen=True)
class PersonTask:
    """What a person does at a station; ``of`` are the item and the route that ask for it."""

    station: Station
    what: str
    of: str


@dataclass(frozen=True)
class Told:
    """Something that a recipe says of itself, under a heading."""

    what: str
    text: str


@dataclass(frozen=True)
class Sheet:
    """A recipe in words; ``file`` is the name of its file, ``digest`` the SHA-256 of that.

    ``platforms`` are those on which the program is recognised, ``signs`` and ``places`` where they
    and its things are. ``programs`` are what it starts. ``trips`` are the fewest visits where each
    item goes its first route, each with the items that something is done of. ``permissions`` are
    what it may do on a computer. ``known`` tells whether a history was looked at, so that a
    rehearsal without a pass never passed.
    """

    id: str
    name: str
    maker: str
    file: str
    digest: str
    revision: int
    releases: str
    platforms: tuple[str, ...]
    programs: tuple[KeptPlace, ...]
    signs: KeptPlace
    places: tuple[KeptPlace, ...]
    relies_on: tuple[Told, ...]
    items: tuple[SheetItem, ...]
    trips: tuple[tuple[Station, tuple[str, ...]], ...]
    losses: tuple[SheetLoss, ...]
    asks: tuple[Told, ...]
    excuses: tuple[Told, ...]
    proofs: tuple[Proof, ...]
    permissions: tuple[Permission, ...]
    known: bool

    @property
    def everywhere(self) -> bool:
        """Whether the recipe tells no platform from another."""
        told = (self.signs, *self.programs, *self.places)
        return len(self.platforms) == len(PLATFORMS) and all(one.everywhere for one in told)

    @property
    def tasks(self) -> tuple[PersonTask, ...]:
        """What a person does, each once, in the order of the items."""
        found: list[PersonTask] = []
        for item in self.items:
            before = [one.before for one in self.losses if one.item == item.name and one.before]
            found += (PersonTask("old", what, item.title) for what in before)
            for route in item.routes:
                of = f"{item.title}, by {route.name}"
                found += (
                    PersonTask(leg.station, step.words, of)
                    for leg in route.legs
                    for step in leg.steps
                    if step.effect == "asks"
                )
        return tuple(dict.fromkeys(found))

    @property
    def routes(self) -> int:
        """How many routes there are in all."""
        return sum(len(item.routes) for item in self.items)

    @property
    def closed(self) -> tuple[Station, ...]:
        """Where the program must be closed for some route."""
        legs = (leg for item in self.items for route in item.routes for leg in route.legs)
        return tuple(
            dict.fromkeys(leg.station for leg in legs if any(one.closed for one in leg.steps))
        )

    @property
    def proved(self) -> int:
        """How many rehearsals passed with the recipe as it is."""
        return sum(one.passed is not None and not one.passed.since for one in self.proofs)


LastPassed = Callable[[Rehearsal], Passed | None]
"""Tells when a rehearsal last passed, if it ever did."""


def make_sheet(
    loaded: Loaded, rehearsals: Sequence[Rehearsal] = (), last: LastPassed | None = None
) -> Sheet:
    """Return the sheet of a recipe with the ``rehearsals`` that try it.

    Example:
        >>> [recipe] = load_recipes(["recipes/huemoss.trail.yaml"])
        >>> [item.title for item in make_sheet(recipe).items]
        ['Palettes', 'Stamps']
    """
    recipe = loaded.recipe
    platforms = platforms_of(recipe)
    application = recipe.application
    return Sheet(
        id=loaded.id,
        name=application.name,
        maker=application.maker,
        file=Path(loaded.file).name,
        digest=loaded.digest,
        revision=recipe.revision,
        releases=application.releases or "",
        platforms=tuple(PLATFORMS[platform].title for platform in platforms),
        programs=programs_of(recipe, platforms),
        signs=signs_of(recipe, platforms),
        places=places_of(recipe, platforms),
        relies_on=tuple(Told(other, releases) for other, releases in recipe.relies_on.items()),
        items=items_of(loaded),
        trips=first_trips(loaded),
        losses=losses_of(loaded),
        asks=tuple(
            Told("a secret" if ask.secret else "a text", ask.secret or ask.text or "")
            for ask in recipe.asks.values()
        ),
        excuses=tuple(Told(f"{one.finding} at {one.at}", one.why) for one in recipe.excuses),
        proofs=tuple(_proof(one, last) for one in rehearsals),
        permissions=permissions_of(loaded),
        known=last is not None,
    )


def _proof(rehearsal: Rehearsal, last: LastPassed | None) -> Proof:
    file = rehearsal.file
    passed = last(rehearsal) if last is not None else None
    name = rehearsal.path.name
    return Proof(name, file.rehearsal, rehearsal.case, file.old.machine, file.new.machine, passed)
