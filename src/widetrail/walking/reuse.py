"""What of a walk that was cut off need not be done again."""

from __future__ import annotations

from widetrail.steps import (
    Outcome,
    Step,
    act_of,
    read_outcome,
)
from widetrail.steps.journal_events import StepEnded, ToBeDoneAgain
from widetrail.walking.arrival import Arrival
from widetrail.walking.step_context import WalkDoing
from widetrail.walking.walk_events import LegEnded


class Reuse(Arrival):
    """A parcel at a machine where an earlier walk may have done some of what is due."""

    def reused(self, step: Step, doing: WalkDoing) -> Outcome | None:
        """Return the outcome of a step that a walk which was cut off had done already.

        What was packed then is gone from the parcel, so packing is done again.
        """
        record = self.journal.newest(StepEnded, step=step.id)
        if record is None or act_of(step).packs:
            return None
        outcome = read_outcome(record.outcome)
        if not outcome.well or (act_of(step).notes and self._is_done_anew(step, doing)):
            return None  # what it tells is to be of the moment that is packed
        ends = (r.at for r in self.journal.records if isinstance(r, LegEnded))
        if step.id in self.parcel.done_again and record.at < max(ends, default=-1):
            return None  # it is to be done again for what came of it elsewhere
        again = self.journal.newest(ToBeDoneAgain, step=step.id)
        if again is not None and again.at > record.at:
            return None
        done = {r.step for r in self.journal.all(StepEnded) if r.well}
        if self.must_be_done_again(step, done):
            return None
        return outcome if doing.has_made(step, outcome) else None

    def _is_done_anew(self, note: Step, doing: WalkDoing) -> bool:
        """Return whether something of the item is packed, or made, on old by this walk."""
        well = {s for s, outcome in self.parcel.outcomes.items() if outcome.well}
        later = [s for s in self.parcel.plan.steps if s.item == note.item and s.station == "old"]
        return any(
            s.id not in well and self.reused(s, doing) is None
            for s in later
            if not (act_of(s).notes or act_of(s).comes_last)
        )
