"""The walks of a rehearsal: each with only its own machine in reach, and again where it stopped."""

from __future__ import annotations

import shutil
from collections.abc import Iterator, Sequence
from dataclasses import field
from datetime import datetime
from pathlib import Path

from widetrail.errors import WideTrailError
from widetrail.lazily import dataclass
from widetrail.machine import Effects
from widetrail.parcel import Parcel
from widetrail.planning import Plan
from widetrail.recipe import Station
from widetrail.recipe.decisions import Decisions
from widetrail.rehearsing.expectations import (
    MOST_TOLD,
    Difference,
)
from widetrail.rehearsing.fault_injection import Happening, Stopped
from widetrail.rehearsing.machine_copies import changes, contents
from widetrail.rehearsing.machines_in_reach import PARCEL, MachinesInReach
from widetrail.rehearsing.outcome_check import (
    troubles_of,
)
from widetrail.rehearsing.rehearsal_file import Change, RehearsalFile
from widetrail.rehearsing.stage import (
    RUN,
    change,
)
from widetrail.rehearsing.stage_hands import StageHands
from widetrail.steps import state_of
from widetrail.walking import (
    Company,
    Patience,
    Report,
    Run,
    Visit,
)

AGAIN = 4
"""How often a station is walked again after something stopped the walk there, at most."""


@dataclass
class Walked:
    """How the walks went: what went wrong beside the items, and the steps that did."""

    differences: list[Difference] = field(default_factory=list)
    troubles: dict[str, list[Difference]] = field(default_factory=dict)


class RehearsedWalks(MachinesInReach):
    """Walks on the copies of a rehearsal's machines, which are stopped as the rehearsal says."""

    _file: RehearsalFile
    _decisions: Decisions
    _station: Station
    _meddled: set[Station]
    _happening: Happening
    _hands: StageHands

    def _pull(self) -> None:
        (self._here / PARCEL).rename(self._away / PARCEL)

    def _meddle(self, changed: Change) -> None:
        self._meddled.add(self._station)
        change(self._open(self._station), changed, self._recipes)

    def _walk(self, parcel: Parcel, plan: Plan, now: datetime, walked: Walked) -> Parcel:
        """Walk every leg, each with only its own machine within reach, until nothing comes of it.

        The parcel that was walked last comes back: one that was detached lies on new.
        """
        station: Station | None = plan.legs[0].station
        reached: set[tuple[Station, frozenset[tuple[str, str]]]] = set()
        while station is not None:
            if station not in self._sides:
                missing = Difference("the trail", "a machine between", "none is named")
                walked.differences.append(missing)
                return parcel
            visit = self._visit(parcel, station, now, walked)
            parcel = visit.parcel
            told = parcel.outcomes.items()
            here = station, frozenset((s, state_of(o)) for s, o in told)
            station = visit.next_station() if here not in reached else None
            reached.add(here)
        walked.differences += [d for troubles in walked.troubles.values() for d in troubles]
        return parcel

    def _visit(self, parcel: Parcel, station: Station, now: datetime, walked: Walked) -> Visit:
        """Walk at a station, again where something stopped the walk and is over."""
        self._station = station
        for _ in range(AGAIN):
            visit = self._arrive(parcel, station)
            self._happening.new_walk()
            stopped = ""
            try:
                walked.troubles[station] = troubles_of(visit.walk(now))
                self._happening.ended()
            except Stopped:
                stopped = "killed"
            except WideTrailError as error:
                if self._happening.struck is None:
                    raise
                stopped = str(error)
            struck = self._happening.struck
            self._say_stopped(visit, stopped or struck is not None)
            if struck is not None and struck.by == "medium pulled":
                walked.differences.extend(self._put_back())
            if struck is None:
                return visit
            if struck.lasting:
                return visit if not stopped else self._arrive(visit.parcel, station)
            parcel = visit.parcel
        walked.differences.append(
            Difference(
                "the trail",
                "to continue once the cause is removed",
                f"it was stopped {AGAIN} times",
            )
        )
        return visit

    def _arrive(self, parcel: Parcel, station: Station) -> Visit:
        self._alone(station, parcel=parcel.folder == self._here / PARCEL)
        effects = Effects(self._happening.gate)
        machine = self._open(station, effects)
        seal, parcel = parcel.seal, Parcel(parcel.folder, effects)
        parcel.seal = seal if seal is not None and seal.is_open else parcel.seal
        patience = Patience(longest=self._file.longest)
        company = Company(self._hands, self._happening, patience, self._happening.instead)
        return Visit(parcel, machine, station=station, company=company, decisions=self._decisions)

    def _put_back(self) -> Iterator[Difference]:
        """Put the medium back that was pulled; nothing may have been written in its place."""
        here = self._here / PARCEL
        if here.exists():
            wrote = ", ".join(sorted(p.name for p in here.rglob("*"))[:MOST_TOLD])
            yield Difference("the medium", "nothing is written while it is disconnected", wrote)
            shutil.rmtree(here)
        (self._away / PARCEL).rename(here)

    def _undo(
        self, station: Station, before: dict[str, str], now: datetime, allowed: Sequence[Path]
    ) -> Iterator[Difference]:
        """Take back on a machine what was done; it must be as it was."""
        machine = self._alone(station)
        run = Run(machine, RUN, Company(self._hands))
        run.undo(now)
        if not run.unfinished:
            run.settle()
        wrong = [*run.went_wrong, *changes(before, contents(machine), allowed)]
        if wrong:
            yield Difference(f"{station}, undone", "as it was", ", ".join(wrong[:MOST_TOLD]))

    def _say_stopped(self, visit: Visit, struck: object) -> None:
        """Say which routes failed: a step of theirs went wrong, or was stopped."""
        outcomes = visit.parcel.outcomes
        bad = {s for s, outcome in outcomes.items() if not outcome.well}
        begun = [s.id for s in self._happening.begun]
        if struck and begun:
            bad.add(begun[-1])
        for step in visit.parcel.plan.steps:
            if step.id in bad:
                self._say(visit.parcel.plan, step.item, "failed")

    def _say_routes(self, plan: Plan, report: Report) -> None:
        for item in report.items:
            if item.state == "carried":
                self._say(plan, item.id, "arrived")

    def _say(self, plan: Plan, item: str, branch: str) -> None:
        planned = plan.item(item)
        loaded = next(one for one in self._recipes if one.id == planned.recipe)
        routes = loaded.recipe.listed[planned.item].routes
        route = next((r for r in routes if r.name == planned.route), None)
        if route is not None:
            self._decisions.keep(loaded, route, branch)
