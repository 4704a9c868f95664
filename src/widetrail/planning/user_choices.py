"""What a person chooses of a plan: items, and values of their parts."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Literal, get_args

from pydantic import Field

from widetrail.errors import InputUnusable
from widetrail.finding import Finder, Several, Unknown, find_application
from widetrail.findings import did_you_mean
from widetrail.formats.stored_values import Text, Told, Truth
from widetrail.machine import Machine
from widetrail.recipe import Item, Loaded
from widetrail.records import Duplicates

Verdict = Literal["carry", "leave"]
_VERDICTS: Mapping[str, Verdict] = {"carry": "carry", "leave": "leave"}
ReleaseAfter = Literal["verifying", "packing"]


class WrittenChoices(Told):
    """What a person chose, as files hold it."""

    only: tuple[Text, ...]
    without: tuple[Text, ...]
    parts: dict[Text, tuple[Text, ...]]
    outside: dict[Text, Verdict]
    release_after: ReleaseAfter
    ask_programs: Truth
    routes: dict[Text, Text] = Field(default_factory=dict)
    duplicates: dict[Text, Duplicates] = Field(default_factory=dict)

    @property
    def choices(self) -> Choices:
        """The choices themselves."""
        only, without = frozenset(self.only), frozenset(self.without)
        return Choices(
            only,
            without,
            self.parts,
            self.outside,
            self.release_after,
            self.ask_programs,
            self.routes,
            self.duplicates,
        )


@dataclass(frozen=True, slots=True)
class Choices:
    """Items to go, items to stay, and the values chosen of parts, by ``recipe.item[.part]``."""

    only: frozenset[str] = frozenset()
    without: frozenset[str] = frozenset()
    parts: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    outside: Mapping[str, Verdict] = field(default_factory=dict)
    """Whether files that an item names elsewhere go along: ``carry`` or ``leave``."""

    release_after: ReleaseAfter = "verifying"
    """When a licence may be released on old: when what was packed is verified on new, or, which
    saves trips and risks that it does not arrive, when it was read back from the medium."""

    ask_programs: bool = False
    """Whether readings may start the application's programs, on either machine, in planning and
    in walks, to read what they print."""

    routes: Mapping[str, str] = field(default_factory=dict)
    """The route that an item is to go, by ``recipe.item``."""

    duplicates: Mapping[str, Duplicates] = field(default_factory=dict)
    """What becomes of records that are there with another content, by ``recipe.item``."""

    def written(self) -> WrittenChoices:
        """Return the choices as files hold them."""
        return WrittenChoices(
            only=tuple(sorted(self.only)),
            without=tuple(sorted(self.without)),
            parts=dict(self.parts),
            outside=dict(self.outside),
            release_after=self.release_after,
            ask_programs=self.ask_programs,
            routes=dict(self.routes),
            duplicates=dict(self.duplicates),
        )

    def wants(self, item: str) -> bool:
        """Return whether the item ``recipe.item`` is to go."""
        return item not in self.without and (not self.only or item in self.only)


@dataclass(frozen=True, slots=True)
class Offer:
    """What a person can choose of one item: whether it goes, the values of its parts, and its route
    where the recipe leaves that to them."""

    id: str
    title: str
    parts: Mapping[str, tuple[str, ...]]
    routes: tuple[str, ...] = ()


def offered(
    recipes: Sequence[Loaded], old: Machine, *, ask_programs: bool = False
) -> tuple[Offer, ...]:
    """Return what can be chosen of the applications that are on ``old``.

    The values of a part of an item that is several are those of all of them.
    """
    offers = []
    for loaded in sorted(recipes, key=lambda one: one.id):
        finder = find_application(old, loaded, ask_programs=ask_programs)
        for name, item in loaded.recipe.items.items() if finder.installation else ():
            title = f"{loaded.recipe.application.name}: {item.title}"
            parts = {part: _values(finder, item, part) for part in item.parts}
            known = {part: values for part, values in parts.items() if values}
            ways = tuple(route.name for route in item.routes)
            left = ways if any(route.by_choice for route in item.routes) else ()
            offers.append(Offer(f"{loaded.id}.{name}", title, known, left))
        for name, licence in loaded.recipe.licences.items() if finder.installation else ():
            title = f"{loaded.recipe.application.name}: {licence.title}"
            offers.append(Offer(f"{loaded.id}.{name}", title, {}))
    return tuple(offers)


def _values(finder: Finder, item: Item, part: str) -> tuple[str, ...]:
    where = finder.place(item.from_)
    finders = [finder]
    if isinstance(where, Several):
        finders = [finder.within(item.from_, instance) for instance in where.instances]
    found = [one.part_values(part, item) for one in finders]
    values = (v for answer in found if not isinstance(answer, Unknown) for v in answer)
    return tuple(dict.fromkeys(values))


def read_choices(
    recipes: Sequence[Loaded],
    only: Iterable[str] = (),
    without: Iterable[str] = (),
    choose: Iterable[str] = (),
    outside: Iterable[str] = (),
    release_after: ReleaseAfter = "verifying",
    routes: Iterable[str] = (),
    duplicates: Iterable[str] = (),
) -> Choices:
    """Read choices as a person gives them: ``item`` or ``recipe.item``, ``item.part=value,value``,
    ``item=carry`` or ``item=leave`` for what lies outside, ``item=route``, and ``item=skip`` and
    its like for records that are there already.

    Raises:
        InputUnusable: There is no such item or part, or the name is that of several.
    """
    items = {f"{loaded.id}.{name}" for loaded in recipes for name in loaded.recipe.listed}
    parts = {
        f"{loaded.id}.{name}.{part}"
        for loaded in recipes
        for name, item in loaded.recipe.items.items()
        for part in item.parts
    }
    chosen: dict[str, tuple[str, ...]] = {}
    for text in choose:
        name, mark, values = text.partition("=")
        if not mark or not values:
            todo = "Write it like --choose mailbox.sort=letters,contacts."
            raise InputUnusable("this chooses nothing", where=text, todo=todo)
        full = _full(name, parts, "part")
        chosen[full] = (*chosen.get(full, ()), *(v.strip() for v in values.split(",")))
    verdicts: dict[str, Verdict] = {}
    for text in outside:
        name, _, said = text.partition("=")
        verdict = _VERDICTS.get(said)
        if verdict is None:
            todo = "Write it like --outside recordings=carry, or =leave."
            raise InputUnusable("this chooses nothing", where=text, todo=todo)
        verdicts[_full(name, items, "item")] = verdict
    return Choices(
        frozenset(_full(name, items, "item") for name in only),
        frozenset(_full(name, items, "item") for name in without),
        chosen,
        verdicts,
        release_after,
        routes=dict(_route(text, items, recipes) for text in routes),
        duplicates=dict(_duplicate(text, items) for text in duplicates),
    )


def _route(text: str, items: set[str], recipes: Sequence[Loaded]) -> tuple[str, str]:
    """Return the item and the route that a person chose.

    Raises:
        InputUnusable: There is no such item, or it has no such route.
    """
    name, _, route = text.partition("=")
    full = _full(name, items, "item")
    recipe, _, item = full.partition(".")
    listed = next(loaded for loaded in recipes if loaded.id == recipe).recipe.items.get(item)
    known = [one.name for one in listed.routes] if listed is not None else []
    if route not in known:
        hint = did_you_mean(route, known) or f"There are: {', '.join(known) or 'none'}."
        raise InputUnusable(f"{full} has no such route", where=text, todo=hint)
    return full, route


def _duplicate(text: str, items: set[str]) -> tuple[str, Duplicates]:
    """Return the item and what a person chose for records that are there already.

    Raises:
        InputUnusable: There is no such item or choice.
    """
    name, _, said = text.partition("=")
    chosen = next((word for word in get_args(Duplicates) if word == said), None)
    if chosen is None:
        todo = f"Write it like --duplicates mailbox=skip: {', '.join(get_args(Duplicates))}."
        raise InputUnusable("this chooses nothing", where=text, todo=todo)
    return _full(name, items, "item"), chosen


def _full(name: str, known: set[str], what: str) -> str:
    matches = sorted(k for k in known if k == name or k.endswith(f".{name}"))
    if len(matches) == 1:
        return matches[0]
    if matches:
        why = f"it could be {' or '.join(matches)}"
        raise InputUnusable(f"this names more than one {what}", where=name, why=why)
    shorts = {k.partition(".")[2] for k in known} | known
    hint = did_you_mean(name, shorts) or f"There are: {', '.join(sorted(known)) or 'none'}."
    raise InputUnusable(f"there is no such {what}", where=name, todo=hint)
