"""For tests of recipes, kinds of steps and the tool itself: faults and cuts, and what they leave."""

from widetrail.testing.recorded_stops import Stop
from widetrail.testing.sweep import Swept, Trouble, sweep

__all__ = ["Stop", "Swept", "Trouble", "sweep"]
