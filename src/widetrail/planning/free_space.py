"""Whether the medium and new have room for what travels."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from widetrail.errors import Halted
from widetrail.finding import CardFacts
from widetrail.formats.quantities import show_size
from widetrail.machine import Machine, Medium
from widetrail.machine.paths import base, trouble_with_name
from widetrail.machine.platforms import STRICTEST
from widetrail.planning.draft import Draft, Subject
from widetrail.planning.plan import PlannedItem
from widetrail.planning.route_choice import Chosen, copies
from widetrail.planning.station_facts import New
from widetrail.recipe.templates import plain

ENTRY_ROOM = 2048
"""Bytes that an entry takes in a parcel beside its contents, at most about that."""

PARCEL_ROOM = 1 << 20


def insist_space(draft: Draft, medium: Medium, new: New) -> int:
    """Judge the room on the medium and on new; return the bytes the parcel needs at most."""
    carried = [
        (item, subject, chosen)
        for item, subject, chosen in draft.items
        if chosen.route.fills_parcel
    ]
    size = PARCEL_ROOM + sum(i.size + i.files * ENTRY_ROOM for i, _, _ in carried)
    if size > medium.free:
        what = f"the medium {medium.name} is too small"
        why = f"the parcel needs {show_size(size)}, and {show_size(medium.free)} are free"
        todo = f"Use a larger medium, or free some space on this one{_other_way(carried)}."
        draft.obstacles.append(Halted(what, why=why, todo=todo, codes=["room"]))
    for step in draft.steps:
        for made in step.writes:
            name = base(plain(made))
            trouble = trouble_with_name(name, STRICTEST) if step.commands else ""
            if trouble:
                what = f"a medium cannot hold the name {name!r} that {step.item} makes"
                todo = "Choose another value, or leave the item out."
                draft.obstacles.append(
                    Halted(what, why=f"it {trouble}", todo=todo, codes=["names"])
                )
    if new is not None and not isinstance(new, CardFacts):
        placed = [i for i, _, chosen in carried if copies(chosen.route) and not i.store]
        amounts = [(i.new_path, i.size + i.files * ENTRY_ROOM) for i in placed]
        draft.obstacles.extend(
            full_volumes(new, amounts, "Free some space there, then plan again.")
        )
    return size


def full_volumes(machine: Machine, amounts: Iterable[tuple[str, int]], todo: str) -> list[Halted]:
    """Return an obstacle for each volume of ``machine`` with too little room.

    ``amounts`` are paths with the bytes put there; ``todo`` is what a person does about it.
    """
    needed: dict[str, tuple[int, int]] = {}
    for path, size in amounts:
        room = machine.room(path)
        so_far, _ = needed.get(room.volume, (0, 0))
        needed[room.volume] = so_far + size, room.free
    return [
        Halted(
            f"the disk {volume} of {machine.name} is too full",
            why=f"{show_size(wanted)} are needed, and {show_size(free)} are free",
            todo=todo,
            codes=["room"],
        )
        for volume, (wanted, free) in needed.items()
        if wanted > free
    ]


def _other_way(carried: Sequence[tuple[PlannedItem, Subject, Chosen]]) -> str:
    """Return words for a route that needs no room on the medium, of the largest item."""
    for item, subject, _ in sorted(carried, key=lambda entry: (-entry[0].size, entry[0].id)):
        for route in subject.item.routes:
            if not route.fills_parcel:
                return f'; {item.id} could also go by "{route.name}", which needs none'
    return ""
