"""Which arms of a recipe were reached: told by what goes by its rules, heard by who wants to know.

A recipe's rules have arms: a case that was taken, a need that was met or decided alone against a
route, a check that failed. What goes by a rule says so here with ``reach``; nobody hears it unless
``hearing`` is on, as while a rehearsal runs. Nothing is decided by it.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass, field

from widetrail.formats.documents import Model
from widetrail.recipe.loader import Loaded
from widetrail.recipe.releases import parse_release, parse_releases
from widetrail.recipe.routes import StepRule

Where = tuple[str | int, ...]
"""Where a rule stands in a recipe: the keys and numbers that lead to it."""


MET = "met contents"
"""The arm of a route that found something of the item in place on new."""


@dataclass(frozen=True, slots=True, order=True)
class Reached:
    """One arm that was reached: the recipe's id, where its rule stands, and which arm of it."""

    recipe: str
    where: Where
    arm: str


@dataclass(slots=True)
class Heard:
    """What was heard so far."""

    arms: set[Reached] = field(default_factory=set)
    known: dict[int, tuple[Loaded, Mapping[int, Where]]] = field(default_factory=dict)

    def add(self, loaded: Loaded, rule: Model, arm: str) -> None:
        """Add an arm; a rule that is none of the recipe's own is passed by."""
        mine = self.known.get(id(loaded.recipe))
        if mine is None:
            mine = self.known[id(loaded.recipe)] = loaded, _addresses(loaded.recipe)
        where = mine[1].get(id(rule))
        if where is not None:
            self.arms.add(Reached(loaded.id, where, arm))


_HEARD: ContextVar[Heard | None] = ContextVar("heard", default=None)


@contextmanager
def hearing() -> Iterator[Heard]:
    """Hear which arms are reached until the end of the block, in this thread."""
    heard = Heard()
    token = _HEARD.set(heard)
    try:
        yield heard
    finally:
        _HEARD.reset(token)


def _heard() -> bool:
    """Return whether anyone hears, for what costs something to find out."""
    return _HEARD.get() is not None


def reach(loaded: Loaded, rule: Model | None, arm: str) -> None:
    """Say that ``arm`` of ``rule``, which is a value of ``loaded``'s recipe, was reached."""
    heard = _HEARD.get()
    if heard is not None and rule is not None:
        heard.add(loaded, rule, arm)


def reach_bounds(loaded: Loaded, rule: Model | None, fact: str, wanted: str, found: str) -> None:
    """Say which bounds of a range of releases were met exactly by what was found."""
    if _heard():
        for bound in parse_releases(wanted).at(parse_release(found)):
            reach(loaded, rule, f"{fact} at {bound}")


def _addresses(model: Model) -> dict[int, Where]:
    """Return where each value below ``model`` stands, by its identity."""
    found: dict[int, Where] = {}
    for where, value in below(model):
        found.setdefault(id(value), where)
    return found


def below(value: object, where: Where = ()) -> Iterator[tuple[Where, Model]]:
    """Give every model at and below ``value`` with where it stands."""
    if isinstance(value, StepRule):
        yield from below(value.rule, where)
    elif isinstance(value, Model):
        yield where, value
        for name, info in type(value).model_fields.items():
            own = () if name in value.no_keys else (info.alias or name,)
            yield from below(getattr(value, name), (*where, *own))
    elif isinstance(value, Mapping):
        for key, inner in value.items():
            yield from below(inner, (*where, str(key)))
    elif isinstance(value, tuple):
        for number, inner in enumerate(value):
            yield from below(inner, (*where, number))
