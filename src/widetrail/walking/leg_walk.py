"""One walk of the steps that are due at a station."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from datetime import datetime

from widetrail.errors import (
    Halted,
    MachineUnusable,
    WentWrong,
)
from widetrail.machine import EffectFailed
from widetrail.parcel.events import LEG_DONE, LEG_HALTED, LEG_MENDED
from widetrail.steps import (
    Facts,
    Failed,
    Outcome,
    Step,
    Waits,
    act_of,
    read_outcome,
    words_of,
)
from widetrail.steps.journal_events import StepBegun, StepEnded, ToBeDoneAgain
from widetrail.steps.outcomes import WrittenOutcome, write_outcome
from widetrail.walking.leg_done import LegDone, StepDone
from widetrail.walking.overlaps import next_turn
from widetrail.walking.proofs import look_at_proofs, newly_proved
from widetrail.walking.reuse import Reuse
from widetrail.walking.run_folders import alone, at_work
from widetrail.walking.step_context import WalkDoing
from widetrail.walking.walk_events import (
    CargoChecked,
    LegBegun,
    LegEnded,
    LegWasDone,
    LegWasHalted,
    LegWasMended,
    MadeFolders,
    Pinned,
)


class Walk:
    """One walk of the steps that are due at a station."""

    def __init__(
        self, visit: Reuse, doing: WalkDoing, unfit: Mapping[str, str], now: datetime
    ) -> None:
        self._visit, self._doing, self._unfit, self._now = visit, doing, unfit, now
        self._journal = visit.journal
        self._outcomes = dict(visit.parcel.outcomes)
        self._written: dict[str, WrittenOutcome] = {}
        """The outcomes of this walk as they are written down, by the ids of their steps."""
        self._leg = visit.due if visit.leg_due_here else visit.done_here

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
                self._journal.add(MadeFolders(count=len(made)))
            return self._alone(steps)

    def _alone(self, steps: tuple[Step, ...]) -> LegDone:
        assert self._leg is not None
        doing, visit = self._doing, self._visit
        newest = visit.parcel.newest
        if not self._journal.has(CargoChecked, generation=newest):
            self._journal.add(CargoChecked(generation=newest, read=visit.on_arrival))
        self._pin()
        turn, time = next_turn(doing.machine), doing.now.isoformat(timespec="seconds")
        leg, plan = self._leg.number, visit.parcel.plan.id
        self._journal.add(LegBegun(leg=leg, plan=plan, generation=newest, turn=turn, time=time))
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
            told = ToBeDoneAgain(step=step.id, generation=due[step.id])
            if not self._journal.has(ToBeDoneAgain, step=told.step, generation=told.generation):
                self._journal.add(told)

    def _each(self, steps: tuple[Step, ...]) -> Iterator[StepDone]:
        """Do the steps, each where all came out well that it depends on."""
        for number, step in enumerate(steps, start=1):
            if all(self._outcomes.get(after, MISSING).well for after in step.after):
                yield self._step(step, number, len(steps))

    def _pin(self) -> None:
        if self._journal.has(Pinned):
            return
        finders = self._doing.finders
        self._journal.add(
            Pinned(
                places={name: finder.pinnable() for name, finder in finders.items()},
                programs={n: tuple(sorted(f.programs().values())) for n, f in finders.items()},
                locks={name: tuple(finder.lock_paths()) for name, finder in finders.items()},
            )
        )

    def _step(self, step: Step, number: int, total: int) -> StepDone:
        words = self._doing.masked(words_of(self._doing.shown(step)))
        reused = self._visit.reused(step, self._doing)
        if reused is not None:
            self._doing.keep_again(step, reused)
            self._take(step, reused)
            return StepDone(step, words, reused)
        self._doing.onlooker.begins(step, words, number, total)
        undone = act_of(step).undo_command(step)
        loose = not (step.changes or undone or step.seat is not None)
        self._journal.add(StepBegun(step=step.id, kind=step.kind, words=words, loose=loose))
        outcome = self._take(step, self._outcome(step))
        self._journal.add(StepEnded(step=step.id, outcome=self._written[step.id]))
        return StepDone(step, words, outcome)

    def _take(self, step: Step, outcome: Outcome) -> Outcome:
        """Take note of an outcome; return it without any secret, as it is written down."""
        written = self._doing.masked_outcome(write_outcome(step.kind, outcome))
        self._written[step.id] = written
        masked = self._outcomes[step.id] = read_outcome(written)
        return masked

    def _outcome(self, step: Step) -> Outcome:
        if reason := self._unfit.get(step.item):
            todo = "Fix the cause above, then walk again; or plan again, another way."
            return Failed(f"its route cannot be continued: {reason}", todo)
        if (another := self._visit.company.instead(step)) is not None:
            return another
        try:
            return act_of(step).do(step, self._doing)
        except Halted as error:
            refused = error.refused_by if isinstance(error, EffectFailed) else None
            todo = error.todo or "Fix the cause above, then walk again."
            return Waits(str(error), todo, Facts(refused=refused))
        except (MachineUnusable, WentWrong) as error:
            todo = error.todo or "Fix the cause above, then walk again."
            return Failed(str(error), todo)
        except OSError as error:  # of reading: each change has an error of its own
            where, why = error.filename, error.strerror or str(error)
            told = MachineUnusable("cannot be read", where=str(where or ""), why=why)
            return Failed(str(told), "Check the disk, then walk again.")

    def _end(self, done: list[StepDone], troubles: list[str]) -> tuple[str, ...]:
        """Write the logbook and return what is proved now.

        The leg is done unless something waits or is to be ended still, or it was done before and
        is only mended.
        """
        waits = bool(troubles) or any(isinstance(s.outcome, Waits) for s in done)
        event = LEG_HALTED if waits else LEG_DONE if self._visit.leg_due_here else LEG_MENDED
        steps = {s.step.id: self._written[s.step.id] for s in done}
        entry = self._visit.entry(event, self._now).with_(steps=steps)
        if self._licences:
            seats = self._doing.seats
            entry = entry.with_(seats=tuple(seats.untold()), again=tuple(seats.again))
        proofs = look_at_proofs(self._doing)
        proved = newly_proved(self._doing, proofs)
        assert self._leg is not None
        self._visit.parcel = self._doing.parcel  # a detached one lies on this machine now
        doing = self._doing
        self._visit.parcel.end_leg(
            entry.with_(proofs=proofs), self._now, doing.writer, doing.made, doing.secrets_by_scope
        )
        newest = self._visit.parcel.newest
        self._journal.add(_ENDS[event](leg=self._leg.number, generation=newest))
        if not waits:
            self._doing.tidy()
        return proved


_ENDS: Mapping[str, type[LegEnded]] = {e.event: e for e in (LegWasDone, LegWasHalted, LegWasMended)}
"""What the journal tells of the end of a walk, by what the logbook does."""

MISSING: Outcome = Failed("it was not done", "")
