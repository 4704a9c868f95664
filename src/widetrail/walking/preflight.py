"""What is looked at before a leg changes anything: facts, places, programs that are open, room."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from datetime import datetime

from widetrail.errors import Halted, InputUnusable, Obstructed
from widetrail.finding import Absent, Finder, Found, Several, Where
from widetrail.machine import Machine
from widetrail.planning import Plan, PlannedItem, PlannedStation, full_volumes, unmet_at
from widetrail.recipe import Station
from widetrail.steps import Step, act_of
from widetrail.walking.item_context import open_signs
from widetrail.walking.step_context import WalkDoing


class Look:
    """One look at a station, for the steps that are to be done there now."""

    def __init__(self, doing: WalkDoing, station: PlannedStation, steps: Iterable[Step]) -> None:
        self._doing, self._station, self._steps = doing, station, tuple(steps)
        self._machine: Machine = doing.machine
        self._plan: Plan = doing.plan
        going = {step.item for step in self._steps}
        self._items = [item for item in self._plan.items if item.id in going]

    def insist(self, *, begun: bool) -> None:
        """Raise where the machine is no longer the one the plan was made for.

        Once something was ``begun`` here, what was done changes facts, but no place moves.

        Raises:
            Obstructed: Something stands in the way; every obstacle is named.
        """
        self._begun = begun
        checks: list[Callable[[], None]] = [self._places_hold]
        if not begun:
            checks.insert(0, self._facts_hold)
        obstacles: list[Halted] = []
        for check in checks:
            try:
                check()
            except Halted as error:
                obstacles.append(error)
        if obstacles:
            raise Obstructed(f"the leg cannot begin on {self._machine.name}", obstacles)

    def _facts_hold(self) -> None:
        planned = self._station.facts
        for name, value in self._machine.facts().items():
            if planned and planned.get(name) != value:
                raise self._changed(f"its {name} is {value}", f"{planned.get(name)} was planned")
        for finder in self._finders():
            if self._station.station == "between":
                self._errand_can_be_run(finder)
            elif finder.installation is None and self._is_needed(finder.loaded.id):
                name = finder.loaded.recipe.application.name
                raise self._changed(f"{name} is not there", "it was when the plan was made")

    def _is_needed(self, recipe: str) -> bool:
        """Return whether an application was to be here; on new a route may say otherwise."""
        items = [item.id for item in self._items if item.recipe == recipe]
        needs = [self._doing.route(item).needs.new for item in items]
        said = all(need is not None and need.installed is not None for need in needs)
        return self._station.station == "old" or not said

    def _errand_can_be_run(self, finder: Finder) -> None:
        """Raise where a program that a step starts is not on a machine between."""
        for step in self._steps:
            command = step.main_command
            path = finder.programs().get(command[0]) if command else None
            mine = step.item.startswith(f"{finder.loaded.id}.")
            if command and mine and (path is None or self._machine.look(path) is None):
                name = finder.loaded.recipe.application.name
                raise Halted(
                    f"{self._machine.name} cannot run the errand of {name}",
                    why=f"{command[0]} is not installed there",
                    todo="Install it, or walk on another machine with a network.",
                    codes=["installed"],
                )

    def _finders(self) -> list[Finder]:
        return [self._doing.finders[name] for name in sorted({i.recipe for i in self._items})]

    def _places_hold(self) -> None:
        if self._station.station == "between":
            return
        for item in (i for i in self._items if i.kind != "licence" and i.old_path):
            where = self._doing.finders[item.recipe].place(self._doing.item(item.id).from_)
            if isinstance(where, Several) or item.instance:
                self._instance_holds(item, where)
                continue
            wanted = self._doing.pinned(item.id)
            if not wanted:  # its program finds it itself, and it was not seen when it was planned
                continue
            there = where.path if isinstance(where, Found | Absent) else ""
            gone = self._station.station == "old" and isinstance(where, Absent) and not self._begun
            if there != wanted or gone:
                now = f"now at {there}" if isinstance(where, Found) else str(where)
                raise self._changed(f"{item.id} is not at {wanted}", now)

    def _instance_holds(self, item: PlannedItem, where: Where) -> None:
        if self._station.station != "old" or self._begun:
            return
        listed = where.instances if isinstance(where, Several) else ()
        if item.old_path not in [instance.path for instance in listed]:
            raise self._changed(f"{item.id} is not at {item.old_path}", str(where))

    def _changed(self, what: str, why: str) -> Halted:
        return Halted(
            f"{self._machine.name} is not as it was planned: {what}",
            why=why,
            todo="Plan again, into another parcel.",
            codes=["changed"],
        )

    def unfit(self, now: datetime) -> Mapping[str, str]:
        """Return the items whose route cannot be gone on with at this station, and why."""
        reasons = {}
        for item in self._items:
            finder = self._doing.finders[item.recipe]
            unmet = unmet_at(self._plan, item, finder, self._station.station, now)
            if unmet:
                reasons[item.id] = "; ".join(unmet)
        return reasons

    def lacking(self) -> str:
        """Return what must be waited for before the first step: what is open, what is too full."""
        going = {step.item for step in self._steps if act_of(step).needs_closed}
        told = []
        for recipe in sorted({item.recipe for item in self._items if item.id in going}):
            finder = self._doing.finders[recipe].fresh()
            if signs := open_signs(finder):
                name = finder.loaded.recipe.application.name
                told.append(f"{name} is open on {self._machine.name}: {signs}")
        coming = {step.item for step in self._steps if act_of(step).places}
        files = [item for item in self._items if item.id in coming and not item.store]
        amounts = [(self._doing.pinned(i.id), i.size) for i in files]
        full = full_volumes(self._machine, amounts, "")
        return "; ".join([*told, *(f"{error.what} ({error.why})" for error in full)])


def station_of(plan: Plan, machine: Machine, station: Station | None, where: str) -> PlannedStation:
    """Return the station of ``plan`` that ``machine`` is; ``station`` is what a person says it is.

    Raises:
        InputUnusable: The plan knows no such machine, or what it is must be said.
    """
    own = next((s for s in plan.stations if s.identity == machine.identity), None)
    if own is not None and station in (None, own.station):
        return own
    if own is not None:
        what = f"{machine.name} is the {own.station} machine of this plan, not the one {station}"
        raise InputUnusable(what, where=where, todo="Leave --as out, or walk on the right machine.")
    new = plan.station("new")
    if station == "new" and not new.identity:
        return new
    if station == "between" and any(leg.station == "between" for leg in plan.legs):
        return plan.station("between").model_copy(
            update={"machine": machine.name, "identity": machine.identity}
        )
    if not new.identity and station is None:
        raise InputUnusable(
            f"it is not known whether {machine.name} is the new computer",
            where=where,
            why="the plan was made before the new computer was seen",
            todo="If it is, walk with --as new.",
        )
    known = " and ".join(f"{s.machine} ({s.station})" for s in plan.stations)
    raise InputUnusable(
        f"{machine.name} is not a machine of this plan",
        where=where,
        why=f"the plan is for {known}",
        todo="Walk on one of those, or plan for this machine.",
    )
