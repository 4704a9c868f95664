"""Reports from the field: what a maintainer needs of a move that went wrong, and nothing more."""

from widetrail.field.field_file import FieldFile
from widetrail.field.made_up_names import MadeUpNames, load_names, store_names
from widetrail.field.making import SeenHere, hidden_names, make_field_report
from widetrail.field.outcomes_told import StepTold, steps_of
from widetrail.field.own_words import own_words, public_names
from widetrail.field.rebuilding import (
    Rebuilt,
    as_recorded,
    item_name,
    read_rehearsal,
    rebuild,
    write_rehearsal,
)

__all__ = [
    "FieldFile",
    "MadeUpNames",
    "Rebuilt",
    "SeenHere",
    "StepTold",
    "as_recorded",
    "hidden_names",
    "item_name",
    "load_names",
    "make_field_report",
    "own_words",
    "public_names",
    "read_rehearsal",
    "rebuild",
    "steps_of",
    "store_names",
    "write_rehearsal",
]
