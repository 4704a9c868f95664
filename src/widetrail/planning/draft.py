"""A plan in the making: the recipes on both sides, their items, and what is found out of them."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import field
from typing import TypeVar

from widetrail.errors import Halted
from widetrail.finding import (
    Finder,
    Found,
    Instance,
    Where,
    entries_of,
)
from widetrail.lazily import dataclass
from widetrail.machine import Entry
from widetrail.planning.plan import (
    LeftItem,
    PlannedItem,
)
from widetrail.planning.route_choice import Chosen
from widetrail.planning.station_facts import Side
from widetrail.recipe import Item, Loaded, Loss
from widetrail.recipe.licence_models import LicenceRoute
from widetrail.steps import Step

T = TypeVar("T")
NOT_THERE = "not there"
"""The code of what stands in the way where there is nothing to move."""


@dataclass(frozen=True)
class Subject:
    """One item, or one instance of it, with all that is known of it before a route is chosen."""

    id: str
    name: str
    side: RecipeSides
    finder: Finder
    old_place: Where
    new_place: Where
    instance: Instance | None = None
    new_name: str = ""
    is_chosen: bool = False
    """Whether a person chose the place on new of this one of several."""

    @property
    def item(self) -> Item:
        return self.side.loaded.recipe.items[self.name]

    def chosen(self, choices: Mapping[str, T], ending: str = "") -> T | None:
        """Return what a person chose for the item: for that one of several before all of them."""
        whole = f"{self.side.loaded.id}.{self.name}{ending}"
        return choices.get(f"{self.id}{ending}", choices.get(whole))


@dataclass(frozen=True)
class RecipeSides:
    """One recipe with its two sides."""

    loaded: Loaded
    finder: Finder
    old: Side
    new: Side


@dataclass
class Draft:
    """A plan in the making."""

    obstacles: list[Halted] = field(default_factory=list)
    notices: list[str] = field(default_factory=list)
    items: list[tuple[PlannedItem, Subject, Chosen]] = field(default_factory=list)
    licences: list[tuple[PlannedItem, RecipeSides, LicenceRoute]] = field(default_factory=list)
    left: list[LeftItem] = field(default_factory=list)
    steps: list[Step] = field(default_factory=list)
    private: list[str] = field(default_factory=list)
    sealed: bool = False
    """The titles of the items that hold what nobody but the account may read."""


def title_of(subject: Subject) -> str:
    named = f" – {subject.instance.name}" if subject.instance is not None else ""
    return f"{subject.side.loaded.recipe.application.name}: {subject.item.title}{named}"


def told_loss(loss: Loss) -> Loss:
    """Return a loss as a plan tells it: its conditions were judged, its proof is the recipe's."""
    return loss.model_copy(update={"when": {}, "proof": {}})


def entries_to_pack(subject: Subject, carved: Sequence[str]) -> Collection[Entry]:
    place = subject.old_place
    assert isinstance(place, Found)
    return entries_of(subject.finder.machine, subject.item, place, carved)[0]
