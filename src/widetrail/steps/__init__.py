"""Steps: what a recipe's steps become in a plan, how they are told, done and taken back.

A new kind is a new file, its line in ``table``, and its test.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from widetrail.lazily import lazily

if TYPE_CHECKING:
    from widetrail.steps.cargo import CargoEntry, Packed, Packing
    from widetrail.steps.kind import Act, Rule, Touched
    from widetrail.steps.kinds import KINDS
    from widetrail.steps.outcomes import Done, Fact, Facts, Failed, Noted, Outcome, Waits, state_of
    from widetrail.steps.people import Asked, Hands, Onlooker, Task
    from widetrail.steps.step import OfSeat, Step, Unfolding, WrittenAt
    from widetrail.steps.table import (
        ACTS,
        RULES,
        AnyStep,
        act_of,
        brings_about,
        read_outcome,
        record_of,
        words_of,
    )
else:
    __getattr__ = lazily(
        __name__,
        {
            "cargo": (
                "CargoEntry",
                "Packed",
                "Packing",
            ),
            "kind": (
                "Act",
                "Rule",
                "Touched",
            ),
            "outcomes": (
                "Done",
                "Fact",
                "Facts",
                "Failed",
                "Noted",
                "Outcome",
                "Waits",
                "state_of",
            ),
            "people": (
                "Asked",
                "Hands",
                "Onlooker",
                "Task",
            ),
            "step": (
                "OfSeat",
                "Step",
                "Unfolding",
                "WrittenAt",
            ),
            "kinds": ("KINDS",),
            "table": (
                "ACTS",
                "RULES",
                "AnyStep",
                "act_of",
                "brings_about",
                "read_outcome",
                "record_of",
                "words_of",
            ),
        },
    )

__all__ = [
    "ACTS",
    "KINDS",
    "RULES",
    "Act",
    "AnyStep",
    "Asked",
    "CargoEntry",
    "Done",
    "Fact",
    "Facts",
    "Failed",
    "Hands",
    "Noted",
    "OfSeat",
    "Onlooker",
    "Outcome",
    "Packed",
    "Packing",
    "Rule",
    "Step",
    "Task",
    "Touched",
    "Unfolding",
    "Waits",
    "WrittenAt",
    "act_of",
    "brings_about",
    "read_outcome",
    "record_of",
    "state_of",
    "words_of",
]
