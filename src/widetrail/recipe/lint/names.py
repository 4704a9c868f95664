"""Lint rules of names: what is not known, taken, in a circle or unused."""

from __future__ import annotations

from collections.abc import Iterator

from widetrail.findings import did_you_mean
from widetrail.formats.documents import Where
from widetrail.recipe.lint.rule import Struck
from widetrail.recipe.lint.whole import Whole, in_conditions
from widetrail.recipe.models import Recipe
from widetrail.recipe.templates import ROOTS, braces


def known_braces(whole: Whole) -> Iterator[Struck]:
    """Find names in braces that are not known, or have no such part."""
    recipe = whole.recipe
    plain = ROOTS | set(recipe.places) | {"parcel", "installation"} | whole.lenders
    parts = {part for item in recipe.items.values() for part in item.parts}
    for where, text in whole.templates:
        known = plain | parts if where[0] == "readings" else plain
        for brace in braces(text):
            if brace.base not in known:
                hint = did_you_mean(brace.base, known) or "It is neither a root nor a place"
                yield Struck("unknown-name", where, f'"{{{brace.name}}}" is not known', hint)
            elif brace.base in whole.lenders:
                if brace.name == brace.base:
                    message = f'"{{{brace.name}}}": name a place of it, "{{{brace.base}.…}}"'
                    yield Struck("unknown-name", where, message)
            elif brace.name != brace.base and not _plural(recipe, brace.base):
                message = f'"{{{brace.name}}}": only places that are several have a name'
                yield Struck("unknown-name", where, message)
    for where, reading in whole.readings:
        for parameter in sorted(reading.parameters - parts if where[0] == "readings" else ()):
            hint = did_you_mean(parameter, parts) or "It must be a part of an item"
            where = (*where, "at")
            yield Struck("unknown-part", where, f'":{parameter}" is not a part', hint)


def _plural(recipe: Recipe, name: str) -> bool:
    return any(case.plural for case in recipe.places.get(name, ()))


def free_names(whole: Whole) -> Iterator[Struck]:
    """Find names that are taken, and items at places that there are not."""
    recipe = whole.recipe
    for name in recipe.places:
        if name in ROOTS or name in ("parcel", "installation"):
            message = f'a place may not be called "{name}"'
            yield Struck("name-taken", ("places", name), message, "That is the name of a root")
    for name in recipe.readings.keys() & recipe.places.keys():
        message = f'"{name}" is a place and a reading'
        yield Struck("name-taken", ("readings", name), message, "Names in braces must be unique")
    for name, item in recipe.items.items():
        if item.from_ and item.from_ not in recipe.places:
            hint = did_you_mean(item.from_, recipe.places)
            where: Where = ("items", name, "from")
            yield Struck("unknown-place", where, f'"{item.from_}" is no place', hint)


def circles(whole: Whole) -> Iterator[Struck]:
    """Find places that need themselves to be found."""
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
            message = f'the place "{name}" depends on itself'
            yield Struck("circle", ("places", name), message, f"Through {', '.join(seen)}")


def _needed_by(whole: Whole) -> dict[str, set[str]]:
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


def unused(whole: Whole) -> Iterator[Struck]:
    """Find places and readings that nothing uses."""
    recipe = whole.recipe
    used = {b.base for _, text in whole.templates for b in braces(text)}
    for step in whole.steps:
        used |= {p.base for *_, pieces in step.templates for p in pieces if not isinstance(p, str)}
        used |= {name for _, name in step.rule.places()} | set(step.rule.names_told)
    used |= {item.from_ for item in recipe.items.values()}
    for name in recipe.places:
        if name not in used:
            yield Struck(
                "unused", ("places", name), f'the place "{name}" is never used', severity="warning"
            )
    used |= {c.follows for cases in recipe.places.values() for c in cases if c.follows}
    checked = {check for item in recipe.items.values() for _, check, _ in item.all_checks()}
    parts = [part for item in recipe.items.values() for part in item.parts.values()]
    checked |= {part for part in parts if isinstance(part, str)}
    checked |= {name for item in recipe.items.values() for name, _ in in_conditions(item)}
    licences = {id(item): item for _, item, *_ in whole.legs if item.kind == "licence"}
    checked |= {name for item in licences.values() for name, _ in in_conditions(item)}
    checked |= {name for licence in recipe.licences.values() for name in licence.keep}
    checked |= used
    for name in recipe.readings:
        if name not in checked:
            where: Where = ("readings", name)
            yield Struck("unused", where, f'the reading "{name}" is never used', severity="warning")
