"""What a person chooses of a plan: items, values of their parts, routes and places."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import field
from typing import Literal

from pydantic import Field

from widetrail.finding import Finder, Several, Unknown, find_application
from widetrail.formats.stored_values import Text, Told, Truth
from widetrail.lazily import dataclass
from widetrail.machine import Machine
from widetrail.recipe import Item, Loaded
from widetrail.records import Duplicates

Verdict = Literal["carry", "leave"]
ReleaseAfter = Literal["verifying", "packing"]


class WrittenChoices(Told):
    """What a person chose, as files hold it."""

    only: tuple[Text, ...]
    without: tuple[Text, ...]
    parts: dict[Text, tuple[Text, ...]]
    outside: dict[Text, Verdict]
    release_after: ReleaseAfter
    ask_programs: Truth
    routes: dict[Text, Text] = Field(default_factory=dict)
    duplicates: dict[Text, Duplicates] = Field(default_factory=dict)
    to: dict[Text, Text] = Field(default_factory=dict)
    real: dict[Text, Text] = Field(default_factory=dict)

    @property
    def choices(self) -> Choices:
        """The choices themselves."""
        only, without = frozenset(self.only), frozenset(self.without)
        return Choices(
            only,
            without,
            self.parts,
            self.outside,
            self.release_after,
            self.ask_programs,
            self.routes,
            self.duplicates,
            self.to,
            self.real,
        )


@dataclass(frozen=True)
class Choices:
    """Items to go, items to stay, and what is chosen of each, by ``recipe.item``.

    One of several is meant by ``recipe.item[name]``, as plans call it; what is chosen for it stands
    before what is chosen for all of them.
    """

    only: frozenset[str] = frozenset()
    without: frozenset[str] = frozenset()
    parts: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    """The values that are chosen of a part, by ``recipe.item.part``."""

    outside: Mapping[str, Verdict] = field(default_factory=dict)
    """Whether files that an item names elsewhere go along: ``carry`` or ``leave``."""

    release_after: ReleaseAfter = "verifying"
    """When a licence may be released on old: when what was packed is verified on new, or, which
    saves trips and risks that it does not arrive, when it was read back from the medium."""

    ask_programs: bool = False
    """Whether readings may start the application's programs, on either machine, in planning and
    in walks, to read what they print."""

    routes: Mapping[str, str] = field(default_factory=dict)
    """The route that an item is to go, by ``recipe.item``."""

    duplicates: Mapping[str, Duplicates] = field(default_factory=dict)
    """What becomes of records that are there with another content, by ``recipe.item``."""

    to: Mapping[str, str] = field(default_factory=dict)
    """The folder on new that an item is to come to, as a person writes it, by ``recipe.item``."""

    real: Mapping[str, str] = field(default_factory=dict)
    """Which of several on old is the real one, by ``recipe.place``: its name or path."""

    def written(self) -> WrittenChoices:
        """Return the choices as files hold them."""
        return WrittenChoices(
            only=tuple(sorted(self.only)),
            without=tuple(sorted(self.without)),
            parts=dict(self.parts),
            outside=dict(self.outside),
            release_after=self.release_after,
            ask_programs=self.ask_programs,
            routes=dict(self.routes),
            duplicates=dict(self.duplicates),
            to=dict(self.to),
            real=dict(self.real),
        )

    def wants(self, item: str, instance: str = "") -> bool:
        """Return whether the item ``recipe.item``, or that one of several, is to go."""
        names = {item, f"{item}[{instance}]"} if instance else {item}
        return not names & self.without and (not self.only or bool(names & self.only))

    def may_want(self, item: str) -> bool:
        """Return whether the item ``recipe.item``, or one of several, may be to go."""
        some = any(name.startswith(f"{item}[") for name in self.only)
        return item not in self.without and (some or not self.only or item in self.only)

    def instances(self) -> frozenset[str]:
        """Return the names of those of several that something is chosen for."""
        chosen = (self.parts, self.outside, self.routes, self.duplicates, self.to)
        named = [*self.only, *self.without, *(name for one in chosen for name in one)]
        found = (name for name in named if "[" in name)
        return frozenset(name[: name.rindex("]") + 1] for name in found)


@dataclass(frozen=True)
class Offer:
    """What a person can choose of one item: whether it goes, the values of its parts, its route
    where the recipe leaves that to them, where it is to be (``movable``) where its program can be
    told, and what becomes of ``duplicates``; ``real`` are the paths of which one is real, by
    ``recipe.place``, where the recipe cannot tell."""

    id: str
    title: str
    parts: Mapping[str, tuple[str, ...]]
    routes: tuple[str, ...] = ()
    movable: bool = False
    duplicates: tuple[Duplicates, ...] = ()
    real: Mapping[str, tuple[str, ...]] = field(default_factory=dict)


def offered(
    recipes: Sequence[Loaded], old: Machine, *, ask_programs: bool = False
) -> tuple[Offer, ...]:
    """Return what can be chosen of the applications that are on ``old``.

    The values of a part of an item that is several are those of all of them.
    """
    offers = []
    for loaded in sorted(recipes, key=lambda one: one.id):
        finder = find_application(old, loaded, ask_programs=ask_programs)
        doubtful = finder.doubtful() if finder.installation else {}
        real = {f"{loaded.id}.{place}": paths for place, paths in doubtful.items()}
        for name, item in loaded.recipe.items.items() if finder.installation else ():
            title = f"{loaded.recipe.application.name}: {item.title}"
            parts = {part: _values(finder, item, part) for part in item.parts}
            known = {part: values for part, values in parts.items() if values}
            ways = tuple(route.name for route in item.routes)
            words = tuple(dict.fromkeys(w for route in item.routes for w in route.treats))
            left = ways if any(route.by_choice for route in item.routes) else ()
            told = any(
                place.set_in is not None for place in loaded.recipe.places.get(item.from_, ())
            )
            offers.append(Offer(f"{loaded.id}.{name}", title, known, left, told, words, real))
            real = {}
        for name, licence in loaded.recipe.licences.items() if finder.installation else ():
            title = f"{loaded.recipe.application.name}: {licence.title}"
            offers.append(Offer(f"{loaded.id}.{name}", title, {}))
    return tuple(offers)


def _values(finder: Finder, item: Item, part: str) -> tuple[str, ...]:
    where = finder.place(item.from_)
    finders = [finder]
    if isinstance(where, Several):
        finders = [finder.within(item.from_, instance) for instance in where.instances]
    found = [one.part_values(part, item) for one in finders]
    values = (v for answer in found if not isinstance(answer, Unknown) for v in answer)
    return tuple(dict.fromkeys(values))
