"""The frozen values a recipe is made of.

They are made in one place, the loader; nothing here reads a file or a machine.
"""

from collections.abc import Iterator, Mapping
from functools import cached_property
from typing import Annotated, Literal, Self

from pydantic import (
    BeforeValidator,
    Discriminator,
    Field,
    Tag,
    model_validator,
)

from widetrail.formats.documents import TAG, Model
from widetrail.formats.flaws import flaw
from widetrail.recipe.by_platform import PathChoice, ProgramChoice
from widetrail.recipe.conditions import one_or_many
from widetrail.recipe.items import Item
from widetrail.recipe.licence_models import Licence
from widetrail.recipe.places import Place, Recognition
from widetrail.recipe.printouts import AnyPrintout
from widetrail.recipe.readings import Reading
from widetrail.recipe.text_types import (
    AppId,
    ArgumentText,
    Name,
    Range,
    Said,
)


def _is_licence(value: object) -> str:
    kind = value.get("kind") if isinstance(value, Mapping) else getattr(value, "kind", None)
    return f"{TAG}licence" if kind == "licence" else f"{TAG}item"


AnyItem = Annotated[
    Annotated[Item, Tag(f"{TAG}item")] | Annotated[Licence, Tag(f"{TAG}licence")],
    Discriminator(_is_licence),
]


class Ask(Model):
    """Something a person is asked for once, by the words given."""

    secret: Said | None = None
    text: Said | None = None

    @model_validator(mode="after")
    def _one(self) -> Self:
        if (self.secret is None) == (self.text is None):
            raise flaw("ask", 'expected one of "secret" and "text"')
        return self


class Application(Model):
    """The program a recipe is for; ``screen`` prints what a person would see in it."""

    id: AppId
    name: Said
    maker: str = ""
    releases: Range | None = None
    programs: dict[Name, ProgramChoice] = Field(default_factory=dict)
    screen: AnyPrintout | None = None
    open: tuple[ArgumentText, ...] = ()
    close: tuple[ArgumentText, ...] = ()
    lock: Annotated[tuple[PathChoice, ...], BeforeValidator(one_or_many)] = ()

    def commands(self) -> Iterator[tuple[str, tuple[str, ...]]]:
        """Give the commands that it names itself, each by its key."""
        yield "screen", self.screen.run if self.screen is not None else ()
        yield "open", self.open
        yield "close", self.close


class Excuse(Model):
    """A warning that somebody looked at, and why it is right as it is.

    ``finding`` is its code, ``at`` the keys that lead to it with dots, or to what holds it.
    """

    finding: Said
    at: str
    why: Said

    def holds_for(self, code: str, where: str) -> bool:
        """Return whether it is for a finding of that code that stands there."""
        return code == self.finding and (where == self.at or where.startswith(f"{self.at}."))


NAMES_MOST = 400
"""Places, readings or items of a recipe, at most."""


class Recipe(Model):
    """A whole recipe."""

    recipe: Literal["1"]
    revision: Annotated[int, Field(ge=1)]
    application: Application
    recognise: tuple[Recognition, ...] = Field(min_length=1)
    places: dict[Name, Annotated[tuple[Place, ...], BeforeValidator(one_or_many)]] = Field(
        max_length=NAMES_MOST
    )
    readings: dict[Name, Annotated[tuple[Reading, ...], BeforeValidator(one_or_many)]] = Field(
        default_factory=dict, max_length=NAMES_MOST
    )
    relies_on: dict[AppId, Range] = Field(default_factory=dict)
    asks: dict[Name, Ask] = Field(default_factory=dict)
    excuses: tuple[Excuse, ...] = ()
    listed: dict[Name, AnyItem] = Field(min_length=1, max_length=NAMES_MOST, alias="items")

    @cached_property
    def items(self) -> dict[str, Item]:
        """The items that are files or named values, by name."""
        return {name: item for name, item in self.listed.items() if isinstance(item, Item)}

    def known_as_item(self, name: str) -> Item | None:
        """Return the item of that name, or the licence as one, or ``None``."""
        if name in self.licences:
            return self.licences[name].as_item()
        return self.items.get(name)

    @cached_property
    def licences(self) -> dict[str, Licence]:
        """The items that are licences, by name."""
        return {name: item for name, item in self.listed.items() if isinstance(item, Licence)}
