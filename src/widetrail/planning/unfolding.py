"""From the route of an item to the steps of a plan."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from datetime import datetime

from widetrail.finding import Finder
from widetrail.planning.plan import PlannedItem
from widetrail.planning.route_choice import Chosen
from widetrail.recipe import Item, Loaded, Route, Station
from widetrail.recipe.by_platform import on_platform
from widetrail.recipe.conditions import Condition
from widetrail.recipe.templates import ROOTS, literal, refill
from widetrail.steps import RULES, Step, Unfolding, act_of
from widetrail.steps.check import CheckStep
from widetrail.steps.note import NoteStep
from widetrail.steps.reading_conditions import conditions
from widetrail.steps.remnants import RemnantsStep
from widetrail.steps.wait import WaitStep
from widetrail.steps.write import WriteStep

AWAITED_AT_MOST = "12 h"

Expand = Callable[..., str]
"""Puts into a template what is known, and values by name where they are given."""


def unfold_steps(
    planned: PlannedItem, loaded: Loaded, chosen: Chosen, expand: Callable[[Station], Expand]
) -> list[Step]:
    """Return the steps of an item in order: what is noted, what moves it, what is checked.

    ``expand`` gives what puts into templates what is known at a station.

    Raises:
        Halted: A value that was chosen cannot be given to a program.
    """
    item = loaded.recipe.items[planned.item]
    moving: list[Step] = []
    number = 0
    for leg in chosen.route.legs:
        for step in leg.steps:
            number += 1
            unfolding = Unfolding(
                loaded,
                planned.id,
                chosen.route.name,
                planned.existing,
                leg.station,
                number,
                planned.old_path,
                planned.new_path,
                chosen.parts,
                expand(leg.station),
                planned.single,
                planned.store,
                planned.shared,
                planned.duplicates,
                planned.parts_left.keys(),
            )
            unfolded = _packed_once(RULES[step.kind].unfold(step.rule, unfolding), moving)
            for one in unfolded:
                moving.extend(_telling(one, planned, loaded, moving))
                moving.extend(_awaiting(one, chosen.route, planned.id, moving))
                moving.append(_chained(one, moving))
    return [*_judged(item, planned, chosen, moving), *_looked_through(planned, moving)]


def _looked_through(planned: PlannedItem, moving: list[Step]) -> Iterator[Step]:
    """Give the look for remnants of old, after all of the item that is done on new."""
    here = tuple(step.id for step in moving if step.station == "new")
    if planned.written or any(act_of(step).places for step in moving):
        own = f"{planned.id}/remnants"
        yield RemnantsStep(id=own, station="new", item=planned.id, after=here)


def _judged(item: Item, planned: PlannedItem, chosen: Chosen, moving: list[Step]) -> list[Step]:
    """Put what is noted before ``moving``, and what is checked after all of it that is on new.

    What is left to do elsewhere then waits for the check.
    """
    wanted = {
        name: check.compare
        for name, check in sorted(item.checks_of(chosen.route).items())
        if check.looked_at(chosen.parts, planned.parts_left.keys())
    }
    noted = dict.fromkeys([*sorted(_compared_with_old(item, chosen.route)), *wanted])
    if not noted:
        return moving
    note = NoteStep(id=f"{planned.id}/note", station="old", item=planned.id, readings=tuple(noted))
    first = [
        step.model_copy(update={"after": (note.id, *step.after)})
        if step.station == "old" and not act_of(step).packs
        else step
        for step in moving
    ]
    if not wanted:
        return [note, *first]
    last = max((n for n, step in enumerate(first, start=1) if step.station == "new"), default=0)
    before, then = first[:last], first[last:]
    check = CheckStep(
        id=f"{planned.id}/check",
        station="new",
        item=planned.id,
        readings=wanted,
        after=(note.id, *(step.id for step in before)),
    )
    then = [step.model_copy(update={"after": (*step.after, check.id)}) for step in then]
    return [note, *before, check, *then]


def _compared_with_old(item: Item, route: Route) -> Iterator[str]:
    """Give the readings that a step, state or proof compares with old's."""
    asked: list[Mapping[str, Condition]] = [route.wait]
    asked += [loss.proof for loss in (*item.losses, *route.losses)]
    for leg in route.legs:
        for step in leg.steps:
            asked += step.rule.conditions().values()
    for rules in asked:
        yield from (name for name, condition in rules.items() if condition.compares_old)


def _packed_once(steps: tuple[Step, ...], before: list[Step]) -> tuple[Step, ...]:
    """Leave a second packing of the item out; what publishes it comes after the first."""
    packed = next((s.id for s in before if act_of(s).packs), None)
    again = {s.id for s in steps if act_of(s).packs} if packed is not None else set()
    return tuple(
        s.model_copy(
            update={"after": tuple(packed if a in again and packed else a for a in s.after)}
        )
        for s in steps
        if s.id not in again
    )


def _awaiting(step: Step, route: Route, subject: str, before: list[Step]) -> Iterator[Step]:
    """Give the wait for the route's states, before the first act of a station that needs them.

    What a person does, and starting the program, comes first: that is what brings them about.
    """
    own = f"{subject}/await/{step.station}"
    if not route.wait or act_of(step).brings_about or any(s.id == own for s in before):
        return
    until = conditions(route.wait)
    wait = WaitStep(id=own, station=step.station, item=subject, until=until, within=AWAITED_AT_MOST)
    yield _chained(wait, before)


def _telling(
    step: Step, planned: PlannedItem, loaded: Loaded, before: list[Step]
) -> Iterator[Step]:
    """Give the writing of where the item is to be, before the first act on new that needs it.

    The program is told of the folder that a person chose by the setting that tells its place.
    """
    own, place = f"{planned.id}/tell", loaded.recipe.items[planned.item].from_
    if planned.set_in is None or step.station != "new" or act_of(step).brings_about:
        return
    told = loaded.recipe.places[place][planned.set_in.case].set_in
    if told is None or any(s.id == own for s in before):
        return
    file = on_platform(told.where, planned.set_in.platform) or ""
    write = WriteStep(
        id=own,
        station="new",
        item=planned.id,
        form=told.form,
        file=file if told.in_file else literal(file),
        at=told.at or "",
        value=literal(planned.new_path),
        value_is="path",
        changes=(file,) if told.in_file else (),
    )
    yield _chained(write, before)


def _chained(step: Step, before: list[Step]) -> Step:
    """Put ``step`` after what came before in the route; packing waits for old's steps only."""
    act = act_of(step)
    old_only = act.packs or (act.only_waits and step.station == "old")
    earlier = [s.id for s in before if not old_only or s.station == "old"]
    return step.model_copy(update={"after": tuple(dict.fromkeys([*step.after, *earlier]))})


def known_of(
    planned: PlannedItem, finder: Finder, chosen: Chosen, today: datetime
) -> Callable[[Station], Expand]:
    """Return what puts in the values of braces that are known of an item on the machines."""
    return lambda station: _expander(planned, finder, station, chosen, today)


def _expander(
    planned: PlannedItem, finder: Finder, station: Station, chosen: Chosen, today: datetime
) -> Expand:
    """Return what puts in the values of braces that are known; others stay as they are."""
    place = finder.loaded.recipe.items[planned.item].from_

    def value(name: str) -> str | None:
        if name == "date":
            return today.date().isoformat()
        if name == "duplicates":
            words = chosen.route.duplicates
            own = next(iter(words.values()), None)
            return words.get(planned.duplicates, own) if planned.duplicates else own
        if name in chosen.parts:
            return ", ".join(chosen.parts[name])
        if name == f"{place}.name" and planned.instance:
            return planned.called_at(station)
        if name == place:
            there = "" if planned.registered else planned.new_path
            return (planned.old_path if station == "old" else there) or None
        if station == "old" and (name in ROOTS or name in finder.loaded.recipe.places):
            return finder.path(f"{{{name}}}")
        return None

    def expand(text: str, own: Mapping[str, str] | None = None) -> str:
        return refill(text, lambda name: (own or {}).get(name, None) or value(name))

    return expand
