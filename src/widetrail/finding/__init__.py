"""Finding: applications recognised, places resolved, readings taken, cards and survey."""

from widetrail.finding.atlas import Atlas, Moved
from widetrail.finding.card import (
    CardFacts,
    card_facts,
    installation_facts,
    make_card,
    read_card,
    where_facts,
)
from widetrail.finding.condition_check import condition_holds
from widetrail.finding.finder import Finder
from widetrail.finding.plural_places import Pair, Unpaired, is_called, pair
from widetrail.finding.recipe_survey import Surveyed, SurveyedItem, survey
from widetrail.finding.recognising import find_application, why_not_here
from widetrail.finding.selection import Selection, Tally, entries_of, tally, with_journals
from widetrail.finding.values import (
    Absent,
    Answer,
    ByPart,
    Found,
    Held,
    How,
    Installation,
    Instance,
    Known,
    Nowhere,
    Recognised,
    Said,
    Several,
    Unknown,
    Value,
    Where,
    show_value,
)

__all__ = [
    "Absent",
    "Answer",
    "Atlas",
    "ByPart",
    "CardFacts",
    "Finder",
    "Found",
    "Held",
    "How",
    "Installation",
    "Instance",
    "Known",
    "Moved",
    "Nowhere",
    "Pair",
    "Recognised",
    "Said",
    "Selection",
    "Several",
    "Surveyed",
    "SurveyedItem",
    "Tally",
    "Unknown",
    "Unpaired",
    "Value",
    "Where",
    "card_facts",
    "condition_holds",
    "entries_of",
    "find_application",
    "installation_facts",
    "is_called",
    "make_card",
    "pair",
    "read_card",
    "show_value",
    "survey",
    "tally",
    "where_facts",
    "why_not_here",
    "with_journals",
]
