"""Rehearsing: recipes tried out on copies of machines, and judged."""

from widetrail.rehearsing.expectations import Difference
from widetrail.rehearsing.rehearsal import (
    SUFFIX,
    Rehearsal,
    collect_rehearsals,
    load_rehearsal,
    load_rehearsals,
    rehearsals_in,
)
from widetrail.rehearsing.rehearsed import Rehearsed
from widetrail.rehearsing.runner import rehearse
from widetrail.rehearsing.screens import show_screen

__all__ = [
    "SUFFIX",
    "Difference",
    "Rehearsal",
    "Rehearsed",
    "collect_rehearsals",
    "load_rehearsal",
    "load_rehearsals",
    "rehearsals_in",
    "rehearse",
    "show_screen",
]
