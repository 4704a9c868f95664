"""Steps: what a recipe's steps become in a plan, how they are told, and how they are done.

A new kind touches its file, its line in a table below, and its test.
"""

from collections.abc import Mapping

from widetrail.formats.checked import Model
from widetrail.steps.copy import Copy
from widetrail.steps.enter import Enter
from widetrail.steps.interface import (
    Act,
    Asked,
    CargoEntry,
    Doing,
    Done,
    Fact,
    Facts,
    Failed,
    Hands,
    Onlooker,
    Outcome,
    OwnAct,
    Packed,
    Packing,
    Rule,
    Step,
    Task,
    Teller,
    Unfolding,
    Waits,
)
from widetrail.steps.judge import Compare, Note, judge
from widetrail.steps.leaving import Detach, Remove, Retire, retire_step
from widetrail.steps.pack import Pack
from widetrail.steps.person import Person
from widetrail.steps.program import PROGRAM_KINDS
from widetrail.steps.publish import Publish
from widetrail.steps.remnants import Remnants
from widetrail.steps.run import Run
from widetrail.steps.seat import SeatStep
from widetrail.steps.wait import Wait
from widetrail.steps.write import Write

_OWN: Mapping[str, OwnAct] = {
    "run": Run(),
    "person": Person(),
    "wait": Wait(),
    **PROGRAM_KINDS,
    "remove": Remove(),
    "detach": Detach(),
    "write": Write(),
}

RULES: Mapping[str, Rule] = {"copy": Copy(), **_OWN}
"""The step kinds a recipe may use."""

ACTS: Mapping[str, Act] = {
    "note": Note(),
    "pack": Pack(),
    "publish": Publish(),
    "enter": Enter(),
    "check": Compare(),
    "remnants": Remnants(),
    "retire": Retire(),
    "seat": SeatStep(),
    **_OWN,
}
"""The step kinds that a plan may hold, each with its words and its doing."""

KINDS: Mapping[str, type[Model]] = {name: rule.schema for name, rule in RULES.items()}
"""What the recipe loader is handed."""

__all__ = [
    "ACTS",
    "KINDS",
    "RULES",
    "Act",
    "Asked",
    "CargoEntry",
    "Doing",
    "Done",
    "Fact",
    "Facts",
    "Failed",
    "Hands",
    "Onlooker",
    "Outcome",
    "Packed",
    "Packing",
    "Rule",
    "Step",
    "Task",
    "Teller",
    "Unfolding",
    "Waits",
    "judge",
    "retire_step",
]
