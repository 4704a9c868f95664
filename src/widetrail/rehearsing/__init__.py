"""Rehearsing: recipes tried out on copies of machines, and judged."""

from widetrail.rehearsing.rehearsal import (
    SUFFIX,
    Rehearsal,
    collect_rehearsals,
    load_rehearsal,
)
from widetrail.rehearsing.runner import Difference, Rehearsed, rehearse, show_screen
from widetrail.rehearsing.stops import Stop, Swept, Trouble, sweep

__all__ = [
    "SUFFIX",
    "Difference",
    "Rehearsal",
    "Rehearsed",
    "Stop",
    "Swept",
    "Trouble",
    "collect_rehearsals",
    "load_rehearsal",
    "rehearse",
    "show_screen",
    "sweep",
]
