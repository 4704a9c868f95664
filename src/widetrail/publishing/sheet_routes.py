"""What a recipe carries, and by which routes: their conditions and their steps, for people."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from widetrail.lazily import dataclass
from widetrail.planning import find_itinerary
from widetrail.planning.needs import limit_in_words, needs_in_words
from widetrail.planning.recipe_steps import steps_of_licence, steps_of_route
from widetrail.publishing.sheet_places import source_on, when
from widetrail.recipe import Item, Loaded, Loss, Route, Station
from widetrail.recipe.licence_models import Licence, LicenceRoute
from widetrail.recipe.routes import ALL, Check
from widetrail.steps import Step, act_of, words_of
from widetrail.steps.kind import Effect
from widetrail.steps.reading_conditions import conditions, shown


@dataclass(frozen=True)
class SheetStep:
    """A step in words; ``effect`` is what it does to a computer, ``own`` tells that the recipe
    states it, and ``closed`` that the program must be closed by then."""

    words: str
    effect: Effect
    own: bool
    closed: bool


@dataclass(frozen=True)
class SheetLeg:
    """The steps of one visit to a station."""

    station: Station
    steps: tuple[SheetStep, ...]


@dataclass(frozen=True)
class SheetLoss:
    """What a route does not transfer; ``item`` and ``route`` say of what, and ``route`` is empty
    where it is so by any. ``when`` are conditions, ``before`` is what to do on old first."""

    item: str
    route: str
    what: str
    remedy: str
    before: str
    when: tuple[str, ...]


@dataclass(frozen=True)
class SheetRoute:
    """A route: it is taken if all of ``conditions`` hold and none before it was."""

    name: str
    by_choice: bool
    conditions: tuple[str, ...]
    notes: tuple[str, ...]
    legs: tuple[SheetLeg, ...]

    @property
    def stations(self) -> tuple[Station, ...]:
        """Where a person goes, in order."""
        return tuple(leg.station for leg in self.legs)


@dataclass(frozen=True)
class SheetItem:
    """An item or a licence. ``place`` is where it is from, ``take`` and ``leave`` what of it goes
    and what does not, ``checks`` what is compared afterwards."""

    name: str
    title: str
    kind: str
    place: str
    take: tuple[str, ...]
    leave: tuple[str, ...]
    notes: tuple[str, ...]
    checks: tuple[str, ...]
    routes: tuple[SheetRoute, ...]


def items_of(loaded: Loaded) -> tuple[SheetItem, ...]:
    """Return every item of a recipe, licences last as they move last."""
    recipe = loaded.recipe
    items = [_item(loaded, name, item) for name, item in recipe.items.items()]
    return (*items, *(_licence(loaded, name, one) for name, one in recipe.licences.items()))


def losses_of(loaded: Loaded) -> tuple[SheetLoss, ...]:
    """Return what a recipe does not transfer, by any route of an item or by one."""
    found: list[SheetLoss] = []
    for name, item in loaded.recipe.listed.items():
        found += (_loss(name, "", loss) for loss in item.losses)
        for route in item.routes:
            rest = getattr(route, "rest", None)
            mine = (*route.losses, *((rest,) if isinstance(rest, Loss) else ()))
            found += (_loss(name, route.name, loss) for loss in mine)
    return tuple(found)


def first_trips(loaded: Loaded) -> tuple[tuple[Station, tuple[str, ...]], ...]:
    """Return the fewest visits by which each item goes its first route that needs no choice, each
    with what is done there of which item."""
    steps: list[Step] = []
    for name, item in loaded.recipe.items.items():
        route = next((r for r in item.routes if not r.by_choice), None)
        steps += steps_of_route(loaded, name, route) if route is not None else ()
    for name, licence in loaded.recipe.licences.items():
        needed = [step.id for step in steps if step.station == "new"]
        steps += steps_of_licence(loaded, name, licence.routes[0], needed)
    listed = loaded.recipe.listed
    items = {step.id: listed[step.item.partition(".")[2]].title for step in steps}
    legs = find_itinerary(steps).legs
    return tuple((at, tuple(dict.fromkeys(items[one] for one in ids))) for at, ids in legs)


def _loss(item: str, route: str, loss: Loss) -> SheetLoss:
    return SheetLoss(item, route, loss.what, loss.remedy, loss.before, conditions(loss.when))


def _item(loaded: Loaded, name: str, item: Item) -> SheetItem:
    notes = []
    if item.values is not None:
        notes.append("Its values are taken one by one.")
    if item.parts:
        notes.append(f"A person may choose some of it, by {' or by '.join(item.parts)}.")
    if item.optional:
        notes.append("It may be that there is nothing of it.")
    if item.retire:
        notes.append("Once all is well, it is renamed on the old computer.")
    written = ", ".join(dict.fromkeys(source_on(one, None) for one in item.paths))
    if written:
        notes.append(f"Paths that stand in it are rewritten: {written}.")
    routes = tuple(_route(loaded, name, item, route) for route in item.routes)
    return SheetItem(
        name,
        item.title,
        item.kind,
        item.from_,
        item.take,
        item.leave,
        tuple(notes),
        _checks(item.checks),
        routes,
    )


def _licence(loaded: Loaded, name: str, licence: Licence) -> SheetItem:
    notes = [] if licence.serial is None else ["Its serial travels in a sealed parcel only."]
    checks = ("the program itself says that it is active on the new computer",)
    routes = tuple(_licence_route(loaded, name, route) for route in licence.routes)
    return SheetItem(name, licence.title, "licence", "", (), (), tuple(notes), checks, routes)


def _checks(checks: Mapping[str, Check]) -> tuple[str, ...]:
    """Return what is compared, one text for each extent and way."""
    found: dict[str, list[str]] = {}
    for reading, check in checks.items():
        how = "the same" if check.compare == "same" else "at least as many"
        some = check.of if isinstance(check.of, str) else " and ".join(check.of)
        of = {ALL: " where all of it goes", "": ""}.get(some, f" for each {some}")
        found.setdefault(f"{how}{of}", []).append(shown(reading))
    return tuple(f"{', '.join(names)}: {how}" for how, names in found.items())


def _route(loaded: Loaded, name: str, item: Item, route: Route) -> SheetRoute:
    notes = []
    if route.treats:
        notes.append(f"A person may choose of duplicates: {', '.join(route.treats)}.")
    if route.checks is not None:
        checks = "; ".join(_checks(route.checks)) or "nothing"
        notes.append(f"Compared afterwards by this route: {checks}.")
    if isinstance(route.rest, str):
        notes.append(f'What it leaves goes by "{route.rest}".')
    legs = _legs(steps_of_route(loaded, name, route))
    asked = tuple(_asked(route, item))
    return SheetRoute(route.name, route.by_choice, asked, tuple(notes), legs)


def _asked(route: Route, item: Item) -> Iterator[str]:
    """Give what must hold for a route to be taken."""
    if told := when(route.for_, platform=True):
        yield told
    yield from needs_in_words(route.needs)
    yield from limit_in_words(route.limit)
    for part, rules in route.only.items():
        yield f"there is a {part} of which {' and '.join(conditions(rules))}"
    if item.kind == "secret" and route.fills_parcel:
        yield "the parcel is sealed"
    whole = [f"no {part}" for part in item.parts if not route.chooses(part)]
    if whole:
        yield f"{' and '.join(whole)} was left out"
    for waited in conditions(route.wait):
        yield f"in time: {waited}"


def _licence_route(loaded: Loaded, name: str, route: LicenceRoute) -> SheetRoute:
    told = when(route.for_, platform=True)
    asked = ((told,) if told else ()) + tuple(needs_in_words(route.needs))
    legs = _legs(steps_of_licence(loaded, name, route))
    return SheetRoute(route.name, by_choice=False, conditions=asked, notes=(), legs=legs)


def _legs(steps: Sequence[Step]) -> tuple[SheetLeg, ...]:
    by_id = {step.id: step for step in steps}
    return tuple(
        SheetLeg(station, tuple(_step(by_id[one]) for one in ids))
        for station, ids in find_itinerary(steps).legs
    )


def _step(step: Step) -> SheetStep:
    act = act_of(step)
    return SheetStep(words_of(step), act.effect, own=step.number > 0, closed=act.needs_closed)
