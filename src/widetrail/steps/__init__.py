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
    Unfolding,
)  # fmt: skip
from widetrail.steps.judge import Compare, Note, judge
from widetrail.steps.pack import Pack
from widetrail.steps.publish import Publish

RULES: Mapping[str, Rule] = {"copy": Copy()}
"""The step kinds a recipe may use."""

ACTS: Mapping[str, Act] = {
    "note": Note(),
    "pack": Pack(),
    "publish": Publish(),
    "check": Compare(),
}
"""The step kinds a plan may hold."""

KINDS: Mapping[str, type[Model]] = {name: rule.schema for name, rule in RULES.items()}
"""What the recipe loader is handed."""

__all__ = [
    "ACTS",
    "KINDS",
    "RULES",
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
    "Unfolding",
    "judge",
]
