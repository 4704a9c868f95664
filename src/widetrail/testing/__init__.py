"""For tests of recipes, of kinds of steps and of the tool: faults, cuts, and what they leave."""

from widetrail.testing.recorded_stops import Stop
from widetrail.testing.sweep import Swept, Trouble, sweep

__all__ = ["Stop", "Swept", "Trouble", "sweep"]
