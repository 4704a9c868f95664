"""A recipe as lint rules go through it: each template, reading and step with where it stands."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence

from widetrail.formats.documents import Where
from widetrail.lazily import dataclass
from widetrail.recipe.by_platform import PerPlatform
from widetrail.recipe.items import Item
from widetrail.recipe.models import Recipe
from widetrail.recipe.places import Place
from widetrail.recipe.readings import Reading
from widetrail.recipe.routes import Leg, Loss, Route
from widetrail.recipe.settings import Role, Settings
from widetrail.recipe.templates import ROOTS, Template, braces, parse_template
from widetrail.recipe.text_types import is_command

Used = tuple[Where, str]
"""Where a path or argument template stands, and its text."""

LegsAt = tuple[Where, Item, tuple[Leg, ...], frozenset[str]]
"""Where the legs of a route stand, whose they are, they themselves, and the names that are known in
their braces beside those of the recipe."""

GIVEN = frozenset({"parcel", "date", "installation"})
"""Names that are known in every recipe, beside the roots."""

OF_LICENCES = frozenset({"serial", "request", "answer"})
"""Names that a licence's steps may have in braces."""


class Whole:
    """A recipe with what several rules go through; ``kinds`` are those of steps, ``account`` is the
    name of who wrote it, or nothing."""

    def __init__(
        self, recipe: Recipe, kinds: Mapping[str, type[Settings]], account: str = ""
    ) -> None:
        self.recipe, self.kinds, self.account = recipe, kinds, account
        self.readings = tuple(_readings(recipe))
        self.templates = tuple(_templates(recipe, self.readings))
        self.legs = tuple(_legs(recipe))
        self.lenders = frozenset(used.replace("-", "_") for used in recipe.relies_on)
        """The names by which recipes that this one uses lend their places."""
        self.steps = tuple(_steps(recipe, self.legs, self.lenders))


@dataclass(frozen=True)
class SomeStep:
    """One step of a route, with where it stands and the names that may stand in its braces."""

    where: Where
    rule: Settings
    recipe: Recipe
    item: Item
    told: frozenset[str]
    kind: str
    known: frozenset[str]
    secrets: frozenset[str]
    templates: tuple[tuple[Where, Role, Template], ...]
    """Every template of it: where it stands, what it is for, and its pieces."""

    @property
    def of_licence(self) -> bool:
        """Whether the step releases or claims a licence."""
        return self.item.kind == "licence"


def _legs(recipe: Recipe) -> Iterator[LegsAt]:
    """Give the legs of every route, with where they stand and whose they are."""
    for name, item in recipe.items.items():
        for number, route in enumerate(item.routes):
            yield ("items", name, "routes", number, "legs"), item, route.legs, _of(route)
    for name, licence in recipe.licences.items():
        item = licence.as_item()
        for number, way in enumerate(licence.routes):
            yield ("items", name, "routes", number, "ready"), item, way.ready, OF_LICENCES
            yield ("items", name, "routes", number, "free"), item, way.free, OF_LICENCES
            yield ("items", name, "routes", number, "claim"), item, way.claim, OF_LICENCES


def _of(route: Route) -> frozenset[str]:
    """Return the names that the steps of a route may have in braces since the route has more."""
    return frozenset({"duplicates"} if route.duplicates else ())


def _steps(recipe: Recipe, legs_at: Iterable[LegsAt], lent: frozenset[str]) -> Iterator[SomeStep]:
    """Give every step of legs with what rules want to know of it."""
    own = {*ROOTS, *GIVEN, *recipe.places, *recipe.readings, *recipe.asks, *lent}
    secrets = {name for name, ask in recipe.asks.items() if ask.secret is not None}
    for at, item, legs, more in legs_at:
        serial = {"serial"} if item.kind == "licence" else set()
        told: set[str] = set()
        for leg_number, leg in enumerate(legs):
            for step_number, step in enumerate(leg.steps):
                where = (*at, leg_number, leg.station, step_number)
                yield SomeStep(
                    where,
                    step.rule,
                    recipe,
                    item,
                    frozenset(told),
                    step.kind,
                    frozenset({*own, *more, *item.parts, *told}),
                    frozenset({*secrets, *serial}),
                    tuple(_step_templates(where, step.rule)),
                )
                told |= set(step.rule.names_told)


def _step_templates(at: Where, rule: Settings) -> Iterator[tuple[Where, Role, Template]]:
    for text in rule.templates():
        yield (*at, *text.at), text.role, parse_template(text.text)


def _templates(recipe: Recipe, readings: Sequence[tuple[Where, Reading]]) -> Iterator[Used]:
    application = recipe.application
    for name, program in application.programs.items():
        yield from _choice(("application", "programs", name), program)
    for key, command in application.commands():
        for number, argument in enumerate(command):
            yield ("application", key, number), argument
    for number, lock in enumerate(application.lock):
        yield from _choice(("application", "lock", number), lock)
    for number, case in enumerate(recipe.recognise):
        yield from _choice(("recognise", number, "sign"), case.sign.where)
    for name, cases in recipe.places.items():
        for number, place in enumerate(cases):
            yield from _place(("places", name, number), place)
    for where, reading in readings:
        yield from _choice((*where, reading.form), reading.file_read)
        yield from (((*where, reading.form, n), a) for n, a in enumerate(reading.command or ()))
        if reading.stdin is not None and not _asks_for(recipe, reading.stdin):
            yield (*where, "stdin"), reading.stdin
    for name, item in recipe.items.items():
        for number, rule in enumerate(item.paths):
            if rule.in_file:
                yield from _choice(("items", name, "paths", number, rule.form), rule.where)
    for name, licence in recipe.licences.items():
        for number, path in enumerate(licence.files):
            yield from _choice(("items", name, "files", number), path)


def _asks_for(recipe: Recipe, text: str) -> bool:
    """Return whether all names in braces of a text are those of what the recipe asks for."""
    return all(brace.name in recipe.asks for brace in braces(text))


def _place(where: Where, place: Place) -> Iterator[Used]:
    yield from _choice((*where, place.kind), place.where)
    yield from _choice((*where, "else"), place.otherwise)
    yield from _choice((*where, "each"), place.each)
    if place.index is not None:
        yield from _choice((*where, "index", place.index.form), place.index.where)
    for number, choice in enumerate(place.first_of):
        yield from _choice((*where, "first_of", number), choice)


def _readings(recipe: Recipe) -> Iterator[tuple[Where, Reading]]:
    """Give every reading of a recipe with where it stands."""
    for number, case in enumerate(recipe.recognise):
        if case.sign.prints is not None:
            yield ("recognise", number, "sign", "prints"), case.sign.prints
        for key, reading in (("release", case.release), ("edition", case.edition)):
            if reading is not None:
                yield ("recognise", number, key), reading
    for name, cases in recipe.places.items():
        for number, place in enumerate(cases):
            for key, reading in (
                ("set_in", place.set_in),
                ("in_use", place.in_use),
                ("listed_in", place.listed_in),
            ):
                if reading is not None:
                    yield ("places", name, number, key), reading
    for name, of_machines in recipe.readings.items():
        for number, reading in enumerate(of_machines):
            yield ("readings", name, number), reading
    for name, licence in recipe.licences.items():
        if licence.serial is not None:
            yield ("items", name, "serial"), licence.serial
        yield ("items", name, "active"), licence.active


def _choice(where: Where, choice: str | PerPlatform | None) -> Iterator[Used]:
    if choice is None or isinstance(choice, str):
        if choice is not None and not is_command(choice):
            yield where, choice
        return
    for key, text in choice.texts():
        if not is_command(text):
            yield (*where, key), text


def texts_of(choice: str | PerPlatform | None) -> Iterator[str]:
    """Give the templates of a path on every platform."""
    if isinstance(choice, PerPlatform):
        yield from (text for _, text in choice.texts())
    elif choice is not None:
        yield choice


def in_conditions(item: Item) -> list[tuple[str, Where]]:
    """Return the readings that an item's conditions name, with where they stand in the item."""
    named: list[tuple[str, Where]] = []
    for number, route in enumerate(item.routes):
        at: Where = ("routes", number)
        named += [(name, (*at, "wait", name)) for name in route.wait]
        for station in ("old", "new", "between"):
            needs = getattr(route.needs, station)
            if needs is not None:
                named += [(name, (*at, "needs", station, name)) for name in needs.readings]
        for subject, conditions in route.only.items():
            named += [(name, (*at, "only", subject, name)) for name in conditions]
        for leg_number, leg in enumerate(route.legs):
            for step_number, step in enumerate(leg.steps):
                spot: Where = (*at, "legs", leg_number, leg.station, step_number)
                for key, rules in step.rule.conditions().items():
                    named += [(n, (*spot, key, n)) for n in rules]
        named += _of_losses(route.losses, at)
    return named + _of_losses(item.losses, ())


def _of_losses(losses: Sequence[Loss], at: Where) -> list[tuple[str, Where]]:
    return [
        (name, (*at, "losses", number, key, name))
        for number, loss in enumerate(losses)
        for key in ("when", "proof")
        for name in getattr(loss, key)
    ]
