"""Making a plan: where things are, how each item goes, in which order, and what stands in the way.

Nothing is changed; everything that stands in the way is said at once.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from widetrail.errors import Halted, InputUnusable, MachineUnusable, Obstructed
from widetrail.finding import Absent, Finder, Found, Nowhere, Selection, Several, Tally, Where
from widetrail.finding.selection import tally
from widetrail.formats.quantities import show_size
from widetrail.machine import Machine, Medium
from widetrail.machine.paths import is_within
from widetrail.planning.plan import Plan, PlannedItem, PlannedLeg, PlannedRecipe, PlannedStation
from widetrail.recipe import Item, Loaded, Route, Station
from widetrail.recipe.releases import parse_releases
from widetrail.steps import RULES, Step, Unfolding

ENTRY_ROOM = 2048
"""Bytes that an entry takes in a parcel beside its contents, at most about that."""

PARCEL_ROOM = 1 << 20


@dataclass(frozen=True, slots=True)
class _Side:
    """One recipe on both machines."""

    loaded: Loaded
    old: Finder
    new: Finder


def make_plan(recipes: Sequence[Loaded], old: Machine, new: Machine, medium: Medium) -> Plan:
    """Plan the move of ``recipes`` from ``old`` to ``new`` by way of ``medium``.

    The same recipes and machines give the same plan, byte for byte, in whatever order the recipes
    are named.

    Raises:
        InputUnusable: Old and new are one machine.
        Obstructed: Something stands in the way; every obstacle is named.
    """
    if old.identity == new.identity:
        todo = "Name the other machine with --old or --new."
        raise InputUnusable("old and new are one machine", where=old.name, todo=todo)
    ordered = sorted(recipes, key=lambda loaded: loaded.id)
    sides = [_Side(loaded, Finder(old, loaded), Finder(new, loaded)) for loaded in ordered]
    obstacles: list[Halted] = []
    notices: list[str] = []
    items: list[PlannedItem] = []
    steps: list[Step] = []
    for side in sides:
        if not _installed(side, obstacles):
            continue
        notices.extend(_beyond(side))
        for name in side.loaded.recipe.items:
            planned = _item(side, name, obstacles)
            if planned is not None:
                items.append(planned)
                steps.extend(_steps(side, planned))
    _apart(items, new, obstacles)
    size = PARCEL_ROOM + sum(i.size + i.files * ENTRY_ROOM for i in items)
    _room(items, size, medium, new, obstacles)
    if obstacles:
        raise Obstructed("the plan cannot be made", obstacles)
    legs = _legs(steps)
    return Plan(
        recipes=tuple(_recipe(side.loaded) for side in sides),
        stations=(_station("old", old), _station("new", new)),
        items=tuple(items),
        steps=tuple(steps),
        legs=legs,
        parcel_size=size,
        trips=len(legs) - 1,
        notices=tuple(notices),
    )


def _recipe(loaded: Loaded) -> PlannedRecipe:
    application = loaded.recipe.application
    return PlannedRecipe(
        id=loaded.id,
        name=application.name,
        revision=loaded.recipe.revision,
        digest=loaded.digest,
    )


def _station(station: Station, machine: Machine) -> PlannedStation:
    return PlannedStation(
        station=station,
        machine=machine.name,
        identity=machine.identity,
        facts=dict(machine.facts()),
    )


def _installed(side: _Side, obstacles: list[Halted]) -> bool:
    name = side.loaded.recipe.application.name
    for finder, todo in (
        (side.old, "Name the machine that has it, or leave the recipe out."),
        (side.new, f"Install {name} there, start it once and close it, then plan again."),
    ):
        if finder.installation is None:
            spot = side.loaded.spot("recognise")
            why = f"no sign that {spot} names was found"
            what = f"{name} is not on {finder.machine.name}"
            obstacles.append(Halted(what, why=why, todo=todo))
    return side.old.installation is not None and side.new.installation is not None


def _beyond(side: _Side) -> list[str]:
    application = side.loaded.recipe.application
    if application.releases is None:
        return []
    notices = []
    for finder in (side.old, side.new):
        found = finder.installation.release if finder.installation is not None else None
        where = f"{application.name} on {finder.machine.name}"
        if found is None:
            notices.append(f"{where}: its release could not be read; the recipe is checked for "
                           f"{application.releases}")  # fmt: skip
        elif found not in parse_releases(application.releases):
            notices.append(f"{where} is {found}; the recipe is checked for {application.releases}")
    return notices


def _item(side: _Side, name: str, obstacles: list[Halted]) -> PlannedItem | None:
    item, route = side.loaded.recipe.items[name], side.loaded.recipe.items[name].routes[0]
    subject = f"{side.loaded.id}.{name}"
    old, new = side.old.place(item.from_), side.new.place(item.from_)
    if isinstance(old, Several) or isinstance(new, Several):
        what = f"{subject} is several folders on {side.old.machine.name}"
        why = "this version plans items that are one folder each; survey shows all of them"
        obstacles.append(Halted(what, why=why, todo="Leave the recipe out."))
        return None
    if not isinstance(old, Found):
        obstacles.append(_lost(subject, item, old, side.old.machine))
        return None
    if isinstance(new, Nowhere):
        obstacles.append(_lost(subject, item, new, side.new.machine))
        return None
    try:
        count = tally(Selection(item, side.old.machine.platform).walk(side.old.machine, old.path))
    except MachineUnusable as error:
        todo = "Give the account the right to read it, then plan again."
        obstacles.append(Halted(error.what, where=error.where, why=error.why, todo=todo))
        return None
    occupied = isinstance(new, Found) and _occupied(item, side.new.machine, new.path)
    if occupied and route.existing == "stop":
        todo = "Move it away on new, then plan again."
        why = "the recipe says to stop where something is there already"
        obstacles.append(
            Halted(f"{subject} cannot go in place", where=new.path, why=why, todo=todo)
        )
    return _planned(side, name, route, old, new, count, occupied)


def _occupied(item: Item, machine: Machine, path: str) -> bool:
    """Return whether something that the item stands for is on new already."""
    selection = Selection(item, machine.platform)
    return selection.whole or any(e.kind != "folder" for e in selection.walk(machine, path))


def _planned(
    side: _Side, name: str, route: Route, old: Found, new: Found | Absent, count: Tally,
    occupied: bool,
) -> PlannedItem:  # fmt: skip
    item = side.loaded.recipe.items[name]
    return PlannedItem(
        id=f"{side.loaded.id}.{name}",
        recipe=side.loaded.id,
        item=name,
        title=item.title,
        kind=item.kind,
        route=route.name,
        existing=route.existing,
        whole=not item.take,
        old_path=old.path,
        old_how=str(old.how),
        new_path=new.path,
        new_how=str(new.how),
        occupied=occupied,
        files=count.files,
        size=count.size,
        losses=(*item.losses, *route.losses),
    )


def _lost(subject: str, item: Item, where: Where, machine: Machine) -> Halted:
    spot = where.path if isinstance(where, Absent) else ""
    why = f"it is {where.how}" if isinstance(where, Absent) else str(where)
    what = f'there is nothing at the place "{item.from_}" of {subject} on {machine.name}'
    todo = "If it lies on a disk that is not connected, connect it; then plan again."
    return Halted(what, where=spot, why=why, todo=todo)


def _steps(side: _Side, planned: PlannedItem) -> list[Step]:
    item = side.loaded.recipe.items[planned.item]
    route = item.routes[0]
    moving: list[Step] = []
    for leg in route.legs:
        for number, rule in enumerate(leg.steps, start=1):
            unfolding = Unfolding(
                side.loaded, planned.item, route.name, route.existing, number,
                planned.old_path, planned.new_path,
            )  # fmt: skip
            moving.extend(RULES[rule.kind].unfold(unfolding))
    if not item.checks:
        return moving
    wanted = {name: check.compare for name, check in sorted(item.checks.items())}
    note = Step(id=f"{planned.id}/note", kind="note", station="old", item=planned.id,
                arguments=wanted)  # fmt: skip
    check = Step(
        id=f"{planned.id}/check",
        kind="check",
        station="new",
        item=planned.id,
        arguments=wanted,
        after=(note.id, *(s.id for s in moving if s.station == "new")),
    )
    return [note, *moving, check]


def _legs(steps: Sequence[Step]) -> tuple[PlannedLeg, ...]:
    """Group steps into legs: old first, then new, which is all that packing can need."""
    legs = []
    for number, station in enumerate(("old", "new"), start=1):
        there = tuple(step.id for step in steps if step.station == station)
        legs.append(PlannedLeg(number=number, station=station, steps=there))
    return tuple(legs)


def _apart(items: Sequence[PlannedItem], new: Machine, obstacles: list[Halted]) -> None:
    """Find an item whose place would be put aside together with another's."""
    for item in items:
        for other in items:
            inside = is_within(other.new_path, item.new_path, new.platform)
            same = inside and is_within(item.new_path, other.new_path, new.platform)
            if item.id != other.id and item.whole and inside and (not same or item.id < other.id):
                todo = f"Carve it out, or leave one of the two recipes' items out: {other.id}."
                what = f"{item.id} and {other.id} claim one place"
                obstacles.append(Halted(what, where=other.new_path, todo=todo))


def _room(
    items: Sequence[PlannedItem], size: int, medium: Medium, new: Machine, obstacles: list[Halted]
) -> None:
    if size > medium.free:
        what = f"the medium {medium.name} is too small"
        why = f"the parcel needs {show_size(size)}, and {show_size(medium.free)} are free"
        todo = "Take a larger medium, or make room on this one."
        obstacles.append(Halted(what, why=why, todo=todo))
    needed: dict[str, tuple[int, int]] = {}
    for item in items:
        room = new.room(item.new_path)
        so_far, free = needed.get(room.volume, (0, room.free))
        needed[room.volume] = so_far + item.size + item.files * ENTRY_ROOM, free
    for volume, (wanted, free) in needed.items():
        if wanted > free:
            what = f"the disk {volume} of {new.name} is too full"
            why = f"{show_size(wanted)} are needed, and {show_size(free)} are free"
            obstacles.append(Halted(what, why=why, todo="Make room there, then plan again."))
