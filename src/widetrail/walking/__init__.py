"""Walking: doing the leg that is due at a station, with a journal and checks."""

from widetrail.walking.leg import LegDone, StepDone, Visit

__all__ = ["LegDone", "StepDone", "Visit"]
