"""What can be said about a recipe's steps without looking at a machine."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import Any, Literal

from widetrail.findings import did_you_mean
from widetrail.formats.checked import Where
from widetrail.recipe.models import Item, Leg, Recipe
from widetrail.recipe.templates import ROOTS, Template, parse_template

Struck = tuple[str, Where, str, str, Literal["error", "warning"]]
"""A rule's code, where it struck, a message, a hint, and how grave it is."""

COMMANDS = ("run", "undone_by", "ended_by")
_TEXTS = ("stdin", "stdout", "makes", "person", "to", "remove")
_GIVEN = frozenset({"parcel", "date", "installation"})
OF_LICENCES = frozenset({"serial", "request", "answer"})
"""Names that a licence's steps may have in braces."""

_IN_LICENCES = frozenset({"run", "person", "wait"})
"""The kinds of steps of a licence: a copy of its files would be a second licence."""

_NOT_IN_LICENCES = ("changes", "undone_by", "ended_by", "tells", "stdout")
"""What is no setting of a licence's step: what is given back would be a second licence too."""


@dataclass(frozen=True, slots=True)
class SomeStep:
    """One step of a route, with where it stands and the names that may stand in its braces."""

    where: Where
    rule: Any
    recipe: Recipe
    item: Item
    told: frozenset[str]
    kind: str
    known: frozenset[str]
    secrets: frozenset[str]
    templates: tuple[tuple[Where, str, Template], ...]
    """Every template of it: where it stands, under which key, and its pieces."""

    @property
    def of_licence(self) -> bool:
        """Whether the step releases or claims a licence."""
        return self.item.kind == "licence"

    def said(self, key: str) -> Any:
        """Return what the step says under ``key``, or ``None``."""
        return self.rule.__dict__.get(key)


def lint_steps(steps: Iterable[SomeStep]) -> Iterator[Struck]:
    """Give the findings of every step of a recipe that is sound in its parts."""
    for step in steps:
        for rule in (_names, _secrets, _places, _licences):
            yield from rule(step)


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
                told |= set(step.rule.__dict__.get("tells", ()))


def _templates(at: Where, rule: Any) -> Iterator[tuple[Where, str, Template]]:
    said = rule.__dict__
    for key in COMMANDS:
        for number, text in enumerate(said.get(key) or ()):
            yield (*at, key, number), key, parse_template(text)
    for key in _TEXTS:
        if isinstance(text := said.get(key), str):
            yield (*at, key), key, parse_template(text)
    for name, text in (said.get("env") or {}).items():
        yield (*at, "env", name), "env", parse_template(text)
    if (written := said.get("write")) is not None:
        form, path = written.file
        if written.in_file:
            yield (*at, "write", form), "write", parse_template(path)
        yield (*at, "write", "value"), "write", parse_template(written.value)


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
    for where, key, pieces in step.templates:
        for name in sorted(step.secrets.intersection(_braced(pieces))):
            if key in COMMANDS:
                message = f'the secret "{name}" stands in an argument'
                hint = "Give it through stdin; other programs can read arguments"
                yield "secret-argument", where, message, hint, "error"
            elif key == "env":
                message = f'the secret "{name}" stands in the environment'
                hint = "Give it through stdin where the program can take it so"
                yield "secret-env", where, message, hint, "warning"
            elif key == "write":
                message = f'the secret "{name}" would be written into a file'
                hint = "Have the person type it in the program, or give it to the program by stdin"
                yield "secret-written", where, message, hint, "error"
    for name in sorted(step.secrets.intersection(step.said("tells") or ())):
        if step.said("repeat") != "safe":
            message = f'a program tells the secret "{name}", and may not be repeated'
            hint = "A secret is kept nowhere, so a cut-off walk must ask again: repeat: safe"
            yield "secret-told", (*step.where, "tells", name), message, hint, "warning"


def _named_places(step: SomeStep) -> Iterator[tuple[Where, str]]:
    for name in step.said("changes") or ():
        yield (*step.where, "changes"), name
    if step.kind == "first_start":
        yield (*step.where, "first_start"), step.rule.value


def _places(step: SomeStep) -> Iterator[Struck]:
    for where, name in _named_places(step):
        if name not in step.recipe.places:
            hint = did_you_mean(name, step.recipe.places)
            yield "unknown-place", where, f'"{name}" is no place', hint, "error"
    part = step.said("per")
    if part is not None and part not in step.item.parts:
        hint = did_you_mean(part, step.item.parts)
        message = f'"{part}" is no part of this item'
        yield "unknown-part", (*step.where, "per"), message, hint, "error"


def _licences(step: SomeStep) -> Iterator[Struck]:
    if not step.of_licence:
        return
    if step.kind not in _IN_LICENCES:
        message = f'"{step.kind}" is no step of a licence'
        hint = f"Its steps are {', '.join(sorted(_IN_LICENCES))}"
        yield "licence-step", step.where, message, hint, "error"
    for key in _NOT_IN_LICENCES:
        if step.said(key):
            message = f'a licence\'s step has no "{key}"'
            hint = "What a licence's step did is never given back: that would be a second licence"
            yield "licence-step", (*step.where, key), message, hint, "error"
    for where, key, pieces in step.templates:
        if key == "person" and "serial" in _braced(pieces):
            message = "the serial would stand in what a person is told"
            hint = "A text to the maker that holds it is written by: widetrail seat letter"
            yield "secret-shown", where, message, hint, "error"
