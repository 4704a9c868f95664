"""The steps of a plan in order, on an itinerary: what waits for what, and what comes last."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from widetrail.errors import Halted
from widetrail.planning.chosen_places import brings_settings
from widetrail.planning.draft import Draft
from widetrail.planning.itinerary import Circle, Itinerary, find_itinerary
from widetrail.planning.plan import (
    PlannedItem,
)
from widetrail.planning.shared_places import lies_inside
from widetrail.planning.unfolding import known_of, unfold_steps
from widetrail.recipe import Station
from widetrail.recipe.templates import literal
from widetrail.steps import Step, act_of
from widetrail.steps.retire import retire_step

_Leg = tuple[Station, tuple[str, ...]]


def unfold_items(draft: Draft, today: datetime) -> None:
    """Unfold every item; what uses another recipe or lies inside an item comes after it on new."""
    unfolded: dict[str, list[Step]] = {}
    for planned, subject, chosen in draft.items:
        loaded = subject.side.loaded
        try:
            unfolded[planned.id] = unfold_steps(
                planned, loaded, chosen, known_of(planned, subject.finder, chosen, today)
            )
        except Halted as error:
            unfolded[planned.id] = []
            draft.obstacles.append(error)
    for planned, subject, _ in draft.items:
        uses = subject.side.loaded.recipe.relies_on
        waits = [
            step.id
            for other, its, _ in draft.items
            if other.recipe in uses
            or lies_inside(planned, other, subject)
            or brings_settings(planned, subject, its)
            or (_names_it(planned, other) and not lies_inside(other, planned, its))
            for step in unfolded[other.id]
            if step.station == "new"
        ]
        draft.steps.extend(
            _later(step, waits) if step.station == "new" and waits else step
            for step in unfolded[planned.id]
        )


def _names_it(planned: PlannedItem, other: PlannedItem) -> bool:
    """Return whether an item may name files of another that get another name as they arrive."""
    if planned.id == other.id or planned.recipe != other.recipe or other.existing != "alongside":
        return False
    both = planned.existing == "alongside" and bool(other.written)
    return bool(planned.written) and (not both or other.id < planned.id)


def _later(step: Step, waits: Sequence[str]) -> Step:
    return step.model_copy(update={"after": tuple(dict.fromkeys([*step.after, *waits]))})


def itinerary_of(draft: Draft) -> Itinerary | None:
    """Return the itinerary of all steps; a circle among them is an obstacle."""
    try:
        return find_itinerary(draft.steps)
    except Circle as error:
        todo = "Take one of the uses out, or leave a recipe out."
        what = "steps depend on each other in a circle"
        draft.obstacles.append(
            Halted(what, why=", ".join(error.steps[:6]), todo=todo, codes=["circle"])
        )
        return None


def with_retiring(draft: Draft, itinerary: Itinerary) -> list[_Leg]:
    """Return the legs with each retiring that rides on a visit of old that is made anyway.

    Where there is none, retiring stays the person's task.
    """
    legs: list[_Leg] = [(station, tuple(steps)) for station, steps in itinerary.legs]
    for number, (planned, subject, chosen) in enumerate(draft.items):
        if not subject.item.retire:
            continue
        mine = [s.id for s in draft.steps if s.item == planned.id]
        done = max((n for n, (_, steps) in enumerate(legs) if set(mine) & set(steps)), default=0)
        new_done = max(
            (
                n
                for n, (station, steps) in enumerate(legs)
                if station == "new" and set(mine) & set(steps)
            ),
            default=-1,
        )
        back = [n for n in range(max(done, new_done), len(legs)) if legs[n][0] == "old"]
        if new_done < 0 or not back or subject.finder.machine.read_only:
            continue
        name = literal(subject.side.new.machine)
        step = retire_step(planned.id, literal(planned.old_path), name, tuple(mine))
        draft.steps.append(step)
        legs[back[-1]] = ("old", (*legs[back[-1]][1], step.id))
        told = {"tasks": planned.tasks[1:]}
        draft.items[number] = (planned.model_copy(update=told), subject, chosen)
    return legs


def insist_detached_last(draft: Draft, legs: Sequence[_Leg]) -> None:
    """Say where the medium would be taken away while another station still needs it."""
    for step in draft.steps:
        later = [station for station, steps in legs[:-1] if step.id in steps]
        if act_of(step).takes_medium and later:
            what = f"{step.item} removes the medium while another computer still needs it"
            todo = "Leave the item out, or move the recipe's detach to its last leg."
            draft.obstacles.append(Halted(what, where=step.id, todo=todo, codes=["detach"]))
