"""Planning the rest anew on new, where it is no longer as it was when the plan was made.

What was packed stays as it is, so routes stay too: places are found again, needs of new are judged
again, and an item whose route can no longer be taken stays behind with the reason.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from datetime import datetime

from widetrail.errors import ParcelUnusable
from widetrail.finding import Absent, Finder, Found
from widetrail.formats import canonical
from widetrail.machine import Machine
from widetrail.planning.chosen_places import is_taken
from widetrail.planning.licences import licence_steps
from widetrail.planning.needs import judge_needs, judge_side
from widetrail.planning.plan import (
    LeftItem,
    Plan,
    PlannedItem,
    PlannedStation,
    RejectedRoute,
)
from widetrail.planning.route_choice import Chosen, copies, passed_for_needs
from widetrail.planning.station_facts import UNSEEN, SeenSide, ToldSide
from widetrail.planning.unfolding import known_of, unfold_steps
from widetrail.recipe import Route, Station
from widetrail.recipe.licence_models import Licence
from widetrail.recipe.templates import literal
from widetrail.steps import Step, act_of
from widetrail.steps.retire import retire_step

_BACK = "Take the parcel back to the old computer and plan again, into another parcel."


def plan_rest(plan: Plan, machine: Machine, finders: Mapping[str, Finder], today: datetime) -> Plan:
    """Return ``plan`` with what is still to be done on new planned for new as it is now.

    ``machine`` is new, and ``finders`` are those of it, by the recipes' ids.

    Raises:
        ParcelUnusable: It has a step on new that none of its recipes has.
    """
    insist_of_recipes(plan, finders, "new", today)
    kept: list[PlannedItem] = []
    left = list(plan.left)
    going = {item.id for item in plan.items}
    steps = [step for step in plan.steps if step.item not in going]
    for item in plan.items:
        finder = finders[item.recipe]
        now = _now(plan, item, finder, today)
        if isinstance(now, RejectedRoute):
            losses = item.losses
            left.append(
                LeftItem(id=item.id, title=item.title, rejected=(now,), losses=losses, todo=_BACK)
            )
            steps.extend(
                s
                for s in plan.steps
                if s.item == item.id and s.station == "old" and not act_of(s).comes_last
            )
            continue
        kept.append(now)
        steps.extend(_steps(plan, now, finder, today))
    known = {step.id for step in steps}
    legs = tuple(
        leg.model_copy(update={"steps": tuple(s for s in leg.steps if s in known)})
        for leg in plan.legs
    )
    stations = (plan.station("old"), _seen(machine))
    update = {"items": tuple(kept), "left": tuple(left), "steps": tuple(steps), "legs": legs}
    return plan.model_copy(update={**update, "stations": stations})


def insist_of_recipes(
    plan: Plan, finders: Mapping[str, Finder], station: Station, today: datetime
) -> None:
    """Raise where a plan has a step at a station that none of its recipes unfolds to there.

    ``finders`` are those of the station's machine. Nothing of a step may be another but what comes
    before it: not its command, nor the paths it changes.

    Raises:
        ParcelUnusable: It has one, so somebody changed it.
    """
    known: dict[str, list[Step]] = {}
    for item in plan.items:
        finder = finders[item.recipe]
        if item.kind == "licence":
            unfolded = licence_steps(plan, item, finder.loaded)
        else:
            unfolded = [*_unfolded(item, finder, today), *_retiring(plan, item, finder)]
        for step in unfolded:
            known.setdefault(step.id, []).append(step)
    for step in plan.steps:
        mine = step.station == station and any(item.id == step.item for item in plan.items)
        if mine and _essence(step) not in map(_essence, known.get(step.id, ())):
            raise ParcelUnusable(
                "the plan has a step that no recipe of the parcel has",
                where=step.id,
                todo="Do not walk it. Plan and pack again.",
            )


def _essence(step: Step) -> str:
    """Return all of a step but what comes before it, as a text; a date is that of its planning."""
    seat = step.seat.model_copy(update={"stem": ""}) if step.seat is not None else None
    told = step.model_copy(update={"after": (), "seat": seat}).model_dump(mode="json")
    return _DATE.sub("date", canonical(told).decode())


_DATE = re.compile(r"\b[0-9]{4}-[0-9]{2}-[0-9]{2}\b")


def _retiring(plan: Plan, item: PlannedItem, finder: Finder) -> Iterator[Step]:
    """Give the steps by which an item may be retired on old: new may have had no name yet."""
    if finder.loaded.recipe.items[item.item].retire:
        for new in (plan.station("new").machine, UNSEEN):
            yield retire_step(item.id, literal(item.old_path), literal(new), ())


def _unfolded(item: PlannedItem, finder: Finder, today: datetime) -> list[Step]:
    chosen = Chosen(_route(item, finder), (), (), (), item.parts, ())
    return unfold_steps(item, finder.loaded, chosen, known_of(item, finder, chosen, today))


def _seen(machine: Machine) -> PlannedStation:
    return PlannedStation(
        station="new",
        machine=machine.name,
        identity=machine.identity,
        facts=dict(machine.facts()),
    )


def _now(
    plan: Plan, item: PlannedItem, finder: Finder, today: datetime
) -> PlannedItem | RejectedRoute:
    if item.kind == "licence":  # a seat may be released by now: what stands in its way is told
        return item
    rule = finder.loaded.recipe.items[item.item]
    route = _route(item, finder)
    old = _told_old(plan, item)
    needs = route.needs.model_copy(update={"old": None})
    judged = judge_needs(needs, old, SeenSide(finder), rule.from_, today)
    unmet = [j for j in judged if j.verdict == "unmet" and j.station == "new"]
    if unmet:
        return passed_for_needs(route.name, unmet)
    where = finder.place(rule.from_)
    if taken := is_taken(finder, rule.from_, where):
        return RejectedRoute(route=route.name, code="place", reason=f"{item.new_path}: {taken}")
    if item.instance and item.new_path:
        return item
    if not copies(route):
        if isinstance(where, Found | Absent) and not item.instance:
            return item.model_copy(update={"new_path": where.path, "new_how": str(where.how)})
        return item
    if item.instance or not isinstance(where, Found | Absent):
        return RejectedRoute(route=route.name, code="place", reason=str(where))
    return item.model_copy(update={"new_path": where.path, "new_how": str(where.how)})


def _told_old(plan: Plan, item: PlannedItem) -> ToldSide:
    station = plan.station("old")
    told = next(r for r in plan.recipes if r.id == item.recipe).old
    return ToldSide(station.machine, {**station.facts, **told})


def unmet_at(
    plan: Plan, item: PlannedItem, finder: Finder, station: Station, today: datetime
) -> list[str]:
    """Return the facts that an item's route needs of ``station`` and that are not so there now.

    ``finder`` is that of the station. Readings are left out: what was done so far changes them.
    """
    needs = getattr(_route(item, finder).needs, station)
    if needs is None:
        return []
    facts = needs.model_copy(update={"readings": {}, "path": None})
    judged = judge_side(station, facts, SeenSide(finder), _told_old(plan, item), "", today)
    return [str(j) for j in judged if j.verdict == "unmet"]


def _route(item: PlannedItem, finder: Finder) -> Route:
    rule = finder.loaded.recipe.listed[item.item]
    routes = rule.as_item().routes if isinstance(rule, Licence) else rule.routes
    return next(route for route in routes if route.name == item.route)


def _steps(plan: Plan, item: PlannedItem, finder: Finder, today: datetime) -> list[Step]:
    """Return an item's steps: those of new unfolded anew, the others as they were."""
    if item.kind == "licence":
        return [s for s in plan.steps if s.item == item.id]
    unfolded = {s.id: s for s in _unfolded(item, finder, today)}
    mine = [s for s in plan.steps if s.item == item.id]
    anew = [unfolded[s.id] if s.station == "new" else s for s in mine]
    return [
        new.model_copy(update={"after": old.after}) for old, new in zip(mine, anew, strict=True)
    ]
