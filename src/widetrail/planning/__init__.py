"""Planning: what goes which way, in which order, and what it will take."""

from widetrail.planning.choice_words import ChoiceWords, read_choices
from widetrail.planning.foreseeing import foresee
from widetrail.planning.free_space import full_volumes
from widetrail.planning.itinerary import Circle, Itinerary, find_itinerary
from widetrail.planning.plan import (
    LeftItem,
    Plan,
    PlannedItem,
    PlannedLeg,
    PlannedRecipe,
    PlannedStation,
    RejectedRoute,
)
from widetrail.planning.planner import make_plan
from widetrail.planning.replanning import insist_of_recipes, plan_rest, unmet_at
from widetrail.planning.station_facts import New
from widetrail.planning.user_choices import Choices, Offer, offered

__all__ = [
    "ChoiceWords",
    "Choices",
    "Circle",
    "Itinerary",
    "LeftItem",
    "New",
    "Offer",
    "Plan",
    "PlannedItem",
    "PlannedLeg",
    "PlannedRecipe",
    "PlannedStation",
    "RejectedRoute",
    "find_itinerary",
    "foresee",
    "full_volumes",
    "insist_of_recipes",
    "make_plan",
    "offered",
    "plan_rest",
    "read_choices",
    "unmet_at",
]
