"""What a person chooses of a plan: items, and values of their parts."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field

from widetrail.errors import InputUnusable
from widetrail.findings import did_you_mean
from widetrail.recipe import Loaded


@dataclass(frozen=True, slots=True)
class Choices:
    """Items to go, items to stay, and the values chosen of parts, by ``recipe.item[.part]``."""

    only: frozenset[str] = frozenset()
    without: frozenset[str] = frozenset()
    parts: Mapping[str, tuple[str, ...]] = field(default_factory=dict)

    def wants(self, item: str) -> bool:
        """Return whether the item ``recipe.item`` is to go."""
        return item not in self.without and (not self.only or item in self.only)


def read_choices(
    recipes: Sequence[Loaded],
    only: Iterable[str] = (),
    without: Iterable[str] = (),
    choose: Iterable[str] = (),
) -> Choices:
    """Read choices as a person gives them: ``item`` or ``recipe.item``, ``item.part=value,value``.

    Raises:
        InputUnusable: There is no such item or part, or the name is that of several.
    """
    items = {f"{loaded.id}.{name}" for loaded in recipes for name in loaded.recipe.items}
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
    return Choices(
        frozenset(_full(name, items, "item") for name in only),
        frozenset(_full(name, items, "item") for name in without),
        chosen,
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
