"""Steps: what a recipe's steps become in a plan, how they are told, and how they are done.

A new kind touches its file, its line in a table below, and its test.
"""

from collections.abc import Mapping

from widetrail.formats.checked import Model
from widetrail.steps.copy import Copy
from widetrail.steps.interface import (
    Act,
    CargoEntry,
    Doing,
    Done,
    Fact,
    Facts,
    Failed,
    Outcome,
    Packed,
    Packing,
    Rule,
    Step,
    Teller,
    ToldRule,
    Unfolding,
)
from widetrail.steps.judge import Compare, Note, judge
from widetrail.steps.leaving import Detach, Remove
from widetrail.steps.pack import Pack
from widetrail.steps.person import Person
from widetrail.steps.program import Program
from widetrail.steps.publish import Publish
from widetrail.steps.run import Run
from widetrail.steps.wait import Wait

_TOLD: Mapping[str, ToldRule] = {
    "run": Run(),
    "person": Person(),
    "wait": Wait(),
    "open": Program("open"),
    "close": Program("close"),
    "first_start": Program("first_start"),
    "remove": Remove(),
    "detach": Detach(),
}

RULES: Mapping[str, Rule] = {"copy": Copy(), **_TOLD}
"""The step kinds a recipe may use."""

ACTS: Mapping[str, Act] = {
    "note": Note(),
    "pack": Pack(),
    "publish": Publish(),
    "check": Compare(),
}
"""The step kinds that a walk does."""

TELLERS: Mapping[str, Teller] = {**ACTS, **_TOLD}
"""The step kinds that a plan may hold, each with its words."""

KINDS: Mapping[str, type[Model]] = {name: rule.schema for name, rule in RULES.items()}
"""What the recipe loader is handed."""

__all__ = [
    "ACTS",
    "KINDS",
    "RULES",
    "TELLERS",
    "Act",
    "CargoEntry",
    "Doing",
    "Done",
    "Fact",
    "Facts",
    "Failed",
    "Outcome",
    "Packed",
    "Packing",
    "Rule",
    "Step",
    "Teller",
    "Unfolding",
    "judge",
]
