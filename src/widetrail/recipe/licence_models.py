"""A licence in a recipe: how it is asked for, and by which routes its seat moves."""

from typing import Annotated, Literal, Self

from pydantic import (
    BeforeValidator,
    Field,
    model_validator,
)

from widetrail.formats.documents import Model
from widetrail.formats.flaws import flaw
from widetrail.recipe.by_platform import PathChoice
from widetrail.recipe.conditions import Needs, one_or_many
from widetrail.recipe.items import Item
from widetrail.recipe.readings import For, Reading
from widetrail.recipe.routes import Leg, Loss, Route, Station, StepRule
from widetrail.recipe.text_types import (
    Name,
    Said,
)


class ActiveReading(Reading):
    """What the program itself says of its licence: it is active, not, or that is not known.

    ``is`` is what the reading gives where it is active, ``not`` what it gives where it is not;
    without ``not`` that is anything else.
    """

    is_: Said = Field(alias="is")
    not_: Annotated[tuple[Said, ...], BeforeValidator(one_or_many)] = Field((), alias="not")


class Exchange(Model):
    """Readings of a request and of an answer that give the same where they belong together."""

    request: Reading
    answer: Reading


class LicenceRoute(Model):
    """One way to release a licence's seat on old, and to claim it on new.

    ``ready`` is tried on new before anything is done on old.
    """

    name: Said
    for_: For | None = Field(None, alias="for")
    needs: Needs = Field(default_factory=Needs)
    ready: tuple[Leg, ...] = ()
    free: tuple[Leg, ...] = Field(min_length=1)
    claim: tuple[Leg, ...] = Field(min_length=1)
    losses: tuple[Loss, ...] = ()

    @model_validator(mode="after")
    def _stations(self) -> Self:
        if any(leg.station != "new" for leg in self.ready):
            hint = "It checks the new computer before anything is released"
            raise flaw("licence-legs", '"ready" is not on the new computer', hint)
        if any(leg.station == "old" for leg in self.claim) or self.claim[-1].station != "new":
            hint = '"claim" is done on the new computer and between; its last leg is on the new one'
            raise flaw("licence-legs", '"claim" does not end on the new computer', hint)
        return self

    @property
    def legs(self) -> tuple[Leg, ...]:
        """All legs: what is tried, then those that release, then those that claim."""
        return (*self.ready, *self.free, *self.claim)

    def numbered(self) -> tuple[tuple[str, int, Station, StepRule], ...]:
        """Return every step with the name of its part and its number in the route, from 1."""
        parts = (("ready", self.ready), ("free", self.free), ("claim", self.claim))
        steps = [(part, leg.station, s) for part, legs in parts for leg in legs for s in leg.steps]
        return tuple((part, n, at, s) for n, (part, at, s) in enumerate(steps, start=1))

    def as_route(self) -> Route:
        """Return the route as steps see it that know nothing of licences."""
        return Route(name=self.name, needs=self.needs, legs=self.legs, losses=self.losses)


class Licence(Model):
    """A licence whose seat is released on old and claimed on new.

    One without ``serial`` is an account's, a thing's that is plugged in or a server's. ``keep``
    are readings of old that the claim needs as they were when the move began; ``files`` are what
    the program keeps its licence in, where ``serial`` and ``active`` do not read them.
    """

    title: Said = "Licence"
    kind: Literal["licence"]
    serial: Reading | None = None
    active: ActiveReading
    keep: tuple[Name, ...] = ()
    files: Annotated[tuple[PathChoice, ...], BeforeValidator(one_or_many)] = ()
    exchange: Exchange | None = None
    losses: tuple[Loss, ...] = ()
    routes: tuple[LicenceRoute, ...] = Field(min_length=1)

    @model_validator(mode="after")
    def _names(self) -> Self:
        names = [route.name for route in self.routes]
        if len(set(names)) < len(names):
            raise flaw("route-name", "two routes of this item have one name")
        return self

    def as_item(self) -> Item:
        """Return the licence as steps see it that know nothing of licences: it has no place."""
        return Item.model_construct(
            title=self.title,
            kind="licence",
            from_="",
            losses=self.losses,
            routes=tuple(route.as_route() for route in self.routes),
        )
