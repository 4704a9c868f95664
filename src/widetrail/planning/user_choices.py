"""What a person chooses of a plan: items, and values of their parts."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Literal

from widetrail.errors import InputUnusable
from widetrail.finding import Finder, Several, Unknown, find_application
from widetrail.findings import did_you_mean
from widetrail.machine import Machine
from widetrail.recipe import Item, Loaded


@dataclass(frozen=True, slots=True)
class Choices:
    """Items to go, items to stay, and the values chosen of parts, by ``recipe.item[.part]``."""

    only: frozenset[str] = frozenset()
    without: frozenset[str] = frozenset()
    parts: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    outside: Mapping[str, str] = field(default_factory=dict)
    """Whether files that an item names elsewhere go along: ``carry`` or ``leave``."""

    release_after: Literal["verifying", "packing"] = "verifying"
    """When a licence may be released on old: when what was packed is verified on new, or, which
    saves trips and risks that it does not arrive, when it was read back from the medium."""

    ask_programs: bool = False
    """Whether readings may start the application's programs, on either machine, in planning and
    in walks, to read what they print."""

    def as_json(self) -> dict[str, Any]:
        """Return the choices as plain JSON values."""
        parts = {name: list(values) for name, values in self.parts.items()}
        chosen: dict[str, Any] = {"parts": parts, "outside": dict(self.outside)}
        chosen |= {"release after": self.release_after, "ask programs": self.ask_programs}
        return {"only": sorted(self.only), "without": sorted(self.without), **chosen}

    @classmethod
    def from_json(cls, facts: Mapping[str, Any]) -> Choices:
        """Return the choices that ``as_json`` told."""
        parts = {str(name): tuple(map(str, v)) for name, v in facts["parts"].items()}
        outside = {str(item): str(verdict) for item, verdict in facts["outside"].items()}
        only, without = frozenset(facts["only"]), frozenset(facts["without"])
        asked = bool(facts["ask programs"])
        return cls(only, without, parts, outside, facts["release after"], asked)

    def wants(self, item: str) -> bool:
        """Return whether the item ``recipe.item`` is to go."""
        return item not in self.without and (not self.only or item in self.only)


@dataclass(frozen=True, slots=True)
class Offer:
    """What a person can choose of one item: whether it goes, and the values of its parts."""

    id: str
    title: str
    parts: Mapping[str, tuple[str, ...]]


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
            offers.append(Offer(f"{loaded.id}.{name}", title, known))
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
    release_after: Literal["verifying", "packing"] = "verifying",
) -> Choices:
    """Read choices as a person gives them: ``item`` or ``recipe.item``, ``item.part=value,value``,
    ``item=carry`` or ``item=leave`` for what lies outside.

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
    verdicts: dict[str, str] = {}
    for text in outside:
        name, _, verdict = text.partition("=")
        if verdict not in ("carry", "leave"):
            todo = "Write it like --outside recordings=carry, or =leave."
            raise InputUnusable("this chooses nothing", where=text, todo=todo)
        verdicts[_full(name, items, "item")] = verdict
    return Choices(
        frozenset(_full(name, items, "item") for name in only),
        frozenset(_full(name, items, "item") for name in without),
        chosen,
        verdicts,
        release_after,
    )


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
