"""What the files of all items name, and what becomes of what does not move."""

from __future__ import annotations

from collections.abc import Sequence

from widetrail.errors import Halted
from widetrail.finding import (
    Atlas,
    Found,
    Moved,
)
from widetrail.finding.atlas import taking
from widetrail.planning.draft import Draft, RecipeSides, Subject, entries_to_pack
from widetrail.planning.embedded_paths import (
    bearings_of,
    look_at_paths,
    places_on_both,
    some_of,
    with_outside,
    written_at,
)
from widetrail.planning.plan import (
    PlannedItem,
)
from widetrail.planning.route_choice import Chosen, copies
from widetrail.planning.station_facts import New
from widetrail.planning.user_choices import Choices


def find_named_paths(
    draft: Draft, sides: Sequence[RecipeSides], choices: Choices, new: New
) -> None:
    """Find where the items hold paths, and decide about what these name that does not move."""
    moved = [
        *(_as_moved(*item) for item in draft.items if item[0].old_path),
        *(place for side in sides for place in places_on_both(side.finder, side.new)),
    ]
    along: dict[str, str] = {}
    for number, (planned, subject, chosen) in enumerate(draft.items):
        place, machine = subject.old_place, subject.finder.machine
        if not isinstance(place, Found):
            continue
        written = written_at(subject.finder, subject.item, place, planned.carved)
        planned = planned.model_copy(update={"written": written})
        if copies(chosen.route):  # else its program carries it, and what it wrote is looked through
            bearings, there = bearings_of(new, machine)
            atlas = Atlas(machine, bearings, moved, there)
            named = look_at_paths(machine, place, written, atlas, planned.new_path or place.path)
            for path in along.keys() & named.outside.keys():  # another item takes it along
                del named.outside[path]
            draft.notices += [f"{subject.id}: {why}; its paths stay" for why in named.unread]
            verdict = subject.chosen(choices.outside) or ""
            if asked := [p for p, rule in named.outside.items() if rule == "ask" and not verdict]:
                what = f"{subject.id} names {some_of(asked)}, which is not part of the move"
                todo = f"Say --outside {subject.name}=carry, or {subject.name}=leave."
                why = "the recipe asks whether it is copied too"
                draft.obstacles.append(Halted(what, why=why, todo=todo, codes=["outside"]))
            taken = (
                [] if planned.single else [e.path for e in entries_to_pack(subject, planned.carved)]
            )
            title = subject.side.loaded.recipe.application.name
            planned = with_outside(planned, machine, named, verdict, taken, title)
            along |= dict.fromkeys(planned.from_outside.values(), planned.id)
        draft.items[number] = planned, subject, chosen


def _as_moved(planned: PlannedItem, subject: Subject, chosen: Chosen) -> Moved:
    """Return an item's place as it moves, with what of it is carried."""
    takes = None
    if copies(chosen.route) and not planned.single and not planned.store:
        paths = (entry.path for entry in entries_to_pack(subject, planned.carved))
        takes = taking(paths, subject.finder.machine.platform)
    new = planned.new_path or planned.old_path
    return Moved(planned.old_path, new, True, planned.renamed, takes)
