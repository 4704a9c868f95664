"""Lint rules of items: their checks, their stores, and routes that are never taken."""

from __future__ import annotations

from collections.abc import Iterator

from widetrail.findings import did_you_mean
from widetrail.formats.documents import Where
from widetrail.recipe.conditions import Limit, Needs
from widetrail.recipe.lint.rule import Struck
from widetrail.recipe.lint.whole import Whole, in_conditions
from widetrail.recipe.releases import AS_OLD, parse_releases
from widetrail.recipe.routes import ALL, Route


def checks(whole: Whole) -> Iterator[Struck]:
    """Find readings, parts and places that there are not, and items that nothing checks."""
    for name, item in whole.recipe.items.items():
        named: list[tuple[str, Where]] = [(check, at) for at, check, _ in item.all_checks()]
        named += in_conditions(item)
        named += [(r, ("parts", part)) for part, r in item.parts.items() if isinstance(r, str)]
        for reading, at in named:
            if reading not in whole.recipe.readings:
                where: Where = ("items", name, *at)
                hint = did_you_mean(reading, whole.recipe.readings)
                yield Struck("unknown-reading", where, f'"{reading}" is not a reading', hint)
        for at, _, rule in item.all_checks():
            counted = set(rule.of) if isinstance(rule.of, dict) else {rule.of} - {ALL}
            for part in counted - item.parts.keys():
                where = ("items", name, *at, "of", part)
                hint = did_you_mean(part, item.parts)
                yield Struck("unknown-part", where, f'"{part}" is not a part of this item', hint)
        rules = (step.rule for route in item.routes for leg in route.legs for step in leg.steps)
        if not item.checks and item.routes and not any(rule.checks_itself for rule in rules):
            hint = "Name a reading under checks, so that the move can be judged"
            yield Struck("no-check", ("items", name), "this item has no checks", hint, "warning")
    for name, cases in whole.recipe.places.items():
        for number, case in enumerate(cases):
            if case.follows is not None and case.follows not in whole.recipe.places:
                where = ("places", name, number, "follows")
                hint = did_you_mean(case.follows, whole.recipe.places)
                yield Struck("unknown-place", where, f'"{case.follows}" is no place', hint)


def stores(whole: Whole) -> Iterator[Struck]:
    """Find items of the registry that are none, and what cannot be done with named values."""
    for name, item in whole.recipe.items.items():
        kinds = {case.kind for case in whole.recipe.places.get(item.from_, ())}
        where: Where = ("items", name, "from")
        if "value" in kinds:
            hint = "Use its key as the place, and the value under take"
            yield Struck("place-kind", where, "a single value is no place of an item", hint)
        if item.kind == "registry" and kinds and not kinds & {"key"}:
            message = f'"{item.from_}" is not a key of the registry'
            yield Struck("place-kind", where, message)
        if item.values is not None and kinds - {"file"}:
            hint = "Values are taken one by one from a place that is a file"
            yield Struck("place-kind", ("items", name, "values"), "its place is no file", hint)
        if kinds & {"key", "dconf"} or item.values is not None:
            if item.retire:
                message = "values are not retired"
                yield Struck("place-kind", ("items", name, "retire"), message)
            for number, route in enumerate(item.routes):
                if route.existing == "alongside":
                    spot: Where = ("items", name, "routes", number, "existing")
                    message = "values of one name cannot stand alongside each other"
                    hint = 'Take "replace", "back up" or "skip"'
                    yield Struck("place-kind", spot, message, hint)


_OF_FILES = ("take", "leave", "values", "paths", "retire", "optional")
"""Keys of an item that say something of its place."""


def placeless(whole: Whole) -> Iterator[Struck]:
    """Find what only an item with a place can have."""
    for name, item in whole.recipe.items.items():
        if item.from_:
            continue
        hint = "Name its place under from, or move it by what its programs export and import"
        for key in _OF_FILES:
            if getattr(item, key):
                message = f'"{key}" belongs to an item that has a place'
                yield Struck("no-place", ("items", name, key), message, hint)
    for step in whole.steps:
        if step.rule.of_place and step.item.kind != "licence" and not step.item.from_:
            message = f'there is no place for "{step.kind}"'
            hint = "Name the item's place under from"
            yield Struck("no-place", step.where, message, hint)


_TOLD = frozenset({"file", "files", "names", "size", "modified"})
"""Forms of readings that tell of a secret's files without what is in them."""


def secrets(whole: Whole) -> Iterator[Struck]:
    """Find checks of secrets that would tell them: what is compared stands in the logbook, which
    anybody can read."""
    for name, item in whole.recipe.items.items():
        if item.kind != "secret":
            continue
        for spot, reading, _ in item.all_checks():
            cases = whole.recipe.readings.get(reading, ())
            if any(case.as_ != "count" and case.form not in _TOLD for case in cases):
                message = f'"{reading}" of a secret is compared, and what it says is not encrypted'
                hint = "Compare how many there are: as: count"
                yield Struck("secret-checked", ("items", name, *spot), message, hint)


def asked(whole: Whole) -> Iterator[Struck]:
    """Find what depends on a reading of a program's output, which is read with consent only."""
    told = {
        name
        for name, cases in whole.recipe.readings.items()
        if all(case.command is not None for case in cases)
    }
    for name, item in whole.recipe.items.items():
        if not item.from_:  # of what a program keeps itself nothing else can say anything
            continue
        named: list[tuple[str, Where]] = [(r, at) for at, r, _ in item.all_checks()]
        named += [(r, ("parts", part)) for part, r in item.parts.items() if isinstance(r, str)]
        for reading, at in (*named, *in_conditions(item)):
            if reading in told:
                message = f'only the output of a program says "{reading}"'
                hint = "It is unknown unless the plan is made with --ask-programs"
                yield Struck("asked", ("items", name, *at), message, hint, "warning")


def routes(whole: Whole) -> Iterator[Struck]:
    """Find routes that can never be taken: needs that contradict, or nothing asked before them."""
    for name, item in whole.recipe.items.items():
        open_before = ""
        for number, route in enumerate(item.routes):
            where: Where = ("items", name, "routes", number)
            for at, reason in _contradictions(route):
                yield Struck("contradiction", (*where, *at), reason, "No computer can meet this")
            if open_before and not route.by_choice:
                message = f'"{route.name}" is never taken'
                hint = f'"{open_before}" before it has no conditions'
                yield Struck("never-taken", where, message, hint, "warning")
            asks = route.for_ or route.only or route.needs != Needs() or route.limit != Limit()
            asks = asks or (item.kind == "secret" and route.fills_parcel)
            if not asks and not item.parts and not route.by_choice:
                open_before = open_before or route.name


def _contradictions(route: Route) -> Iterator[tuple[Where, str]]:
    for station in ("old", "new", "between"):
        needs = getattr(route.needs, station)
        if needs is None:
            continue
        at: Where = ("needs", station)
        for fact in ("release", "system"):
            text = getattr(needs, fact)
            if text is not None and text not in AS_OLD and parse_releases(text).empty:
                yield (*at, fact), f"no {fact} is {text}"
        named = {n: getattr(needs, n) for n in ("edition", "installed", "platform")}
        for name, condition in {**named, **needs.readings}.items():
            if condition is not None and condition.contradicts:
                yield (*at, name), f"nothing is {condition}"
    if route.for_ is not None and route.needs.old is not None:
        wanted = route.needs.old.platform
        named_platform = wanted.equals if wanted is not None else None
        if route.for_.platform and named_platform not in (None, route.for_.platform):
            yield ("needs", "old", "platform"), f"the route is for {route.for_.platform}"
