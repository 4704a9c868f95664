"""What can be said about a recipe's steps without looking at a machine."""

from __future__ import annotations

from collections.abc import Iterator
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
class _Step:
    """One step of a route, with where it stands and the names that may stand in its braces."""

    where: Where
    rule: Any
    recipe: Recipe
    item: Item
    told: frozenset[str]
    kind: str

    @property
    def of_licence(self) -> bool:
        """Whether the step releases or claims a licence."""
        return self.item.kind == "licence"

    def said(self, key: str) -> Any:
        """Return what the step says under ``key``, or ``None``."""
        return getattr(self.rule, key, None)

    @property
    def known(self) -> frozenset[str]:
        recipe = self.recipe
        lent = {used.replace("-", "_") for used in recipe.uses}
        own = {*recipe.places, *recipe.readings, *recipe.asks, *self.item.parts}
        licence = OF_LICENCES if self.of_licence else ()
        return frozenset({*ROOTS, *_GIVEN, *licence, *lent, *own, *self.told})

    @property
    def secrets(self) -> frozenset[str]:
        asks = self.recipe.asks.items()
        own = {"serial"} if self.of_licence else set()
        return frozenset({name for name, ask in asks if ask.secret is not None} | own)


def lint_steps(recipe: Recipe) -> Iterator[Struck]:
    """Give the findings of every step of a recipe that is sound in its parts."""
    for step in _all_steps(recipe):
        for rule in (_names, _secrets, _places, _licences):
            yield from rule(step)


def named_in_steps(recipe: Recipe) -> set[str]:
    """Return the names that steps use: in braces, and places that they change or wait for."""
    named: set[str] = set()
    for step in _all_steps(recipe):
        named |= {n for _, _, pieces in _templates(step) for n in _braced(pieces)}
        named |= {name for _, name in _named_places(step)}
    return named


def steps_at(recipe: Recipe) -> Iterator[tuple[Where, Item, tuple[Leg, ...]]]:
    """Give the legs of every route, with where they stand and whose they are."""
    for name, item in recipe.items.items():
        for number, route in enumerate(item.routes):
            yield ("items", name, "routes", number, "legs"), item, route.legs
    for name, licence in recipe.licences.items():
        for number, way in enumerate(licence.routes):
            yield ("items", name, "routes", number, "free"), licence.as_item(), way.free
            yield ("items", name, "routes", number, "claim"), licence.as_item(), way.claim


def _all_steps(recipe: Recipe) -> Iterator[_Step]:
    for at, item, legs in steps_at(recipe):
        told: set[str] = set()
        for leg_number, leg in enumerate(legs):
            for step_number, step in enumerate(leg.steps):
                where = (*at, leg_number, leg.station, step_number)
                yield _Step(where, step.rule, recipe, item, frozenset(told), step.kind)
                told |= set(getattr(step.rule, "tells", ()))


def _templates(step: _Step) -> Iterator[tuple[Where, str, Template]]:
    """Give every template of a step: where it stands, under which key, and its pieces."""
    for key in COMMANDS:
        for number, text in enumerate(step.said(key) or ()):
            yield (*step.where, key, number), key, parse_template(text)
    for key in _TEXTS:
        if isinstance(text := step.said(key), str):
            yield (*step.where, key), key, parse_template(text)
    for name, text in (step.said("env") or {}).items():
        yield (*step.where, "env", name), "env", parse_template(text)


def _braced(pieces: Template) -> Iterator[str]:
    yield from (piece.base for piece in pieces if not isinstance(piece, str))


def _names(step: _Step) -> Iterator[Struck]:
    for where, _, pieces in _templates(step):
        for name in _braced(pieces):
            if name not in step.known:
                hint = did_you_mean(name, step.known) or _whats_known(step)
                yield "unknown-name", where, f'"{{{name}}}" is not known', hint, "error"


def _whats_known(step: _Step) -> str:
    told = f"; told before: {', '.join(sorted(step.told))}" if step.told else ""
    return f"Places, readings, parts, asks and what a program told before{told}"


def _secrets(step: _Step) -> Iterator[Struck]:
    for where, key, pieces in _templates(step):
        for name in sorted(step.secrets.intersection(_braced(pieces))):
            if key in COMMANDS:
                message = f'the secret "{name}" stands in an argument'
                hint = "Give it through stdin; other programs can read arguments"
                yield "secret-argument", where, message, hint, "error"
            elif key == "env":
                message = f'the secret "{name}" stands in the environment'
                hint = "Give it through stdin where the program can take it so"
                yield "secret-env", where, message, hint, "warning"
    for name in sorted(step.secrets.intersection(step.said("tells") or ())):
        if step.said("repeat") != "safe":
            message = f'a program tells the secret "{name}", and may not be repeated'
            hint = "A secret is kept nowhere, so a cut-off walk must ask again: repeat: safe"
            yield "secret-told", (*step.where, "tells", name), message, hint, "warning"


def _named_places(step: _Step) -> Iterator[tuple[Where, str]]:
    for name in step.said("changes") or ():
        yield (*step.where, "changes"), name
    if "first_start" in {field.alias for field in type(step.rule).model_fields.values()}:
        yield (*step.where, "first_start"), step.rule.value


def _places(step: _Step) -> Iterator[Struck]:
    for where, name in _named_places(step):
        if name not in step.recipe.places:
            hint = did_you_mean(name, step.recipe.places)
            yield "unknown-place", where, f'"{name}" is no place', hint, "error"
    part = step.said("per")
    if part is not None and part not in step.item.parts:
        hint = did_you_mean(part, step.item.parts)
        message = f'"{part}" is no part of this item'
        yield "unknown-part", (*step.where, "per"), message, hint, "error"


def _licences(step: _Step) -> Iterator[Struck]:
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
    for where, key, pieces in _templates(step):
        if key == "person" and "serial" in _braced(pieces):
            message = "the serial would stand in what a person is told"
            hint = "A text to the maker that holds it is written by: widetrail seat letter"
            yield "secret-shown", where, message, hint, "error"
