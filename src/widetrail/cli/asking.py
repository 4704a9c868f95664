"""Asking at the terminal what is to be moved, which way, and where to."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from dataclasses import replace
from typing import TypeVar

import click

from widetrail.errors import Halted
from widetrail.formats.texts import for_people
from widetrail.planning import Choices, Offer

T = TypeVar("T", bound=str)


def ask_choices(offers: Sequence[Offer], choices: Choices) -> Choices:
    """Ask about each item, and what can be chosen of it, that the call has not chosen yet.

    Raises:
        Halted: Nobody can be asked.
    """
    if not sys.stdin.isatty():
        todo = "Choose with --only, --without and --choose."
        raise Halted("cannot ask", why="standard input is not a terminal", todo=todo)
    for offer in offers:
        for place, paths in offer.real.items():
            if place not in choices.real and (path := _one_of("Which is the real one?", paths)):
                choices = replace(choices, real={**choices.real, place: path})
        if not choices.wants(offer.id):
            continue
        if click.confirm(f"Move {for_people(offer.title)}?", default=True, err=True):
            choices = _of_item(offer, choices)
        else:
            choices = replace(choices, without=choices.without | {offer.id})
    return choices


def _of_item(offer: Offer, choices: Choices) -> Choices:
    """Ask about an item that is to go."""
    parts, own = dict(choices.parts), offer.id
    for part, values in offer.parts.items():
        if f"{own}.{part}" not in parts:
            text = f"  Which {part}? ({for_people(', '.join(values))}; empty for all)"
            if answer := _prompt(text):
                parts[f"{own}.{part}"] = (answer,)
    choices = replace(choices, parts=parts)
    if own not in choices.routes and (way := _one_of("  Which route?", offer.routes)):
        choices = replace(choices, routes={**choices.routes, own: way})
    if own not in choices.duplicates:
        word = _one_of("  What happens to existing records?", offer.duplicates)
        if word is not None:
            choices = replace(choices, duplicates={**choices.duplicates, own: word})
    if offer.movable and own not in choices.to:
        text = "  In which folder on the new computer? (empty for the default)"
        if path := _prompt(text):
            choices = replace(choices, to={**choices.to, own: path})
    return choices


def _prompt(text: str) -> str:
    answer: str = click.prompt(text, default="", show_default=False, err=True)
    return answer.strip()


def _one_of(text: str, words: Sequence[T]) -> T | None:
    """Ask for one of ``words``, if there are any; nothing leaves it to the recipe."""
    if not words:
        return None
    told = f"{text} ({for_people(', '.join(words))}; empty for the recipe's choice)"
    answer = click.prompt(told, "", type=click.Choice(["", *words]), show_choices=False, err=True)
    return next((word for word in words if word == answer), None)
