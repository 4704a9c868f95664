"""Finding: applications recognised, places resolved, readings taken, and survey."""

from widetrail.finding.finder import Finder
from widetrail.finding.selection import Selection, Tally, tally
from widetrail.finding.survey import Surveyed, SurveyedItem, survey
from widetrail.finding.values import (
    Absent,
    Found,
    How,
    Installation,
    Known,
    Nowhere,
    Unknown,
    Value,
    Where,
    show_value,
)  # fmt: skip

__all__ = [
    "Absent", "Finder", "Found", "How", "Installation", "Known", "Nowhere", "Selection",
    "Surveyed", "SurveyedItem", "Tally", "Unknown", "Value", "Where", "show_value", "survey",
    "tally",
]  # fmt: skip
