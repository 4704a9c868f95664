"""Planning: what goes which way, in which order, and what it will take."""

from widetrail.planning.plan import Plan, PlannedItem, PlannedLeg, PlannedRecipe, PlannedStation
from widetrail.planning.planner import make_plan

__all__ = ["Plan", "PlannedItem", "PlannedLeg", "PlannedRecipe", "PlannedStation", "make_plan"]
