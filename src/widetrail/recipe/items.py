"""An item: what is carried of an application, and by which routes."""

from collections.abc import Iterator
from typing import Annotated, Literal, Self

from pydantic import (
    BeforeValidator,
    Field,
    model_validator,
)

from widetrail.formats.documents import Model, Where, YesNo
from widetrail.formats.flaws import flaw
from widetrail.recipe.conditions import one_or_many
from widetrail.recipe.routes import Check, Loss, Route, WrittenPaths
from widetrail.recipe.text_types import (
    Glob,
    Name,
    Said,
)

ValuesForm = Literal["ini", "json", "plist", "qt_ini", "toml", "xml", "yaml"]
"""The forms of files of which an item can take values one by one."""


class Item(Model):
    """One thing a person would miss.

    Where it names the form of ``values``, it is values of one settings file, of which ``take`` and
    ``leave`` name some. One of kind ``secret`` travels in a sealed parcel only, and comes for the
    account's eyes alone. What comes ``from`` no place the program itself keeps, in a server, say.
    """

    title: Said
    kind: Literal["data", "settings", "registry", "secret", "licence"] = "data"
    from_: Name | Literal[""] = Field("", alias="from")
    take: Annotated[tuple[Glob, ...], BeforeValidator(one_or_many)] = ()
    leave: Annotated[tuple[Glob, ...], BeforeValidator(one_or_many)] = ()
    values: ValuesForm | None = None
    parts: dict[Name, Name | tuple[Said, ...]] = Field(default_factory=dict)
    paths: Annotated[tuple[WrittenPaths, ...], BeforeValidator(one_or_many)] = ()
    checks: dict[Name, Check] = Field(default_factory=dict)
    losses: tuple[Loss, ...] = ()
    retire: YesNo = False
    optional: YesNo = False
    routes: tuple[Route, ...] = ()

    @model_validator(mode="after")
    def _routes(self) -> Self:
        if not self.routes and not self.losses:
            raise flaw("no-route", "an item without routes needs losses")
        names = [route.name for route in self.routes]
        if len(set(names)) < len(names):
            raise flaw("route-name", "two routes of this item have one name")
        for route in self.routes:
            if isinstance(route.rest, str) and route.rest not in names:
                raise flaw("rest", f'"{route.rest}" is not a route of this item')
        return self

    def checks_of(self, route: Route) -> dict[str, Check]:
        """Return what is compared where the item goes that route."""
        return self.checks if route.checks is None else route.checks

    def all_checks(self) -> Iterator[tuple[Where, str, Check]]:
        """Give every check with where it stands below the item, and its reading."""
        for name, check in self.checks.items():
            yield ("checks", name), name, check
        for number, route in enumerate(self.routes):
            for name, check in (route.checks or {}).items():
                yield ("routes", number, "checks", name), name, check
