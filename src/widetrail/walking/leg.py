"""The leg that is due at a station: found, judged before anything is done, then walked."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import datetime
from functools import partial
from typing import Any

from widetrail.errors import Halted, InputUnusable, Obstructed
from widetrail.finding import Absent, Finder, Found, How, Instance, Several, Where, card_facts
from widetrail.machine import Machine, medium_of
from widetrail.machine.paths import join
from widetrail.parcel import Parcel
from widetrail.parcel.cargo import CargoReader, CargoWriter
from widetrail.planning import Plan, PlannedItem, PlannedLeg, PlannedStation, make_plan, plan_rest
from widetrail.planning.room import full_volumes
from widetrail.recipe import Item, Loaded
from widetrail.steps import (
    ACTS,
    KINDS,
    TELLERS,
    Fact,
    Facts,
    Failed,
    Outcome,
    Packed,
    Packing,
    Step,
)
from widetrail.walking.journal import Journal

Progress = Callable[[Step, str], None]
"""Told of each step as it begins, with its words."""


@dataclass(frozen=True, slots=True)
class StepDone:
    """One step with its words and its outcome."""

    step: Step
    words: str
    outcome: Outcome


@dataclass(frozen=True, slots=True)
class LegDone:
    """A leg that ended: its steps' outcomes, and the station that is due next, if any."""

    leg: PlannedLeg
    machine: str
    steps: tuple[StepDone, ...]
    next_machine: str
    again: bool = False

    @property
    def failed(self) -> tuple[StepDone, ...]:
        """The steps that came out wrong."""
        return tuple(s for s in self.steps if isinstance(s.outcome, Failed))


class Visit:
    """A visit of a parcel to a machine: which leg is due there, and doing it."""

    def __init__(self, parcel: Parcel, machine: Machine, *, as_new: bool = False) -> None:
        """Find the station that ``machine`` is in the parcel's plan.

        ``as_new`` says that it is new, where the plan was made without having seen new.

        Raises:
            InputUnusable: The plan knows no such machine, or whether it is new must be said.
            ParcelUnusable: The recipes that travel along were touched.
        """
        self.parcel, self.machine = parcel, machine
        self._cargo_sound = False
        self.station = self._own_station(as_new)
        self.workroom = join(machine.root("state"), "widetrail", parcel.run)
        host = machine.host(join(self.workroom, "journal"))
        self.journal = Journal(host, join(self.workroom, "journal"), machine.effects)
        recipes = {loaded.id: loaded for loaded in parcel.recipes(KINDS)}
        self._recipes: dict[str, Loaded] = _used_first(recipes)
        done = len(parcel.legs_done)
        legs = parcel.plan.legs
        self.due = legs[done] if done < len(legs) else None
        mine = [leg for leg in legs[:done] if leg.station == self.station.station]
        self.done_here = mine[-1] if mine else None

    def _own_station(self, as_new: bool) -> PlannedStation:
        plan = self.parcel.plan
        for station in plan.stations:
            if station.identity == self.machine.identity:
                return station
        new = plan.station("new")
        if not new.identity and as_new:
            return new
        if not new.identity:
            raise InputUnusable(
                f"whether {self.machine.name} is the new machine must be said",
                where=str(self.parcel.folder),
                why="the plan was made before new was seen",
                todo="If it is, walk with --as new.",
            )
        known = " and ".join(f"{s.machine} ({s.station})" for s in plan.stations)
        raise InputUnusable(
            f"{self.machine.name} is not a machine of this plan",
            where=str(self.parcel.folder),
            why=f"the plan is for {known}",
            todo="Walk on one of those, or plan for this machine.",
        )

    @property
    def due_here(self) -> bool:
        """Whether the leg that is due is one of this machine."""
        return self.due is not None and self.due.station == self.station.station

    def words(self) -> tuple[tuple[Step, str], ...]:
        """Return the steps of the due leg with their words."""
        if self.due is None:
            return ()
        return tuple((s, TELLERS[s.kind].words(s)) for s in self.parcel.plan.steps_of(self.due))

    def after_done(self) -> LegDone:
        """Return what a second walk of a finished leg tells: nothing is changed.

        Raises:
            Halted: The leg that is due belongs to another machine and none was done here yet.
        """
        if self.parcel.torn is not None:
            self.parcel.check_cargo(begun=False)
        if self.done_here is None:
            assert self.due is not None
            machine = self.parcel.plan.station(self.due.station).machine
            raise Halted(
                f"the leg that is due is not one of {self.machine.name}",
                why=f"leg {self.due.number} is walked on {machine}",
                todo=f"Carry the parcel to {machine} and walk there.",
            )
        return LegDone(self.done_here, self.machine.name, (), self._next_machine(), again=True)

    def _next_machine(self) -> str:
        done = len(self.parcel.legs_done)
        legs = self.parcel.plan.legs
        if done >= len(legs):
            return ""
        return self.parcel.plan.station(legs[done].station).machine

    def planned_anew(self, now: datetime) -> Plan | None:
        """Plan the rest again before the due leg begins; return the plan if it is another one.

        On old, before anything was packed, all is planned again: the parcel holds new's card, the
        recipes and what was chosen. On new, what was packed stays, and what is to be done with it
        is planned for new as it is. What differs in sizes alone is no other plan.

        Raises:
            Obstructed: Something stands in the way of any plan now.
        """
        assert self.due is not None
        if self.journal.has("leg begun", leg=self.due.number):
            return None
        if self.station.station == "new":
            plan = plan_rest(
                self.parcel.plan, self.machine, _finders(self.machine, self._recipes), now
            )
        elif not self.parcel.legs_done:
            plan = self._plan_again(now)
        else:
            return None
        return None if plan.essence == self.parcel.plan.essence else plan

    def _plan_again(self, now: datetime) -> Plan:
        card = self.parcel.card()
        new = card_facts(card, str(self.parcel.folder)) if card is not None else None
        recipes = list(self._recipes.values())
        medium, choices = medium_of(self.parcel.folder), self.parcel.choices
        plan = make_plan(recipes, self.machine, new, medium, now, choices)
        told = self.parcel.plan.station("new")
        return plan.model_copy(update={"stations": (plan.station("old"), told)})

    def look_ahead(self) -> _Doing:
        """Check all that can be checked before the due leg changes anything.

        Raises:
            Obstructed: Something stands in the way; every obstacle is named.
            ParcelUnusable: The cargo was touched.
        """
        assert self.due is not None
        if not self._cargo_sound:  # each file is judged again as it is unpacked
            self.parcel.check_cargo(begun=self.journal.has("leg begun", leg=self.due.number))
            self._cargo_sound = True
        doing = _Doing(self)
        obstacles: list[Halted] = []
        for check in (
            self._can_walk,
            doing.facts_hold,
            doing.places_hold,
            doing.all_closed,
            doing.has_room,
        ):
            try:
                check()
            except Obstructed as error:
                obstacles.extend(error.obstacles)
            except Halted as error:
                obstacles.append(error)
        if obstacles:
            what = f"leg {self.due.number} cannot begin on {self.machine.name}"
            raise Obstructed(what, obstacles)
        return doing

    def _can_walk(self) -> None:
        """Raise where a step of the leg is of a kind that is planned but not walked yet."""
        assert self.due is not None
        steps = self.parcel.plan.steps_of(self.due)
        forms = {s.text("existing") for s in steps if s.kind == "publish"} - {"put aside", "stop"}
        kinds = sorted({s.kind for s in steps if s.kind not in ACTS}) + sorted(forms)
        if kinds:
            raise Halted(
                f"this version does not walk: {', '.join(kinds)}",
                why="it plans them, so that the recipe can be read and judged",
                todo="Leave these items out (--without) and do them by hand, as the plan tells.",
            )

    def walk(self, now: datetime, progress: Progress = lambda step, words: None) -> LegDone:
        """Do the due leg: every step in order, the logbook at the end.

        A step that fails leaves what it moves whole; steps that come after it are not done. When
        something halts the leg, a second walk begins it again.

        Raises:
            WideTrailError: As ``look_ahead``, or something halted the leg.
        """
        assert self.due is not None
        leg, effects = self.due, self.machine.effects
        doing = self.look_ahead()
        effects.make_folders(self.machine.host(self.workroom))
        self.journal.add({"event": "leg begun", "leg": leg.number, "plan": self.parcel.plan.id})
        self.parcel.begin_leg()
        steps: list[StepDone] = []
        broken: set[str] = set()
        with doing.cargo_of_leg():
            for step, words in self.words():
                if broken & set(step.after):
                    broken.add(step.id)
                    continue
                progress(step, words)
                outcome = ACTS[step.kind].do(step, doing)
                steps.append(StepDone(step, words, outcome))
                if isinstance(outcome, Failed):
                    broken.add(step.id)
        self._end(leg, steps, doing, now)
        return LegDone(leg, self.machine.name, tuple(steps), self._next_machine())

    def _end(self, leg: PlannedLeg, steps: list[StepDone], doing: _Doing, now: datetime) -> None:
        facts = {
            "leg": leg.number,
            "station": leg.station,
            "machine": self.machine.name,
            "time": now.isoformat(timespec="seconds"),
            "verified": leg.station == "new",
            "steps": {s.step.id: _outcome(s.outcome) for s in steps},
        }
        self.parcel.end_leg(facts, now, doing.writer)
        self.journal.add({"event": "leg done", "leg": leg.number})


def _finders(machine: Machine, recipes: Mapping[str, Loaded]) -> dict[str, Finder]:
    """Return a finder for each recipe; ``recipes`` has those that are used first."""
    finders: dict[str, Finder] = {}
    for name, loaded in recipes.items():
        finders[name] = Finder(machine, loaded, lenders=finders)
    return finders


def _used_first(recipes: dict[str, Loaded]) -> dict[str, Loaded]:
    """Return the recipes so that each comes after those it uses; a plan has no circle."""
    ordered: dict[str, Loaded] = {}

    def put(loaded: Loaded) -> None:
        for used in sorted(loaded.recipe.uses.keys() & recipes.keys()):
            if used not in ordered:
                put(recipes[used])
        ordered[loaded.id] = loaded

    for name in sorted(recipes):
        put(recipes[name])
    return ordered


def _outcome(outcome: Outcome) -> dict[str, Any]:
    if isinstance(outcome, Failed):
        return {"failed": outcome.reason, "todo": outcome.todo, "facts": outcome.facts}
    return {"facts": outcome.facts}


class _Doing:
    """What the steps of a leg may use; see ``steps.Doing``."""

    def __init__(self, visit: Visit) -> None:
        self._visit = visit
        self.machine, self.workroom = visit.machine, visit.workroom
        self._plan = visit.parcel.plan
        self._finders = _finders(visit.machine, visit._recipes)
        self.writer: CargoWriter | None = None
        self._reader: CargoReader | None = None

    def cargo_of_leg(self) -> _CargoOfLeg:
        """Open the cargo for the leg: to be packed on old, to be read on new."""
        return _CargoOfLeg(self)

    def open_cargo(self) -> None:
        """Open what the leg's station needs of the cargo."""
        if self._visit.station.station == "old":
            self.writer = self._visit.parcel.writer()
        else:
            self._reader = self._visit.parcel.reader(self.machine.platform)

    @property
    def packing(self) -> Packing:
        assert self.writer is not None, "cargo is packed on old"
        return self.writer

    @property
    def packed(self) -> Packed:
        assert self._reader is not None, "cargo is read on new"
        return self._reader

    def finder(self, item: str) -> Finder:
        planned = self._planned(item)
        finder = self._finders[planned.recipe]
        if not planned.instance:
            return finder
        old = self._visit.station.station == "old"
        name = planned.instance if old else planned.new_instance
        meant = Instance(self.pinned(item), name, None, How("each"))
        return finder.within(self._from(planned), meant)

    def _planned(self, item: str) -> PlannedItem:
        return self._plan.item(item)

    def item(self, item: str) -> Item:
        planned = self._planned(item)
        return self._visit._recipes[planned.recipe].recipe.items[planned.item]

    def carved(self, item: str) -> tuple[str, ...]:
        return self._planned(item).carved

    def pinned(self, item: str) -> str:
        planned = self._planned(item)
        if self._visit.station.station == "old":
            return planned.old_path
        return planned.new_path

    def noted(self, item: str) -> Facts:
        for generation in self._visit.parcel.legs_done:
            step = generation.body["steps"].get(f"{item}/note")
            if step is not None:
                return dict(step["facts"])
        return {}

    def recorded(self, event: str, item: str) -> Facts | None:
        for record in self._visit.journal.records:
            if record["event"] == event and record.get("item") == item:
                return dict(record["facts"])
        return None

    def record(self, event: str, **facts: Fact) -> None:
        self._visit.journal.add({"event": event, **facts})

    def insist_closed(self, item: str) -> None:
        self._closed(self.finder(item))

    def _closed(self, finder: Finder) -> None:
        name, machine = finder.loaded.recipe.application.name, self.machine
        signs = [f"{path} is there" for path in finder.locks()]
        for program in finder.programs().values():
            signs += [f"{program}: {line}" for line in machine.running(program)]
        if signs:
            raise Halted(
                f"{name} is open on {machine.name}",
                why="; ".join(signs),
                todo=f"Close {name} (if it ended badly, open and close it once), then walk again.",
            )

    def all_closed(self) -> None:
        """Raise where the program of any item is open."""
        _all([partial(self._closed, finder) for finder in self._finders.values()])

    def facts_hold(self) -> None:
        """Raise where the machine is no longer the one the plan was made for."""
        planned = self._visit.station.facts
        for name, value in self.machine.facts().items():
            if planned and planned.get(name) != value:
                raise self._changed(f"its {name} is {value}", f"{planned.get(name)} was planned")
        moved = {item.recipe for item in self._plan.items}
        for finder in (f for name, f in self._finders.items() if name in moved):
            if finder.installation is None:
                name = finder.loaded.recipe.application.name
                raise self._changed(f"{name} is not there", "it was when the plan was made")

    def places_hold(self) -> None:
        """Raise where an item's place is no longer where it was planned."""
        for item in self._plan.items:
            where = self._finders[item.recipe].place(self._from(item))
            if isinstance(where, Several) or item.instance:
                self._instance_holds(item, where)
                continue
            wanted = self.pinned(item.id)
            there = where.path if isinstance(where, Found | Absent) else ""
            gone = self._visit.station.station == "old" and isinstance(where, Absent)
            if there != wanted or gone:
                now = f"now at {there}" if isinstance(where, Found) else str(where)
                raise self._changed(f"{item.id} is not at {wanted}", now)

    def _instance_holds(self, item: PlannedItem, where: Where) -> None:
        if self._visit.station.station != "old":
            return
        listed = where.instances if isinstance(where, Several) else ()
        if item.old_path not in [instance.path for instance in listed]:
            raise self._changed(f"{item.id} is not at {item.old_path}", str(where))

    def _from(self, item: PlannedItem) -> str:
        return self._visit._recipes[item.recipe].recipe.items[item.item].from_

    def _changed(self, what: str, why: str) -> Halted:
        return Halted(
            f"{self.machine.name} is not as it was planned: {what}",
            why=why,
            todo="Plan again, into another parcel.",
        )

    def has_room(self) -> None:
        """Raise where a volume of new has too little room for what is staged on it."""
        if self._visit.station.station == "old":
            return
        amounts = [(self.pinned(item.id), item.size) for item in self._plan.items]
        full = full_volumes(self.machine, amounts, "Make room there, then walk again.")
        if full:
            raise Obstructed("not everything has room", full)


class _CargoOfLeg:
    """Opens the cargo for a leg and closes it whatever happens."""

    def __init__(self, doing: _Doing) -> None:
        self._doing = doing

    def __enter__(self) -> None:
        self._doing.open_cargo()

    def __exit__(self, *error: object) -> None:
        writer = self._doing.writer
        if writer is not None:
            if error[0] is None:
                writer.finish()
            writer.__exit__(None, None, None)


def _all(checks: list[Callable[[], None]]) -> None:
    found = []
    for check in checks:
        try:
            check()
        except Halted as error:
            found.append(error)
    if found:
        raise Obstructed("not everything is closed", found)
