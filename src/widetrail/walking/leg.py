"""The leg that is due at a station: found, judged before anything is done, then walked."""

from __future__ import annotations

from datetime import datetime

from widetrail.errors import (
    Halted,
    ParcelUnusable,
    Waiting,
)
from widetrail.finding import card_facts
from widetrail.machine import Machine, medium_of
from widetrail.machine.own_folders import own_on
from widetrail.machine.paths import join
from widetrail.parcel import Parcel
from widetrail.parcel.events import LEG_MENDED
from widetrail.planning import Plan, insist_of_recipes, make_plan, plan_rest
from widetrail.recipe import Loaded, Station
from widetrail.recipe.decisions import Decisions
from widetrail.steps import (
    KINDS,
    act_of,
)
from widetrail.walking.journal import RunJournal
from widetrail.walking.leg_done import LegDone
from widetrail.walking.leg_walk import Walk
from widetrail.walking.preflight import Look, station_of
from widetrail.walking.proofs import look_at_proofs, newly_proved
from widetrail.walking.recipe_finders import used_first
from widetrail.walking.reuse import Reuse
from widetrail.walking.separate_consent import Apart, apart
from widetrail.walking.step_context import WalkDoing
from widetrail.walking.walk_context import Company
from widetrail.walking.walk_events import LegBegun, read_record


class Visit(Reuse):
    """A visit of a parcel to a machine: what is due there, and doing it."""

    def __init__(
        self,
        parcel: Parcel,
        machine: Machine,
        *,
        station: Station | None = None,
        company: Company | None = None,
        decisions: Decisions | None = None,
    ) -> None:
        """Find the station that ``machine`` is in the parcel's plan.

        ``station`` says what it is, where the plan was made without having seen it. ``decisions``
        keeps what is decided by the rules of the recipes.

        Raises:
            InputUnusable: The plan knows no such machine, or what it is must be said.
            ParcelUnusable: The recipes that travel along were touched.
        """
        self.parcel, self.machine = parcel, machine
        self.company = company or Company()
        self.decisions = decisions
        self._cargo_sound = False
        self.on_arrival: tuple[int, int] | None = None
        """Files of the parcel that were read when it came here, and their bytes."""
        self.damaged: tuple[str, ...] = ()
        """Derived files of the parcel that were missing or damaged when it came here."""
        self.station = station_of(parcel.plan, machine, station, str(parcel.folder))
        self.workroom = join(own_on(machine), parcel.run)
        host = machine.host(join(self.workroom, "journal"))
        self.journal = RunJournal(
            host, join(self.workroom, "journal"), machine.effects, read_record
        )
        self._insist_newest()
        recipes = {loaded.id: loaded for loaded in parcel.recipes(KINDS)}
        self._recipes: dict[str, Loaded] = used_first(recipes)
        for item in parcel.plan.items:
            known = recipes[item.recipe].recipe if item.recipe in recipes else None
            listed = known.known_as_item(item.item) if known is not None else None
            routes = [route.name for route in listed.routes] if listed is not None else []
            if listed is None or item.kind != listed.kind or item.route not in routes:
                raise ParcelUnusable(
                    "the plan does not match its recipes",
                    where=str(parcel.folder),
                    why=f"no recipe has {item.id} as it is planned",
                    todo="Plan again.",
                )

    # What is due

    def after_done(self, now: datetime) -> LegDone:
        """Return what a second walk of a finished leg tells: nothing is changed.

        Only where a remedy is seen to be done that was not before, that is written down.

        Raises:
            Halted: The leg that is due belongs to another machine and none was done here yet.
        """
        self._insist_not_undone(now)
        if self.parcel.torn is not None:
            self.parcel.check_cargo(begun=False)
        if self.done_here is None:
            if self.due is None:
                raise ParcelUnusable("the plan has no legs", where=str(self.parcel.folder))
            machine = self.parcel.plan.station(self.due.station).machine
            raise Halted(
                f"the leg that is due is not one of {self.machine.name}",
                why=f"leg {self.due.number} is walked on {machine}",
                todo=f"Take the parcel to {machine} and walk there.",
            )
        self.parcel.mend_bag(now)
        doing = self.make_doing(now)
        doing.tidy()
        proofs = look_at_proofs(doing)
        proved = newly_proved(doing, proofs)
        if proved:
            self.parcel.check_cargo(begun=False)
            self.parcel.begin_leg()
            entry = self.entry(LEG_MENDED, now).with_(steps={}, proofs=proofs)
            self.parcel.end_leg(entry, now, None, {})
        return LegDone(
            self.done_here,
            self.machine.name,
            (),
            self.next_machine(),
            proved=proved,
            again=True,
            next_station=self.next_station(),
            next_as=self.next_as(),
        )

    # Before it begins

    def planned_anew(self, now: datetime) -> Plan | None:
        """Plan the rest again before the due leg begins; return the plan if it is another one.

        On old, before anything was packed, all is planned again: the parcel holds new's card, the
        recipes and what was chosen. On new, what was packed stays, and what is to be done with it
        is planned for new as it is. What differs in sizes alone is no other plan. Once a leg was
        begun at the station, the plan stays.

        Raises:
            Obstructed: Something stands in the way of any plan now.
        """
        if not self.leg_due_here or self._begun_here or self.station.station == "between":
            return None
        if self.station.station == "new":
            plan = plan_rest(self.parcel.plan, self.machine, self.finders_by({}), now)
        else:
            plan = self._plan_again(now)
        return None if plan.essence == self.parcel.plan.essence else plan

    def _plan_again(self, now: datetime) -> Plan:
        card = self.parcel.card()
        new = card_facts(card, str(self.parcel.folder)) if card is not None else None
        recipes = list(self._recipes.values())
        medium, choices = medium_of(self.parcel.folder), self.parcel.choices
        sealed = self.parcel.seal is not None
        plan = make_plan(recipes, self.machine, new, medium, now, choices, sealed=sealed)
        told = self.parcel.plan.station("new")
        return plan.model_copy(update={"stations": (plan.station("old"), told)})

    def look_ahead(self, now: datetime) -> WalkDoing:
        """Check all that can be checked before anything is changed here.

        Raises:
            Obstructed: Something stands in the way; every obstacle is named.
            ParcelUnusable: The cargo was touched, or the plan.
        """
        self._insist_of_recipes(now)
        self.insist_going(now)
        due = self.due.number if self.due is not None else 0
        begun = self.journal.newest(LegBegun, leg=due)
        self._insist_whole(begun)
        self.check_cargo(begun=bool(begun))
        if not begun and not self._begun_here:
            self.damaged = self.parcel.wrong_in_bag()
        self.unseal()
        doing = self.make_doing(now)
        Look(doing, self.station, self.steps()).insist(begun=self._begun_here)
        return doing

    def apart(self, now: datetime) -> tuple[Apart, ...]:
        """Return what of the steps that are due here needs a consent of its own; ``look_ahead``
        comes first, since what arrives is told by the cargo."""
        return apart(self.make_doing(now), self.steps())

    def _insist_of_recipes(self, now: datetime) -> None:
        insist_of_recipes(self.parcel.plan, self._finders_here(), self.station.station, now)

    # Walking

    def walk(self, now: datetime) -> LegDone:
        """Do what is due here: every step in order, the logbook at the end.

        Where nothing is due here, see ``after_done``.
        A step that fails leaves what it moves whole; what depends on it is not done, the rest goes
        on. Where a step waits for something that does not come, the leg stays due, and what was
        done is kept.

        Raises:
            WideTrailError: As ``look_ahead``, or something halted the walk as a whole.
        """
        if not self.due_here:
            return self.after_done(now)
        doing = self.look_ahead(now)
        steps = self.steps()
        look = Look(doing, self.station, steps)
        for step in steps:
            act_of(step).clear_cut(step, doing)
        try:
            doing.await_(look.lacking, "Close what is open and free some space, then walk again.")
        except Waiting as waiting:
            waiting.codes = ("waits",)
            raise
        doing.asked_before(s for s in steps if self.reused(s, doing) is None)
        return Walk(self, doing, look.unfit(now), now).do(steps)
