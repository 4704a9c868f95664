"""From the route of an item to the steps of a plan."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime

from widetrail.finding import Finder
from widetrail.planning.choice import Chosen
from widetrail.planning.plan import PlannedItem
from widetrail.recipe import Loaded, Station
from widetrail.recipe.templates import ROOTS, fill
from widetrail.steps import RULES, Step, Unfolding


def unfold_steps(
    planned: PlannedItem, loaded: Loaded, chosen: Chosen, finder: Finder, today: datetime
) -> list[Step]:
    """Return the steps of an item in order: what is noted, what moves it, what is checked."""
    item = loaded.recipe.items[planned.item]
    moving: list[Step] = []
    number = 0
    for leg in chosen.route.legs:
        for step in leg.steps:
            number += 1
            unfolding = Unfolding(
                loaded, planned.id, chosen.route.name, chosen.route.existing, leg.station, number,
                step.rule, planned.old_path, planned.new_path, chosen.parts,
                _expander(planned, finder, leg.station, chosen, today),
            )  # fmt: skip
            moving.extend(_chained(RULES[step.kind].unfold(unfolding), moving))
    wanted: dict[str, str | tuple[str, ...]] = {
        name: check.compare
        for name, check in sorted(item.checks.items())
        if check.looked_at(chosen.parts)
    }
    if not wanted:
        return moving
    note = Step(
        id=f"{planned.id}/note", kind="note", station="old", item=planned.id, arguments=wanted
    )
    check = Step(
        id=f"{planned.id}/check",
        kind="check",
        station="new",
        item=planned.id,
        arguments=wanted,
        after=(note.id, *(step.id for step in moving)),
    )
    first = [
        step.model_copy(update={"after": (note.id, *step.after)})
        if step.station == "old" and step.kind != "pack"
        else step
        for step in moving
    ]
    return [note, *first, check]


def _chained(steps: tuple[Step, ...], before: list[Step]) -> list[Step]:
    """Put ``steps`` after what came before in the route; packing waits for old's steps only."""
    chained = []
    for step in steps:
        earlier = [s.id for s in before if step.kind != "pack" or s.station == "old"]
        after = tuple(dict.fromkeys([*step.after, *earlier]))
        chained.append(step.model_copy(update={"after": after}))
    return chained


def _expander(
    planned: PlannedItem, finder: Finder, station: Station, chosen: Chosen, today: datetime
) -> Callable[[str], str]:
    """Return what puts in the values of braces that are known; others stay as they are."""
    place = finder.loaded.recipe.items[planned.item].from_

    def value(name: str) -> str:
        if name == "parcel":
            return f"{{parcel}}/{planned.id}"
        if name == "date":
            return today.date().isoformat()
        if name in chosen.parts:
            return ", ".join(chosen.parts[name])
        if name == f"{place}.name" and planned.instance:
            return planned.instance if station == "old" else planned.new_instance
        if name == place:
            return (planned.old_path if station == "old" else planned.new_path) or f"{{{name}}}"
        if station == "old" and (name in ROOTS or name in finder.loaded.recipe.places):
            return finder.path(f"{{{name}}}") or f"{{{name}}}"
        return f"{{{name}}}"

    return lambda text: fill(text, value)
