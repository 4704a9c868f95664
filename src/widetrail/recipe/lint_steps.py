"""What can be said about a recipe's steps without looking at a machine."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from typing import Literal

from widetrail.findings import did_you_mean
from widetrail.formats.documents import Where
from widetrail.recipe.models import Item, Leg, Recipe
from widetrail.recipe.settings import Role, Settings
from widetrail.recipe.templates import ROOTS, Template, parse_template

Struck = tuple[str, Where, str, str, Literal["error", "warning"]]
"""A rule's code, where it struck, a message, a hint, and how grave it is."""

_GIVEN = frozenset({"parcel", "date", "installation"})
OF_LICENCES = frozenset({"serial", "request", "answer"})
"""Names that a licence's steps may have in braces."""


@dataclass(frozen=True, slots=True)
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


def lint_steps(steps: Iterable[SomeStep], kinds: Mapping[str, type[Settings]]) -> Iterator[Struck]:
    """Give the findings of every step of a recipe that is sound in its parts.

    ``kinds`` are the kinds of steps with the models of their settings.
    """
    for step in steps:
        for rule in (_names, _secrets, _places):
            yield from rule(step)
        if step.of_licence:
            yield from _licences(step, kinds)


def named_in_steps(steps: Iterable[SomeStep]) -> set[str]:
    """Return the names that steps use: in braces, and places that they change or wait for."""
    named: set[str] = set()
    for step in steps:
        named |= {n for _, _, pieces in step.templates for n in _braced(pieces)}
        named |= {name for _, name in _named_places(step)}
    return named


LegsAt = tuple[Where, Item, tuple[Leg, ...]]
"""Where the legs of a route stand, whose they are, and they themselves."""


def steps_at(recipe: Recipe) -> Iterator[LegsAt]:
    """Give the legs of every route, with where they stand and whose they are."""
    for name, item in recipe.items.items():
        for number, route in enumerate(item.routes):
            yield ("items", name, "routes", number, "legs"), item, route.legs
    for name, licence in recipe.licences.items():
        item = licence.as_item()
        for number, way in enumerate(licence.routes):
            yield ("items", name, "routes", number, "ready"), item, way.ready
            yield ("items", name, "routes", number, "free"), item, way.free
            yield ("items", name, "routes", number, "claim"), item, way.claim


def lenders(recipe: Recipe) -> set[str]:
    """Return the names by which recipes that this one uses lend their places."""
    return {used.replace("-", "_") for used in recipe.uses}


def all_steps(recipe: Recipe, legs_at: Iterable[LegsAt]) -> Iterator[SomeStep]:
    """Give every step of legs with what rules want to know of it."""
    own = {*ROOTS, *_GIVEN, *recipe.places, *recipe.readings, *recipe.asks, *lenders(recipe)}
    secrets = {name for name, ask in recipe.asks.items() if ask.secret is not None}
    for at, item, legs in legs_at:
        licence, serial = (OF_LICENCES, {"serial"}) if item.kind == "licence" else (set(), set())
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
                    frozenset({*own, *licence, *item.parts, *told}),
                    frozenset({*secrets, *serial}),
                    tuple(_templates(where, step.rule)),
                )
                told |= set(step.rule.names_told)


def _templates(at: Where, rule: Settings) -> Iterator[tuple[Where, Role, Template]]:
    for text in rule.templates():
        yield (*at, *text.at), text.role, parse_template(text.text)


def _braced(pieces: Template) -> Iterator[str]:
    yield from (piece.base for piece in pieces if not isinstance(piece, str))


def _names(step: SomeStep) -> Iterator[Struck]:
    for where, _, pieces in step.templates:
        for name in _braced(pieces):
            if name not in step.known:
                hint = did_you_mean(name, step.known) or _whats_known(step)
                yield "unknown-name", where, f'"{{{name}}}" is not known', hint, "error"


def _whats_known(step: SomeStep) -> str:
    told = f"; told before: {', '.join(sorted(step.told))}" if step.told else ""
    return f"Places, readings, parts, asks and what a program told before{told}"


def _secrets(step: SomeStep) -> Iterator[Struck]:
    for where, role, pieces in step.templates:
        for name in sorted(step.secrets.intersection(_braced(pieces))):
            if role == "argument":
                message = f'the secret "{name}" stands in an argument'
                hint = "Give it through stdin; other programs can read arguments"
                yield "secret-argument", where, message, hint, "error"
            elif role == "environment":
                message = f'the secret "{name}" stands in the environment'
                hint = "Give it through stdin where the program can take it so"
                yield "secret-env", where, message, hint, "warning"
            elif role == "written":
                message = f'the secret "{name}" would be written into a file'
                hint = "Have the person type it in the program, or give it to the program by stdin"
                yield "secret-written", where, message, hint, "error"
    for name in sorted(step.secrets.intersection(step.rule.names_told)):
        if not step.rule.may_repeat:
            message = f'a program tells the secret "{name}", and may not be repeated'
            hint = "A secret is kept nowhere, so a cut-off walk must ask again: repeat: safe"
            yield "secret-told", (*step.where, "tells", name), message, hint, "warning"


def _named_places(step: SomeStep) -> Iterator[tuple[Where, str]]:
    for key, name in step.rule.places():
        yield (*step.where, key), name


def _places(step: SomeStep) -> Iterator[Struck]:
    for where, name in _named_places(step):
        if name not in step.recipe.places:
            hint = did_you_mean(name, step.recipe.places)
            yield "unknown-place", where, f'"{name}" is no place', hint, "error"
    part = step.rule.part
    if part and part not in step.item.parts:
        hint = did_you_mean(part, step.item.parts)
        message = f'"{part}" is no part of this item'
        yield "unknown-part", (*step.where, "per"), message, hint, "error"


def _licences(step: SomeStep, kinds: Mapping[str, type[Settings]]) -> Iterator[Struck]:
    if not step.rule.for_licences:
        message = f'"{step.kind}" is no step of a licence'
        listed = sorted(kind for kind, settings in kinds.items() if settings.for_licences)
        yield "licence-step", step.where, message, f"Its steps are {', '.join(listed)}", "error"
    for key in step.rule.not_for_licences:
        if getattr(step.rule, key):
            message = f'a licence\'s step has no "{key}"'
            hint = "What a licence's step did is never given back: that would be a second licence"
            yield "licence-step", (*step.where, key), message, hint, "error"
    for where, role, pieces in step.templates:
        if role == "words" and "serial" in _braced(pieces):
            message = "the serial would stand in what a person is told"
            hint = "A text to the maker that holds it is written by: widetrail seat letter"
            yield "secret-shown", where, message, hint, "error"
