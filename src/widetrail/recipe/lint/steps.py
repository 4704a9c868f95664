"""Lint rules of steps: their names, their secrets, the places they change, those of a licence."""

from __future__ import annotations

from collections.abc import Iterator

from widetrail.findings import did_you_mean
from widetrail.recipe.lint.rule import Struck
from widetrail.recipe.lint.whole import SomeStep, Whole
from widetrail.recipe.templates import Template


def steps(whole: Whole) -> Iterator[Struck]:
    """Find what is wrong with each step of a route."""
    for step in whole.steps:
        for rule in (_names, _secrets, _places):
            yield from rule(step)
        if step.of_licence:
            yield from _licences(step, whole)


def _braced(pieces: Template) -> Iterator[str]:
    yield from (piece.base for piece in pieces if not isinstance(piece, str))


def _names(step: SomeStep) -> Iterator[Struck]:
    for where, _, pieces in step.templates:
        for name in _braced(pieces):
            if name not in step.known:
                hint = did_you_mean(name, step.known) or _whats_known(step)
                yield Struck("unknown-name", where, f'"{{{name}}}" is not known', hint)


def _whats_known(step: SomeStep) -> str:
    told = f"; printed before: {', '.join(sorted(step.told))}" if step.told else ""
    return f"Places, readings, parts, asks and what a program printed before{told}"


def _secrets(step: SomeStep) -> Iterator[Struck]:
    for where, role, pieces in step.templates:
        for name in sorted(step.secrets.intersection(_braced(pieces))):
            if role == "argument":
                message = f'the secret "{name}" stands in an argument'
                hint = "Give it through stdin; other programs can read arguments"
                yield Struck("secret-argument", where, message, hint)
            elif role == "environment":
                message = f'the secret "{name}" stands in the environment'
                hint = "Give it through stdin where the program can take it so"
                yield Struck("secret-env", where, message, hint, "warning")
            elif role == "written":
                message = f'the secret "{name}" would be written into a file'
                hint = "Have the person type it in the program, or give it to the program by stdin"
                yield Struck("secret-written", where, message, hint)
    for name in sorted(step.secrets.intersection(step.rule.names_told)):
        if not step.rule.may_repeat:
            message = f'a program prints the secret "{name}", and may not be repeated'
            hint = "Secrets are not stored, so an interrupted walk must ask again: add repeat: safe"
            yield Struck("secret-told", (*step.where, "prints", name), message, hint, "warning")


def _places(step: SomeStep) -> Iterator[Struck]:
    for key, name in step.rule.places():
        if name not in step.recipe.places:
            hint = did_you_mean(name, step.recipe.places)
            yield Struck("unknown-place", (*step.where, key), f'"{name}" is no place', hint)
    part = step.rule.part
    if part and part not in step.item.parts:
        hint = did_you_mean(part, step.item.parts)
        message = f'"{part}" is not a part of this item'
        yield Struck("unknown-part", (*step.where, "per"), message, hint)


def _licences(step: SomeStep, whole: Whole) -> Iterator[Struck]:
    if not step.rule.for_licences:
        message = f'"{step.kind}" is not a step of a licence'
        listed = sorted(kind for kind, settings in whole.kinds.items() if settings.for_licences)
        yield Struck("licence-step", step.where, message, f"Its steps are {', '.join(listed)}")
    for key in step.rule.not_for_licences:
        if step.rule.under(key):
            message = f'a licence\'s step has no "{key}"'
            hint = "What a licence's step did is never undone: that would be a second licence"
            yield Struck("licence-step", (*step.where, key), message, hint)
    for where, role, pieces in step.templates:
        if role == "words" and "serial" in _braced(pieces):
            message = "the serial would be shown to the person"
            hint = "To write to the maker with it: widetrail seat letter"
            yield Struck("secret-shown", where, message, hint)
