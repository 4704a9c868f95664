"""Finding: applications recognised, places resolved, readings taken, cards and survey."""

from widetrail.finding.atlas import Atlas, Moved
from widetrail.finding.card import card_facts, installation_facts, make_card, read_card, where_facts
from widetrail.finding.disks import Tick
from widetrail.finding.finder import Finder
from widetrail.finding.judging import condition_holds
from widetrail.finding.selection import Selection, Tally, entries_of, tally, with_journals
from widetrail.finding.several import Pair, Unpaired, pair
from widetrail.finding.stock import Group, Stock
from widetrail.finding.survey import Surveyed, SurveyedItem, survey
from widetrail.finding.values import (
    Absent,
    Answer,
    ByPart,
    Found,
    How,
    Installation,
    Instance,
    Known,
    Nowhere,
    Several,
    Unknown,
    Value,
    Where,
    show_value,
)
from widetrail.finding.whole import Survey, near, survey_all

__all__ = [
    "Absent",
    "Answer",
    "Atlas",
    "ByPart",
    "Finder",
    "Found",
    "Group",
    "How",
    "Installation",
    "Instance",
    "Known",
    "Moved",
    "Nowhere",
    "Pair",
    "Selection",
    "Several",
    "Stock",
    "Survey",
    "Surveyed",
    "SurveyedItem",
    "Tally",
    "Tick",
    "Unknown",
    "Unpaired",
    "Value",
    "Where",
    "card_facts",
    "condition_holds",
    "entries_of",
    "installation_facts",
    "make_card",
    "near",
    "pair",
    "read_card",
    "show_value",
    "survey",
    "survey_all",
    "tally",
    "where_facts",
    "with_journals",
]
