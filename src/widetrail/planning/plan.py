"""The plan: pure data whose id is the hash of its canonical form."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from widetrail.formats.canonical import canonical, digest
from widetrail.formats.checked import Model
from widetrail.recipe import Existing, Loss, Station
from widetrail.steps import Step


class PlannedRecipe(Model):
    """A recipe the plan was made from; ``digest`` is the SHA-256 of its file."""

    id: str
    name: str
    revision: int
    digest: str


class PlannedStation(Model):
    """A machine of the plan, and what was known of it.

    ``facts`` maps a fact to its value; ``seen`` says that each was seen on the machine itself.
    """

    station: Station
    machine: str
    identity: str
    facts: dict[str, str]
    source: Literal["seen"] = "seen"


class PlannedItem(Model):
    """An item with the route it goes, where it is on both sides, and what is not carried."""

    id: str
    recipe: str
    item: str
    title: str
    kind: str
    route: str
    existing: Existing
    whole: bool
    old_path: str
    old_how: str
    new_path: str
    new_how: str
    occupied: bool
    files: int
    size: int
    losses: tuple[Loss, ...]


class PlannedLeg(Model):
    """What is done at one station without walking away, by the ids of its steps."""

    number: int
    station: Station
    steps: tuple[str, ...]


class Plan(Model):
    """Everything that will be done, readable before anything is.

    ``parcel_size`` is the room in bytes that the cargo needs on the medium; ``trips`` how often
    somebody walks between stations; ``notices`` what a person should know beforehand.
    """

    format: Literal[1] = 1
    recipes: tuple[PlannedRecipe, ...]
    stations: tuple[PlannedStation, ...]
    items: tuple[PlannedItem, ...]
    steps: tuple[Step, ...]
    legs: tuple[PlannedLeg, ...]
    parcel_size: int
    trips: int
    notices: tuple[str, ...] = Field(default=())

    def encoded(self) -> bytes:
        """Return the plan in canonical form."""
        return canonical(self.model_dump(mode="json"))

    @property
    def id(self) -> str:
        """The SHA-256 of the canonical form, in hexadecimal."""
        return digest(self.encoded())

    def station(self, station: Station) -> PlannedStation:
        """Return what the plan knows of a station."""
        return next(s for s in self.stations if s.station == station)

    def item(self, item: str) -> PlannedItem:
        """Return the item of that id."""
        return next(i for i in self.items if i.id == item)

    def steps_of(self, leg: PlannedLeg) -> tuple[Step, ...]:
        """Return the steps of a leg, in order."""
        by_id = {step.id: step for step in self.steps}
        return tuple(by_id[s] for s in leg.steps)
