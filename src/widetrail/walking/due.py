"""What is due of a move, and where."""

from __future__ import annotations

from widetrail.machine import Machine
from widetrail.parcel import Parcel
from widetrail.planning import (
    PlannedLeg,
    PlannedStation,
)
from widetrail.recipe import Station
from widetrail.steps import (
    Step,
    act_of,
)


class Due:
    """What of a plan is due at a station, as the logbook tells."""

    parcel: Parcel
    machine: Machine
    station: PlannedStation

    @property
    def count_done(self) -> int:
        return len(self.parcel.legs_done)

    @property
    def due(self) -> PlannedLeg | None:
        """The leg that is due, wherever that is."""
        legs = self.parcel.plan.legs
        return legs[self.count_done] if self.count_done < len(legs) else None

    @property
    def done_here(self) -> PlannedLeg | None:
        """The last leg that was done at this station."""
        legs = self.parcel.plan.legs[: self.count_done]
        return next((leg for leg in reversed(legs) if leg.station == self.station.station), None)

    @property
    def due_here(self) -> bool:
        """Whether there is something to do on this machine now."""
        return bool(self.steps()) or self.leg_due_here

    @property
    def leg_due_here(self) -> bool:
        return self.due is not None and self.due.station == self.station.station

    @property
    def title(self) -> str:
        """What a walk here would be called: the due leg, or mending one that was done."""
        if self.leg_due_here and self.due is not None:
            return f"Leg {self.due.number} on {self.machine.name}"
        mended = self.done_here.number if self.done_here is not None else 0
        return f"Repairing leg {mended} on {self.machine.name}"

    def steps(self) -> tuple[Step, ...]:
        """Return the steps that are to be done here now: of the due leg, and what is to be mended.

        What came out wrong in an earlier leg, or could not be done then, is tried again.
        """
        legs = self.parcel.plan.legs
        reached = [*legs[: self.count_done], *([self.due] if self.leg_due_here else [])]
        mine = [leg for leg in reached if leg and leg.station == self.station.station]
        wanted = [s for leg in mine for s in self.parcel.plan.steps_of(leg)]
        outcomes = self.parcel.outcomes
        well = {step for step, outcome in outcomes.items() if outcome.well}
        ready: list[Step] = []
        for step in wanted:
            if step.id in well:
                if self.must_be_done_again(step, well):
                    ready.append(step)
                continue
            known = well | {s.id for s in ready}
            in_due = self.due is not None and self.leg_due_here and step.id in self.due.steps
            if in_due or set(step.after) <= known:
                ready.append(step)
        return tuple(ready)

    def must_be_done_again(self, step: Step, well: set[str]) -> bool:
        """Return whether a step that came out well must be done again for one that did not yet.

        That is so where a program told a secret, which is kept nowhere, or began something that is
        ended with the leg.
        """
        mine = self.parcel.plan.steps
        later = mine[mine.index(step) + 1 :]
        here = [s for s in later if s.item == step.item and s.station == step.station]
        here = [s for s in here if s.id not in well]
        act = act_of(step)
        told = any(s.named(f"{{{name}}}") for name in act.told_secrets(step) for s in here)
        return told or bool(act.final_command(step) and here)

    def next_machine(self) -> str:
        """Return the machine where something is to be done next, or an empty text."""
        station = self.next_station()
        return self.parcel.plan.station(station).machine if station is not None else ""

    def next_station(self) -> Station | None:
        """Return the station where something is to be done next; ``None`` at the end.

        That is where the due leg is walked, unless nothing of it can be done before something else
        is mended or done.
        """
        plan, outcomes = self.parcel.plan, self.parcel.outcomes
        well = {step for step, outcome in outcomes.items() if outcome.well}
        due = set(self.due.steps) if self.due is not None else set()
        open_ = [s for s in plan.steps if s.id not in well]
        free = [s for s in open_ if set(s.after) <= well]
        if self.due is not None and (not free or not due or any(s.id in due for s in free)):
            return self.due.station
        untried = [
            s for s in free if self.due is not None or s.id not in outcomes or s.seat is not None
        ]
        return untried[0].station if untried else None

    def next_as(self) -> str:
        """Return the option by which a walk is told which station the next machine is, where the
        plan does not know that machine; else an empty text."""
        return self.parcel.plan.said_as(self.next_station())
