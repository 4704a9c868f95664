"""Topping up: packing what was changed, added and deleted on old since its leg was done."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime

from widetrail.errors import Halted
from widetrail.parcel.events import TOPPED_UP
from widetrail.steps import Done, Step, act_of
from widetrail.steps.journal_events import ToBeDoneAgain
from widetrail.walking.leg import Visit
from widetrail.walking.leg_done import LegDone, StepDone
from widetrail.walking.leg_walk import MISSING, Walk
from widetrail.walking.preflight import Look
from widetrail.walking.walk_events import LegWasDone, LegWasMended, ToppedUp


def can_top_up(visit: Visit) -> bool:
    """Return whether what changed on the machine can still be packed: no later leg was begun."""
    legs = visit.parcel.legs_done
    mine = visit.station.station == "old" and all(g.body.station == "old" for g in legs)
    return bool(legs) and mine and visit.due is not None


def steps_to_top_up(visit: Visit) -> tuple[Step, ...]:
    """Return the steps that are done again to pack what changed since."""
    return tuple(s for steps in _steps(visit).values() if not _is_fixed(steps) for s in steps)


def not_topped_up(visit: Visit) -> tuple[str, ...]:
    """Return the titles of the items whose way out cannot be gone again."""
    fixed = [item for item, steps in _steps(visit).items() if _is_fixed(steps)]
    return tuple(item.title for item in visit.parcel.plan.items if item.id in fixed)


def _steps(visit: Visit) -> dict[str, list[Step]]:
    """Return by item the steps that were done here, of the items that are in the cargo."""
    outcomes, found = visit.parcel.outcomes, dict[str, list[Step]]()
    for leg in visit.parcel.plan.legs[: visit.count_done]:
        for step in visit.parcel.plan.steps_of(leg):
            if step.station == "old" and outcomes.get(step.id, MISSING).well:
                found.setdefault(step.item, []).append(step)
    return {i: s for i, s in found.items() if any(act_of(x).packs or x.writes for x in s)}


def _is_fixed(steps: list[Step]) -> bool:
    return not all(s.repeat == "safe" for s in steps)


def top_up(visit: Visit, now: datetime) -> LegDone:
    """Pack what was changed, added and deleted since the old machine's leg was done.

    Where an item cannot be packed again, the cargo holds of it what it held before, and
    ``troubles`` of what is returned says why.

    Raises:
        Halted: It is too late, or not the machine for it.
        WideTrailError: As ``Visit.look_ahead``.
    """
    if not can_top_up(visit):
        raise Halted(
            f"the parcel cannot be topped up on {visit.machine.name}",
            why="only the old computer can be topped up, after its leg and before the next one",
            todo="Walk the leg that is due, or plan again into another parcel.",
        )
    visit.insist_going(now)
    visit.check_cargo(begun=_is_begun(visit))
    visit.unseal()
    doing, steps = visit.make_doing(now), steps_to_top_up(visit)
    look = Look(doing, visit.station, steps)
    doing.await_(look.lacking, "Close what is open, then walk again.")
    doing.asked_before(steps)
    return _TopUp(visit, doing, {}, now).do(steps)


def _is_begun(visit: Visit) -> bool:
    """Return whether topping up was begun here and cut off."""
    told = (ToBeDoneAgain, LegWasDone, LegWasMended, ToppedUp)
    last = next((r for r in reversed(visit.journal.records) if isinstance(r, told)), None)
    return isinstance(last, ToBeDoneAgain)


class _TopUp(Walk):
    """Packing again what changed; an item that cannot be stays as it was packed before."""

    def _alone(self, steps: tuple[Step, ...]) -> LegDone:
        assert self._leg is not None
        doing, visit, journal = self._doing, self._visit, self._journal
        parcel = visit.parcel
        for step in steps:  # also what a walk that was cut off did: the person worked on since
            journal.add(ToBeDoneAgain(step=step.id))
        parcel.begin_leg()
        parcel.begin_top_up(self._now)
        for step in steps:
            self._outcomes.pop(step.id, None)
        with doing.cargo():
            try:
                done = list(self._each(steps))
            finally:
                troubles = doing.end()
            failed = self._take_back(done, troubles)
            assert doing.writer is not None
            changes = {s.item: doing.writer.changes(s.item) for s in steps if act_of(s).packs}
        well = {s.step.id: self._written[s.step.id] for s in done if s.step.item not in failed}
        made = {name: sha for name, sha in doing.made.items() if doing.item_of(name) not in failed}
        entry = visit.entry(TOPPED_UP, self._now).with_(leg=self._leg.number, steps=well)
        parcel.end_leg(entry, self._now, doing.writer, made, doing.secrets_by_scope)
        journal.add(ToppedUp(generation=parcel.newest))
        doing.tidy()
        return LegDone(
            self._leg,
            doing.machine.name,
            tuple(done),
            visit.next_machine(),
            tuple(troubles),
            topped_up=changes,
            next_station=visit.next_station(),
        )

    def _take_back(self, done: list[StepDone], troubles: list[str]) -> Mapping[str, str]:
        """Have the cargo hold what it held of the items that came out wrong; return them."""
        assert self._doing.writer is not None
        failed = {s.step.item: s.outcome.reason for s in done if not isinstance(s.outcome, Done)}
        for item, reason in failed.items():
            self._doing.writer.take_back(item)
            troubles.append(f"{item} stays as it was packed before: {reason}")
        return failed
