"""What can be said about a recipe as a whole without looking at a machine."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from itertools import chain

from widetrail.findings import Finding, did_you_mean
from widetrail.formats.documents import Where, mark_at
from widetrail.formats.yaml_positions import Map
from widetrail.recipe.conditions import AS_OLD, Limit, Needs
from widetrail.recipe.lint_licences import lint_licences
from widetrail.recipe.lint_steps import (
    Struck,
    all_steps,
    lenders,
    lint_steps,
    named_in_steps,
    steps_at,
)
from widetrail.recipe.models import (
    Item,
    Leg,
    Loss,
    PerPlatform,
    Place,
    Reading,
    Recipe,
    Route,
    is_command,
)
from widetrail.recipe.releases import parse_releases
from widetrail.recipe.settings import Settings
from widetrail.recipe.templates import ROOTS, braces

Used = tuple[Where, str]
"""Where a path or argument template stands, and its text."""


class _Whole:
    """A recipe with what several rules go through: templates, readings, legs and steps."""

    def __init__(self, recipe: Recipe) -> None:
        self.recipe = recipe
        self.readings = tuple(_readings(recipe))
        self.templates = tuple(_templates(recipe, self.readings))
        self.legs = tuple(steps_at(recipe))
        self.steps = tuple(all_steps(recipe, self.legs))
        self.lenders = lenders(recipe)
        """The names by which recipes that this one uses lend their places."""


def lint(
    recipe: Recipe, tree: Map, file: str, kinds: Mapping[str, type[Settings]]
) -> Iterator[Finding]:
    """Give the findings of a recipe that is sound in its parts; ``kinds`` are those of steps."""
    whole = _Whole(recipe)
    struck = (
        _braces(whole),
        _names(recipe),
        _circles(whole),
        _checks(recipe),
        _stores(recipe),
        _programs(whole),
        lint_steps(whole.steps, kinds),
        lint_licences(recipe),
        _routes(recipe),
        _asked(recipe),
        _unused(whole),
    )
    for code, where, message, hint, severity in chain.from_iterable(struck):
        mark, walked = mark_at(tree, where)
        shown = ".".join(walked)
        yield Finding(file, mark.line, mark.column, code, shown, message, hint, severity)


_Found = Iterator[Struck]


def _braces(whole: _Whole) -> _Found:
    recipe = whole.recipe
    plain = ROOTS | set(recipe.places) | {"parcel", "installation"} | whole.lenders
    parts = {part for item in recipe.items.values() for part in item.parts}
    for where, text in whole.templates:
        known = plain | parts if where[0] == "readings" else plain
        for brace in braces(text):
            if brace.base not in known:
                hint = did_you_mean(brace.base, known) or "It is neither a root nor a place"
                yield "unknown-name", where, f'"{{{brace.name}}}" is not known', hint, "error"
            elif brace.base in whole.lenders:
                if brace.name == brace.base:
                    message = f'"{{{brace.name}}}": name a place of it, "{{{brace.base}.…}}"'
                    yield "unknown-name", where, message, "", "error"
            elif brace.name != brace.base and not _plural(recipe, brace.base):
                message = f'"{{{brace.name}}}": only places that are several have a name'
                yield "unknown-name", where, message, "", "error"
    for where, reading in whole.readings:
        for parameter in sorted(reading.parameters - parts if where[0] == "readings" else ()):
            hint = did_you_mean(parameter, parts) or "It must be a part of an item"
            where = (*where, "at")
            yield "unknown-part", where, f'":{parameter}" is no part', hint, "error"


def _plural(recipe: Recipe, name: str) -> bool:
    return any(case.plural for case in recipe.places.get(name, ()))


def _names(recipe: Recipe) -> _Found:
    for name in recipe.places:
        if name in ROOTS or name in ("parcel", "installation"):
            message = f'a place may not be called "{name}"'
            yield "name-taken", ("places", name), message, "That is the name of a root", "error"
    for name in recipe.readings.keys() & recipe.places.keys():
        message = f'"{name}" is a place and a reading'
        yield "name-taken", ("readings", name), message, "Names in braces are one set", "error"
    for name, item in recipe.items.items():
        if item.from_ not in recipe.places:
            hint = did_you_mean(item.from_, recipe.places)
            where: Where = ("items", name, "from")
            yield "unknown-place", where, f'"{item.from_}" is no place', hint, "error"


def _circles(whole: _Whole) -> _Found:
    needs = _needed_by(whole)
    for name in needs:
        seen: list[str] = []
        queue = sorted(needs[name])
        while queue:
            at = queue.pop(0)
            if at in seen:
                continue
            seen.append(at)
            queue.extend(sorted(needs.get(at, ())))
        if name in seen:
            message = f'finding "{name}" needs "{name}" itself'
            yield "circle", ("places", name), message, f"By way of {', '.join(seen)}", "error"


def _needed_by(whole: _Whole) -> dict[str, set[str]]:
    """Return the places that must be found before each."""
    places = whole.recipe.places
    needs = {
        name: {case.follows for case in cases if case.follows is not None}
        for name, cases in places.items()
    }
    for where, text in whole.templates:
        if where[0] == "places":
            needs[str(where[1])] |= {b.base for b in braces(text) if b.base in places}
    return needs


def _checks(recipe: Recipe) -> _Found:
    for name, item in recipe.items.items():
        named: list[tuple[str, Where]] = [(check, ("checks", check)) for check in item.checks]
        named += _in_conditions(item)
        named += [(r, ("parts", part)) for part, r in item.parts.items() if isinstance(r, str)]
        for reading, at in named:
            if reading not in recipe.readings:
                where: Where = ("items", name, *at)
                hint = did_you_mean(reading, recipe.readings)
                yield "unknown-reading", where, f'"{reading}" is no reading', hint, "error"
        for check, rule in item.checks.items():
            for part in rule.of.keys() - item.parts.keys():
                where = ("items", name, "checks", check, "of", part)
                hint = did_you_mean(part, item.parts)
                yield "unknown-part", where, f'"{part}" is no part of this item', hint, "error"
        if not item.checks and item.routes:
            hint = "Name a reading under checks, so that the move can be judged"
            yield "no-check", ("items", name), "this item has no check", hint, "warning"
    for name, cases in recipe.places.items():
        for number, case in enumerate(cases):
            if case.follows is not None and case.follows not in recipe.places:
                where = ("places", name, number, "follows")
                hint = did_you_mean(case.follows, recipe.places)
                yield "unknown-place", where, f'"{case.follows}" is no place', hint, "error"


def _stores(recipe: Recipe) -> _Found:
    """Find items of the registry that are none, and what cannot be done with named values."""
    for name, item in recipe.items.items():
        kinds = {case.kind for case in recipe.places.get(item.from_, ())}
        where: Where = ("items", name, "from")
        if "value" in kinds:
            hint = "Name its key as the place, and the value under take"
            yield "place-kind", where, "a single value is no place of an item", hint, "error"
        if item.kind == "registry" and kinds and not kinds & {"key"}:
            message = f'"{item.from_}" is no key of the registry'
            yield "place-kind", where, message, "", "error"
        if kinds & {"key", "dconf"}:
            if item.retire:
                message = "values are not retired"
                yield "place-kind", ("items", name, "retire"), message, "", "error"
            for number, route in enumerate(item.routes):
                if route.existing == "alongside":
                    spot: Where = ("items", name, "routes", number, "existing")
                    message = "values of one name cannot stand alongside each other"
                    hint = 'Take "overwrite", "put aside" or "pass by"'
                    yield "place-kind", spot, message, hint, "error"


def _in_conditions(item: Item) -> list[tuple[str, Where]]:
    """Return the readings that an item's conditions name, with where they stand in the item."""
    named: list[tuple[str, Where]] = []
    for number, route in enumerate(item.routes):
        at: Where = ("routes", number)
        named += [(name, (*at, "await", name)) for name in route.await_]
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


def _programs(whole: _Whole) -> _Found:
    application = whole.recipe.application
    started: list[tuple[Where, str]] = []
    for key in ("screen", "open", "close"):
        started.extend((("application", key, 0), name) for name in getattr(application, key)[:1])
    for where, reading in whole.readings:
        if reading.command is not None:
            started.append(((*where, reading.form, 0), reading.command[0]))
    for legs_at, _, legs in whole.legs:
        started.extend(((*legs_at, *at), command[0]) for at, command in _commands(legs))
    for where, program in started:
        if program not in application.programs:
            hint = did_you_mean(program, application.programs)
            message = f'"{program}" is no program of this application'
            yield "unknown-program", where, message, hint, "error"


def _asked(recipe: Recipe) -> _Found:
    """Find what hangs on a reading that only a program tells, which is asked with consent only."""
    told = {
        name
        for name, cases in recipe.readings.items()
        if all(case.command is not None for case in cases)
    }
    for name, item in recipe.items.items():
        named: list[tuple[str, Where]] = [(r, ("checks", r)) for r in item.checks]
        named += [(r, ("parts", part)) for part, r in item.parts.items() if isinstance(r, str)]
        for reading, at in (*named, *_in_conditions(item)):
            if reading in told:
                message = f'only a program tells "{reading}"'
                hint = "It is unknown unless a plan is made with --ask-programs"
                yield "asked", ("items", name, *at), message, hint, "warning"


def _routes(recipe: Recipe) -> _Found:
    """Find routes that can never be taken: needs that contradict, or nothing asked before them."""
    for name, item in recipe.items.items():
        open_before = ""
        for number, route in enumerate(item.routes):
            where: Where = ("items", name, "routes", number)
            for at, reason in _contradictions(route):
                yield "contradiction", (*where, *at), reason, "No machine can be so", "error"
            if open_before:
                message = f'"{route.name}" is never taken'
                hint = f'"{open_before}" before it asks nothing'
                yield "never-taken", where, message, hint, "warning"
            asks = route.for_ or route.only or route.needs != Needs() or route.limit != Limit()
            if not asks and not item.parts:
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


def _commands(legs: Sequence[Leg]) -> Iterator[tuple[Where, Sequence[str]]]:
    """Give the commands that the steps of legs start, with where they stand among these."""
    for leg_number, leg in enumerate(legs):
        for step_number, step in enumerate(leg.steps):
            for key, command in step.rule.commands():
                yield (leg_number, leg.station, step_number, key, 0), command


def _unused(whole: _Whole) -> _Found:
    recipe = whole.recipe
    used = {b.base for _, text in whole.templates for b in braces(text)}
    used |= named_in_steps(whole.steps)
    used |= {item.from_ for item in recipe.items.values()}
    for name in recipe.places:
        if name not in used:
            yield "unused", ("places", name), f'the place "{name}" is never used', "", "warning"
    used |= {c.follows for cases in recipe.places.values() for c in cases if c.follows}
    checked = {check for item in recipe.items.values() for check in item.checks}
    parts = [part for item in recipe.items.values() for part in item.parts.values()]
    checked |= {part for part in parts if isinstance(part, str)}
    checked |= {name for item in recipe.items.values() for name, _ in _in_conditions(item)}
    licences = {id(item): item for _, item, _ in whole.legs if item.kind == "licence"}
    checked |= {name for item in licences.values() for name, _ in _in_conditions(item)}
    checked |= {name for licence in recipe.licences.values() for name in licence.keep}
    checked |= used
    for name in recipe.readings:
        if name not in checked:
            where: Where = ("readings", name)
            yield "unused", where, f'the reading "{name}" is never used', "", "warning"


def _templates(recipe: Recipe, readings: Sequence[tuple[Where, Reading]]) -> Iterator[Used]:
    application = recipe.application
    for name, program in application.programs.items():
        yield from _choice(("application", "programs", name), program)
    for key in ("screen", "open", "close"):
        for number, argument in enumerate(getattr(application, key)):
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
    for name, item in recipe.items.items():
        for number, rule in enumerate(item.paths):
            if rule.in_file:
                yield from _choice(("items", name, "paths", number, rule.form), rule.where)
    for name, licence in recipe.licences.items():
        for number, path in enumerate(licence.files):
            yield from _choice(("items", name, "files", number), path)


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
        for key, reading in (("release", case.release), ("edition", case.edition)):
            if reading is not None:
                yield ("recognise", number, key), reading
    for name, cases in recipe.places.items():
        for number, place in enumerate(cases):
            for key, reading in (("told_by", place.told_by), ("in_use", place.in_use)):
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
