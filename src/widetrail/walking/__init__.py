"""Walking: doing the leg that is due at a station, with a journal, checks and a report."""

from widetrail.walking.doing import Company
from widetrail.walking.hands import Answers, read_answers
from widetrail.walking.leg import LegDone, StepDone, Visit
from widetrail.walking.patience import Patience, Silent
from widetrail.walking.report import (
    CheckLine,
    ItemReport,
    LeftReport,
    LegReport,
    Report,
    make_report,
)
from widetrail.walking.undoing import Run, UndoAct, UndoPlan, runs_on

__all__ = [
    "Answers",
    "CheckLine",
    "Company",
    "ItemReport",
    "LeftReport",
    "LegDone",
    "LegReport",
    "Patience",
    "Report",
    "Run",
    "Silent",
    "StepDone",
    "UndoAct",
    "UndoPlan",
    "Visit",
    "make_report",
    "read_answers",
    "runs_on",
]
