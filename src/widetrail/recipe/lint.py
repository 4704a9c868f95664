"""What can be said about a recipe as a whole without looking at a machine."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Literal

from widetrail.findings import Finding, did_you_mean
from widetrail.formats.checked import Where, mark_at
from widetrail.formats.marked import Map
from widetrail.recipe.models import PerPlatform, Reading, Recipe
from widetrail.recipe.templates import ROOTS, braces

Used = tuple[Where, str]
"""Where a path or argument template stands, and its text."""


def lint(recipe: Recipe, tree: Map, file: str) -> Iterator[Finding]:
    """Give the findings of a recipe that is sound in its parts."""
    rules = (_braces, _names, _circles, _checks, _programs, _unused)
    for rule in rules:
        for code, where, message, hint, severity in rule(recipe):
            mark, walked = mark_at(tree, where)
            shown = ".".join(walked)
            yield Finding(file, mark.line, mark.column, code, shown, message, hint, severity)


_Found = Iterator[tuple[str, Where, str, str, Literal["error", "warning"]]]
"""A rule's code, where it struck, a message, a hint, and how grave it is."""


def _braces(recipe: Recipe) -> _Found:
    known = ROOTS | set(recipe.places) | {"parcel"}
    for where, text in _templates(recipe):
        for brace in braces(text):
            if brace.base not in known:
                hint = did_you_mean(brace.base, known) or "It is neither a root nor a place"
                yield "unknown-name", where, f'"{{{brace.name}}}" is not known', hint, "error"


def _names(recipe: Recipe) -> _Found:
    for name in recipe.places:
        if name in ROOTS or name == "parcel":
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


def _circles(recipe: Recipe) -> _Found:
    needs = {name: set(_needed_by(recipe, name)) for name in recipe.places}
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


def _needed_by(recipe: Recipe, name: str) -> Iterator[str]:
    for where, text in _templates(recipe):
        if where[:2] == ("places", name):
            yield from (b.base for b in braces(text) if b.base in recipe.places)


def _checks(recipe: Recipe) -> _Found:
    for name, item in recipe.items.items():
        for check in item.checks:
            if check not in recipe.readings:
                where: Where = ("items", name, "checks", check)
                hint = did_you_mean(check, recipe.readings)
                yield "unknown-reading", where, f'"{check}" is no reading', hint, "error"
        if not item.checks:
            hint = "Name a reading under checks, so that the move can be judged"
            yield "no-check", ("items", name), "this item has no check", hint, "warning"


def _programs(recipe: Recipe) -> _Found:
    application = recipe.application
    if application.screen and application.screen[0] not in application.programs:
        where: Where = ("application", "screen", 0)
        hint = did_you_mean(application.screen[0], application.programs)
        yield "unknown-program", where, f'"{application.screen[0]}" is no program', hint, "error"


def _unused(recipe: Recipe) -> _Found:
    used = {b.base for _, text in _templates(recipe) for b in braces(text)}
    used |= {item.from_ for item in recipe.items.values()}
    for name in recipe.places:
        if name not in used:
            yield "unused", ("places", name), f'the place "{name}" is never used', "", "warning"
    checked = {check for item in recipe.items.values() for check in item.checks}
    for name in recipe.readings:
        if name not in checked:
            where: Where = ("readings", name)
            yield "unused", where, f'the reading "{name}" is never used', "", "warning"


def _templates(recipe: Recipe) -> Iterator[Used]:
    application = recipe.application
    for name, program in application.programs.items():
        yield from _choice(("application", "programs", name), program)
    for number, argument in enumerate(application.screen):
        yield ("application", "screen", number), argument
    for number, lock in enumerate(application.lock):
        yield from _choice(("application", "lock", number), lock)
    for number, case in enumerate(recipe.recognise):
        where: Where = ("recognise", number)
        yield from _choice((*where, "sign"), case.sign.where)
        for key, reading in (("release", case.release), ("edition", case.edition)):
            yield from _reading((*where, key), reading)
    for name, cases in recipe.places.items():
        for number, place in enumerate(cases):
            yield from _choice(("places", name, number, place.kind), place.where)
            yield from _reading(("places", name, number, "told_by"), place.told_by)
    for name, reading in recipe.readings.items():
        yield from _reading(("readings", name), reading)


def _reading(where: Where, reading: Reading | None) -> Iterable[Used]:
    return () if reading is None else _choice((*where, reading.form), reading.where)


def _choice(where: Where, choice: str | PerPlatform) -> Iterator[Used]:
    if isinstance(choice, str):
        yield where, choice
        return
    for key in ("windows", "macos", "linux"):
        if (text := getattr(choice, key)) is not None:
            yield (*where, key), text
    if choice.otherwise is not None:
        yield (*where, "else"), choice.otherwise
