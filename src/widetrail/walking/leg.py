"""The leg that is due at a station: found, judged before anything is done, then walked."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from widetrail.errors import (
    Halted,
    MachineUnusable,
    ParcelUnusable,
    Waiting,
    WentWrong,
    WideTrailError,
)
from widetrail.finding import Finder, card_facts, find_application
from widetrail.machine import Machine, medium_of
from widetrail.machine.own_folders import OWN_STATE
from widetrail.machine.paths import join
from widetrail.parcel import Parcel
from widetrail.parcel.parcel import LEG_DONE, LEG_HALTED, LEG_MENDED
from widetrail.parcel.seal import WrongPassphrase
from widetrail.planning import Plan, PlannedLeg, insist_of_recipes, make_plan, plan_rest
from widetrail.recipe import Loaded, Station
from widetrail.recipe.templates import braces, plain
from widetrail.steps import (
    KINDS,
    Asked,
    Failed,
    Outcome,
    Step,
    Waits,
    act_of,
    read_outcome,
    words_of,
)
from widetrail.steps.outcomes import Fact, is_well_done, write_outcome
from widetrail.steps.program import FirstStartStep, close_begun
from widetrail.steps.run_settings import RunStep
from widetrail.walking.journal import Journal
from widetrail.walking.overlaps import insist_newest, insist_not_half_way, next_turn
from widetrail.walking.preflight import Look, station_of
from widetrail.walking.proofs import look_at_proofs, newly_proved
from widetrail.walking.run_folders import alone, at_work
from widetrail.walking.separate_consent import Apart, apart
from widetrail.walking.step_context import WalkDoing
from widetrail.walking.walk_context import Company


@dataclass(frozen=True, slots=True)
class StepDone:
    """One step with its words and its outcome."""

    step: Step
    words: str
    outcome: Outcome


@dataclass(frozen=True, slots=True)
class LegDone:
    """What a walk did at a station, and the station that is due next, if any.

    ``troubles`` are what went wrong beside the steps; ``proved`` the remedies that are seen to be
    done now. ``again`` tells that there was nothing to do. ``topped_up`` tells of the items that
    were packed again how many names were added, changed and left out.
    """

    leg: PlannedLeg
    machine: str
    steps: tuple[StepDone, ...]
    next_machine: str
    troubles: tuple[str, ...] = ()
    proved: tuple[str, ...] = ()
    again: bool = False
    topped_up: Mapping[str, tuple[int, int, int]] = field(default_factory=dict)
    next_station: Station | None = None
    next_as: str = ""
    """What is to be said there of which station it is, as an option of a call."""

    @property
    def failed(self) -> tuple[StepDone, ...]:
        """The steps that came out wrong."""
        return tuple(s for s in self.steps if isinstance(s.outcome, Failed))

    @property
    def waits(self) -> tuple[StepDone, ...]:
        """The steps that wait for something, so that the leg is not at its end yet."""
        return tuple(s for s in self.steps if isinstance(s.outcome, Waits))

    @property
    def bad(self) -> tuple[StepDone, ...]:
        """The steps that failed or wait."""
        return (*self.failed, *self.waits)


class Visit:
    """A visit of a parcel to a machine: what is due there, and doing it."""

    def __init__(
        self,
        parcel: Parcel,
        machine: Machine,
        *,
        station: Station | None = None,
        company: Company | None = None,
    ) -> None:
        """Find the station that ``machine`` is in the parcel's plan.

        ``station`` says what it is, where the plan was made without having seen it.

        Raises:
            InputUnusable: The plan knows no such machine, or what it is must be said.
            ParcelUnusable: The recipes that travel along were touched.
        """
        self.parcel, self.machine = parcel, machine
        self.company = company or Company()
        self._cargo_sound = False
        self.on_arrival: tuple[int, int] | None = None
        """Files of the parcel that were read when it came here, and their bytes."""
        self.damaged: tuple[str, ...] = ()
        """Derived files of the parcel that were missing or damaged when it came here."""
        self.station = station_of(parcel.plan, machine, station, str(parcel.folder))
        self.workroom = join(machine.root("state"), OWN_STATE, parcel.run)
        host = machine.host(join(self.workroom, "journal"))
        self.journal = Journal(host, join(self.workroom, "journal"), machine.effects)
        self._insist_newest()
        recipes = {loaded.id: loaded for loaded in parcel.recipes(KINDS)}
        self._recipes: dict[str, Loaded] = _used_first(recipes)
        for item in parcel.plan.items:
            known = recipes[item.recipe].recipe if item.recipe in recipes else None
            listed = known.known_as_item(item.item) if known is not None else None
            routes = [route.name for route in listed.routes] if listed is not None else []
            if listed is None or item.kind != listed.kind or item.route not in routes:
                raise ParcelUnusable(
                    "the plan does not fit its recipes",
                    where=str(parcel.folder),
                    why=f"none has {item.id} as it is planned",
                    todo="Plan again.",
                )

    def _insist_newest(self) -> None:
        """Raise where this machine saw a later state of the parcel; a first visit cannot know.

        Raises:
            ParcelUnusable: The parcel is older than, or went another way than, what was seen here.
        """
        seen = [r["generation"] for r in self.journal.records if "generation" in r]
        if seen and seen[-1] not in {g.digest for g in self.parcel.generations}:
            raise ParcelUnusable(
                "this parcel is not what was carried away from here",
                where=str(self.parcel.folder),
                why="it is an older copy, or something was done with another copy of it since",
                todo="Take the medium that was here last; nothing was changed.",
            )

    @property
    def asks_programs(self) -> bool:
        """Whether readings start programs here, only to read what they print: the person who
        planned said so."""
        return self.parcel.choices.ask_programs

    @property
    def recipes(self) -> tuple[Loaded, ...]:
        """The recipes that travel along, each after those it uses."""
        return tuple(self._recipes.values())

    # What is due

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
        return bool(self.steps()) or self._leg_due_here

    @property
    def _leg_due_here(self) -> bool:
        return self.due is not None and self.due.station == self.station.station

    @property
    def title(self) -> str:
        """What a walk here would be called: the due leg, or mending one that was done."""
        if self._leg_due_here and self.due is not None:
            return f"Leg {self.due.number} on {self.machine.name}"
        mended = self.done_here.number if self.done_here is not None else 0
        return f"Mending leg {mended} on {self.machine.name}"

    def steps(self) -> tuple[Step, ...]:
        """Return the steps that are to be done here now: of the due leg, and what is to be mended.

        What came out wrong in an earlier leg, or could not be done then, is tried again.
        """
        legs = self.parcel.plan.legs
        reached = [*legs[: self.count_done], *([self.due] if self._leg_due_here else [])]
        mine = [leg for leg in reached if leg and leg.station == self.station.station]
        wanted = [s for leg in mine for s in self.parcel.plan.steps_of(leg)]
        outcomes = self.parcel.outcomes
        well = {step for step, outcome in outcomes.items() if outcome.well}
        ready: list[Step] = []
        for step in wanted:
            if step.id in well:
                if self._must_be_done_again(step, well):
                    ready.append(step)
                continue
            known = well | {s.id for s in ready}
            in_due = self.due is not None and self._leg_due_here and step.id in self.due.steps
            if in_due or set(step.after) <= known:
                ready.append(step)
        return tuple(ready)

    def _must_be_done_again(self, step: Step, well: set[str]) -> bool:
        """Return whether a step that came out well must be done again for one that did not yet.

        That is so where a program told a secret, which is kept nowhere, or began something that is
        ended with the leg.
        """
        mine = self.parcel.plan.steps
        later = mine[mine.index(step) + 1 :]
        here = [s for s in later if s.item == step.item and s.station == step.station]
        here = [s for s in here if s.id not in well]
        if not isinstance(step, RunStep):
            return False
        told = any(s.named(f"{{{name}}}") for name in step.hidden for s in here)
        return told or bool(step.ended_by and here)

    def words(self, now: datetime) -> tuple[tuple[Step, str], ...]:
        """Return the steps that are to be done here now, with their words."""
        return tuple(zip(self.steps(), self.words_of(self.steps(), now), strict=True))

    def words_of(self, steps: Iterable[Step], now: datetime) -> tuple[str, ...]:
        """Return what ``steps`` do here, in words."""
        doing = self.make_doing(now)
        return tuple(words_of(doing.shown(s)) for s in steps)

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
                todo=f"Carry the parcel to {machine} and walk there.",
            )
        self.parcel.mend_bag(now)
        doing = self.make_doing(now)
        doing.tidy()
        proofs = look_at_proofs(doing)
        proved = newly_proved(doing, proofs)
        if proved:
            self.parcel.check_cargo(begun=False)
            self.parcel.begin_leg()
            facts = {**self.facts(now), "steps": {}, "proofs": proofs}
            self.parcel.end_leg(facts, now, None, {}, LEG_MENDED)
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
        if not self._leg_due_here or self._begun_here or self.station.station == "between":
            return None
        if self.station.station == "new":
            finders = _finders(self.machine, self._recipes, {}, ask=self.asks_programs)
            plan = plan_rest(self.parcel.plan, self.machine, finders, now)
        else:
            plan = self._plan_again(now)
        return None if plan.essence == self.parcel.plan.essence else plan

    @property
    def _begun_here(self) -> bool:
        return self.journal.has("leg begun")

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
        begun = self.journal.newest("leg begun", leg=due)
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

    def insist_going(self, now: datetime) -> None:
        """Raise where this run cannot be gone on with on this machine.

        Raises:
            Halted: It was undone here, or a later run changed the same places.
        """
        self._insist_not_undone(now)
        what = f"run {self.parcel.run} cannot be gone on with on {self.machine.name}"
        insist_newest(self.machine, self.parcel.run, what)
        insist_not_half_way(self.machine, self.parcel.run, self._to_be_changed(now), what)

    def _to_be_changed(self, now: datetime) -> tuple[str, ...]:
        """Return the paths that the steps which are due here will change, as far as is known."""
        doing = self.make_doing(now)
        shown = [doing.shown(step) for step in self.steps()]
        paths = [path for step in shown for path in (*step.changes, *step.writes)]
        return tuple(plain(path) for path in paths if not braces(path))

    def _insist_not_undone(self, now: datetime) -> None:
        """Raise where the move was undone here, and write that down in the parcel, if it can be."""
        if self.journal.has("undo begun"):
            with suppress(WideTrailError):  # a report told from the parcel alone is better then
                self.parcel.tell_undone(self.station.station, self.machine.name, now)
            raise Halted(
                f"the move was undone on {self.machine.name}",
                why="its journal says so",
                todo="Plan again, into another parcel.",
                codes=["undone"],
            )

    def _insist_whole(self, begun: Mapping[str, Any] | None) -> None:
        """Raise where the cargo is half-way to another one, or another than a leg began with.

        Raises:
            Halted: The old machine must finish, or the parcel that was here before must come.
        """
        old = self.parcel.plan.station("old").machine
        if not self.parcel.is_topped_up:
            raise Halted(
                "the parcel is being topped up",
                where=str(self.parcel.folder),
                why=f"that was cut off on {old}",
                todo=f"Walk on {old} with --top-up to its end first.",
            )
        if begun and self.parcel.topped_up_since(begun["generation"]):
            raise Halted(
                f"the parcel was topped up after its leg was begun on {self.machine.name}",
                where=str(self.parcel.folder),
                why="what was put in place here is older",
                todo="Undo here, then plan again into another parcel.",
            )

    def check_cargo(self, *, begun: bool) -> None:
        """Check the cargo once; what this machine read or wrote itself is not read again.

        Each file is judged again as it is unpacked.
        """
        if not self._cargo_sound:
            known = any(r.get("generation") == self.parcel.newest for r in self.journal.records)
            self.on_arrival = self.parcel.check_cargo(begun=begun, read=not known)
            self._cargo_sound = True

    def unseal(self) -> None:
        """Open a sealed parcel by its passphrase, which the person is asked for.

        Raises:
            Waiting: Nobody knows it.
        """
        unseal(self.parcel, self.company)

    def _finders_here(self) -> dict[str, Finder]:
        """Return what finds the recipes' places here, each as it was when the leg was begun."""
        pinned = self.journal.newest("pinned")
        paths = pinned["places"] if pinned is not None else {}
        return _finders(self.machine, self._recipes, paths, ask=self.asks_programs)

    def make_doing(self, now: datetime) -> WalkDoing:
        return WalkDoing(
            self.parcel,
            self.machine,
            self.station.station,
            self.journal,
            self.workroom,
            self._finders_here(),
            self.company,
            now,
        )

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
        for step in (s for s in steps if isinstance(s, FirstStartStep)):
            close_begun(step, doing)
        try:
            doing.await_(look.lacking, "Close what is open and make room, then walk again.")
        except Waiting as waiting:
            waiting.codes = ("waits",)
            raise
        doing.asked_before(s for s in steps if self._reused(s, doing) is None)
        return Walk(self, doing, look.unfit(now), now).do(steps)

    def _reused(self, step: Step, doing: WalkDoing) -> Outcome | None:
        """Return the outcome of a step that a walk which was cut off had done already.

        What was packed then is gone from the parcel, so packing is done again.
        """
        record = self.journal.newest("step done", step=step.id)
        if record is None or act_of(step).packs:
            return None
        outcome = read_outcome(record["outcome"])
        if not outcome.well or (act_of(step).notes and self._is_done_anew(step, doing)):
            return None  # what it tells is to be of the moment that is packed
        ends = [self.journal.newest(e) for e in (LEG_DONE, LEG_HALTED, LEG_MENDED)]
        last = max((r["at"] for r in ends if r is not None), default=-1)
        if step.id in self.parcel.done_again and record["at"] < last:
            return None  # it is to be done again for what came of it elsewhere
        again = self.journal.newest("to be done again", step=step.id)
        if again is not None and again["at"] > record["at"]:
            return None
        done = {r["step"] for r in self.journal.records if is_well_done(r)}
        if self._must_be_done_again(step, done):
            return None
        return outcome if doing.has_made(step, outcome) else None

    def _is_done_anew(self, note: Step, doing: WalkDoing) -> bool:
        """Return whether something of the item is packed, or made, on old by this walk."""
        well = {s for s, outcome in self.parcel.outcomes.items() if outcome.well}
        later = [s for s in self.parcel.plan.steps if s.item == note.item and s.station == "old"]
        return any(
            s.id not in well and self._reused(s, doing) is None
            for s in later
            if not (act_of(s).notes or act_of(s).comes_last)
        )

    def facts(self, now: datetime) -> dict[str, Any]:
        leg = self.due if self._leg_due_here else self.done_here
        assert leg is not None
        return {
            "leg": leg.number,
            "station": self.station.station,
            "machine": self.machine.name,
            "time": now.isoformat(timespec="seconds"),
            "damaged": list(self.damaged),
            "on arrival": self._read_on_arrival(),
        }

    def _read_on_arrival(self) -> list[int] | None:
        """Return how many files and bytes were read when the parcel came, by this walk or an
        earlier one of the same leg."""
        for record in reversed(self.journal.records):
            if record["event"] in (LEG_DONE, LEG_HALTED, LEG_MENDED):
                return None
            if record["event"] == "cargo checked" and record.get("read"):
                return list(record["read"])
        return None


class Walk:
    """One walk of the steps that are due at a station."""

    def __init__(
        self, visit: Visit, doing: WalkDoing, unfit: Mapping[str, str], now: datetime
    ) -> None:
        self._visit, self._doing, self._unfit, self._now = visit, doing, unfit, now
        self._journal = visit.journal
        self._outcomes = dict(visit.parcel.outcomes)
        self._written: dict[str, dict[str, Fact]] = {}
        """The outcomes of this walk as they are written down, by the ids of their steps."""
        self._leg = visit.due if visit._leg_due_here else visit.done_here

    @property
    def _licences(self) -> bool:
        return any(item.kind == "licence" for item in self._visit.parcel.plan.items)

    def do(self, steps: tuple[Step, ...]) -> LegDone:
        if not self._licences:
            return self._do(steps)
        ledger = self._doing.seats.ledger
        with alone(self._doing.machine, ledger.journal, ledger.room):
            return self._do(steps)

    def _do(self, steps: tuple[Step, ...]) -> LegDone:
        machine, workroom = self._doing.machine, self._doing.workroom
        with at_work(machine, self._journal, workroom) as made:
            if made:
                self._journal.add({"event": "made folders", "count": len(made)})
            return self._alone(steps)

    def _alone(self, steps: tuple[Step, ...]) -> LegDone:
        assert self._leg is not None
        doing, visit = self._doing, self._visit
        if not self._journal.has("cargo checked", generation=visit.parcel.newest):
            checked = {"event": "cargo checked", "generation": visit.parcel.newest}
            self._journal.add({**checked, "read": visit.on_arrival})
        self._pin()
        number, plan, newest = self._leg.number, visit.parcel.plan.id, visit.parcel.newest
        begun = {"event": "leg begun", "leg": number, "plan": plan, "generation": newest}
        when = doing.now.isoformat(timespec="seconds")
        self._journal.add({**begun, "turn": next_turn(doing.machine), "time": when})
        self._take_note_of_again(steps)
        visit.parcel.begin_leg()
        done: list[StepDone] = []
        with doing.cargo():
            doing.end_later()
            try:
                done.extend(self._each(steps))
            finally:
                troubles = doing.end()
        proved = self._end(done, troubles)
        return LegDone(
            self._leg,
            doing.machine.name,
            tuple(done),
            visit.next_machine(),
            tuple(troubles),
            proved,
            next_station=visit.next_station(),
            next_as=visit.next_as(),
        )

    def _take_note_of_again(self, steps: Iterable[Step]) -> None:
        """Write down what the parcel says is to be done again: what came of it before is over."""
        due = self._visit.parcel.due_again
        for step in (s for s in steps if s.id in due):
            told = {"step": step.id, "generation": due[step.id]}
            if not self._journal.has("to be done again", **told):
                self._journal.add({"event": "to be done again", **told})

    def _each(self, steps: tuple[Step, ...]) -> Iterator[StepDone]:
        """Do the steps, each where all came out well that it depends on."""
        for number, step in enumerate(steps, start=1):
            if all(self._outcomes.get(after, MISSING).well for after in step.after):
                yield self._step(step, number, len(steps))

    def _pin(self) -> None:
        if self._journal.has("pinned"):
            return
        finders = self._doing.finders
        self._journal.add(
            {
                "event": "pinned",
                "places": {name: finder.pinnable() for name, finder in finders.items()},
                "programs": {n: sorted(f.programs().values()) for n, f in finders.items()},
                "locks": {name: finder.lock_paths() for name, finder in finders.items()},
            }
        )

    def _step(self, step: Step, number: int, total: int) -> StepDone:
        words = self._doing.masked(words_of(self._doing.shown(step)))
        reused = self._visit._reused(step, self._doing)
        if reused is not None:
            self._doing.keep_again(step, reused)
            self._take(step, reused)
            return StepDone(step, words, reused)
        self._doing.onlooker.begins(step, words, number, total)
        undone = isinstance(step, RunStep) and step.undone_by
        loose = not (step.changes or undone or step.seat is not None)
        begun = {"event": "step begun", "step": step.id, "kind": step.kind, "words": words}
        self._journal.add({**begun, "loose": loose})
        outcome = self._take(step, self._outcome(step))
        record = {"event": "step done", "step": step.id, "outcome": self._written[step.id]}
        self._journal.add(record)
        return StepDone(step, words, outcome)

    def _take(self, step: Step, outcome: Outcome) -> Outcome:
        """Take note of an outcome; return it without any secret, as it is written down."""
        written = self._doing.masked_outcome(write_outcome(step.kind, outcome))
        self._written[step.id] = written
        masked = self._outcomes[step.id] = read_outcome(written)
        return masked

    def _outcome(self, step: Step) -> Outcome:
        if reason := self._unfit.get(step.item):
            todo = "Mend what the reason names, then walk again; or plan again, another way."
            return Failed(f"its route cannot be gone on with: {reason}", todo)
        try:
            return act_of(step).do(step, self._doing)
        except Halted as error:
            return Waits(str(error), error.todo or "Mend what the reason names, then walk again.")
        except (MachineUnusable, WentWrong) as error:
            todo = error.todo or "Mend what the reason names, then walk again."
            return Failed(str(error), todo)
        except OSError as error:  # of reading: each change has an error of its own
            where, why = error.filename, error.strerror or str(error)
            told = MachineUnusable("cannot be read", where=str(where or ""), why=why)
            return Failed(str(told), "Mend the disk, then walk again.")

    def _end(self, done: list[StepDone], troubles: list[str]) -> tuple[str, ...]:
        """Write the logbook and return what is proved now.

        The leg is done unless something waits or is to be ended still, or it was done before and
        is only mended.
        """
        waits = bool(troubles) or any(isinstance(s.outcome, Waits) for s in done)
        event = LEG_HALTED if waits else LEG_DONE if self._visit._leg_due_here else LEG_MENDED
        steps = {s.step.id: self._written[s.step.id] for s in done}
        seats = self._doing.seats
        told = {"seats": seats.untold(), "again": seats.again} if self._licences else {}
        proofs = look_at_proofs(self._doing)
        proved = newly_proved(self._doing, proofs)
        facts = {**self._visit.facts(self._now), "steps": steps, "proofs": proofs, **told}
        assert self._leg is not None
        self._visit.parcel = self._doing.parcel  # a detached one lies on this machine now
        doing = self._doing
        self._visit.parcel.end_leg(
            facts, self._now, doing.writer, doing.made, event, doing.secrets_by_scope
        )
        newest = self._visit.parcel.newest
        self._journal.add({"event": event, "leg": self._leg.number, "generation": newest})
        if not waits:
            self._doing.tidy()
        return proved


MISSING: Outcome = Failed("it was not done", "")


def _finders(
    machine: Machine,
    recipes: Mapping[str, Loaded],
    pinned: Mapping[str, Mapping[str, str]],
    *,
    ask: bool,
) -> dict[str, Finder]:
    """Return a finder for each recipe; ``recipes`` has those that are used first."""
    finders: dict[str, Finder] = {}
    for name, loaded in recipes.items():
        finders[name] = find_application(
            machine, loaded, ask_programs=ask, lenders=finders, pinned=pinned.get(name)
        )
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


def unseal(parcel: Parcel, company: Company) -> None:
    """Open a sealed parcel by its passphrase, which the person is asked for.

    Raises:
        Waiting: Nobody knows it.
    """
    seal, tried = parcel.seal, ""
    while seal is not None and not seal.is_open:
        hint = f" (hint: {seal.hint})" if seal.hint else ""
        words = f"Passphrase of the parcel{hint}"
        answer = company.hands.answer(Asked("parcel", "seal", words, secret=True))
        if not answer:
            raise Waiting(
                "the parcel is sealed",
                where=str(parcel.folder),
                why=f"nobody tells its passphrase{hint}",
                todo="Walk at a terminal, or give parcel.seal with --answers.",
            )
        try:
            parcel.unseal(answer)
        except WrongPassphrase as error:
            if answer == tried:
                raise
            company.onlooker.waits(str(error))
            tried = answer
        seal = parcel.seal
