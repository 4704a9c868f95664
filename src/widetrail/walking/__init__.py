"""Walking: doing the leg that is due at a station, with a journal, checks and a report."""

from widetrail.walking.answers import Answers, read_answers
from widetrail.walking.forgetting import WHAT, Kept, clear_own_state, forget_kept, kept_on
from widetrail.walking.leg import Visit
from widetrail.walking.leg_done import LegDone, StepDone
from widetrail.walking.overlaps import runs_on
from widetrail.walking.report import CheckLine, ItemReport, LeftReport, LegReport, Report
from widetrail.walking.report_making import make_report
from widetrail.walking.seat_replanning import (
    bring_back,
    claim_after_all,
    fetch_again,
    give_up,
    letter_to_maker,
    seat_line,
    serial_of,
)
from widetrail.walking.seats import SeatLine, ledger_of_machine, ledger_of_parcel
from widetrail.walking.separate_consent import Apart
from widetrail.walking.topping_up import can_top_up, not_topped_up, steps_to_top_up, top_up
from widetrail.walking.undo_plan import Doubt, UndoPlan
from widetrail.walking.undoing import Run, clear_settled
from widetrail.walking.unsealing import unseal
from widetrail.walking.waiting import Patience, Silent
from widetrail.walking.walk_context import Company

__all__ = [
    "WHAT",
    "Answers",
    "Apart",
    "CheckLine",
    "Company",
    "Doubt",
    "ItemReport",
    "Kept",
    "LeftReport",
    "LegDone",
    "LegReport",
    "Patience",
    "Report",
    "Run",
    "SeatLine",
    "Silent",
    "StepDone",
    "UndoPlan",
    "Visit",
    "bring_back",
    "can_top_up",
    "claim_after_all",
    "clear_own_state",
    "clear_settled",
    "fetch_again",
    "forget_kept",
    "give_up",
    "kept_on",
    "ledger_of_machine",
    "ledger_of_parcel",
    "letter_to_maker",
    "make_report",
    "not_topped_up",
    "read_answers",
    "runs_on",
    "seat_line",
    "serial_of",
    "steps_to_top_up",
    "top_up",
    "unseal",
]
