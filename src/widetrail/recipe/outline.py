"""A recipe's outline: what shows that its application is there, and what it claims unless told.

It is what can be said of a recipe before any machine is looked at: signs and places whose paths
begin with a root, platform by platform. What only a program's output says is not in it.
"""

from __future__ import annotations

from collections.abc import Iterator
from itertools import islice, product
from typing import Literal, NamedTuple

from widetrail.machine.platforms import Platform
from widetrail.recipe.by_platform import on_platform
from widetrail.recipe.items import Item
from widetrail.recipe.models import Recipe
from widetrail.recipe.places import Place
from widetrail.recipe.templates import ROOTS, Brace, literal, parse_template
from widetrail.recipe.text_types import is_command

MOST = 32
"""Paths that one place may come to on one platform, at most."""

SignKind = Literal["path", "registry", "command", "unsure"]


class OutlinedSign(NamedTuple):
    """One sign: a path template that begins with a root, a registry key or a command; ``unsure`` is
    one that only the whole recipe can look for."""

    kind: SignKind
    what: str
    view: str = ""


class Claim(NamedTuple):
    """A place that an item is from, unless the program tells another.

    ``below`` is its path below ``root``; it holds globs where ``is_glob``. ``take`` and ``leave``
    are the item's.
    """

    item: str
    root: str
    below: str
    is_glob: bool
    take: tuple[str, ...]
    leave: tuple[str, ...]


class Outline(NamedTuple):
    """The outline of one recipe on one platform."""

    signs: tuple[OutlinedSign, ...]
    claims: tuple[Claim, ...]


def outline_of(recipe: Recipe, platform: Platform) -> Outline:
    """Return the outline of a recipe on a platform."""
    claims = (
        claim
        for name, item in recipe.items.items()
        for claim in _claims(recipe, platform, name, item)
    )
    return Outline(tuple(_signs(recipe, platform)), tuple(claims))


def _signs(recipe: Recipe, platform: Platform) -> Iterator[OutlinedSign]:
    for case in recipe.recognise:
        if case.for_ is not None and not case.for_.may_hold_on(platform):
            continue
        sign = case.sign
        if sign.prints is not None:
            yield OutlinedSign("unsure", sign.prints.form)
            continue
        if sign.registry is not None:
            yield OutlinedSign("registry", sign.registry, sign.view or "64")
            continue
        if sign.command is not None and is_command(sign.command):
            yield OutlinedSign("command", sign.command)
            continue
        where = sign.command or sign.where
        template = on_platform(where, platform) if where is not None else None
        if template is None:
            continue
        found = list(_rooted(recipe, platform, template, ()))
        yield from (OutlinedSign("path", text) for text in found)
        if not found:
            yield OutlinedSign("unsure", template)


def _claims(recipe: Recipe, platform: Platform, name: str, item: Item) -> Iterator[Claim]:
    for is_glob, text in dict.fromkeys(_of_place(recipe, platform, item.from_, ())):
        first, *rest = parse_template(text)
        assert isinstance(first, Brace)
        below = "".join(map(str, rest)).strip("/")
        yield Claim(name, first.name, below, is_glob, item.take, item.leave)


def _of_place(
    recipe: Recipe, platform: Platform, name: str, above: tuple[str, ...]
) -> Iterator[tuple[bool, str]]:
    """Give the path templates of a place, which begin with a root; whether each holds a glob."""
    if name in above:
        return
    for case in recipe.places.get(name, ()):
        if case.for_ is not None and not case.for_.may_hold_on(platform):
            continue
        for template in _fixed(case, platform):
            for text in _rooted(recipe, platform, template, (*above, name)):
                yield case.each is not None, text


def _fixed(case: Place, platform: Platform) -> Iterator[str]:
    for choice in (case.where, case.each, *case.first_of, case.otherwise):
        template = on_platform(choice, platform) if choice is not None else None
        if template is not None:
            yield template


def _rooted(
    recipe: Recipe, platform: Platform, template: str, above: tuple[str, ...]
) -> Iterator[str]:
    """Give a path template with its places replaced by theirs; none where one is not fixed."""
    pieces: list[list[str]] = []
    for piece in parse_template(template):
        if isinstance(piece, str):
            pieces.append([literal(piece)])
        elif piece.name in ROOTS:
            pieces.append([f"{{{piece.name}}}"])
        else:
            found = _of_place(recipe, platform, piece.name, above)
            pieces.append([text for is_glob, text in islice(found, MOST) if not is_glob])
    yield from islice(map("".join, product(*pieces)), MOST)
