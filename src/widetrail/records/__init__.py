"""Records: merging stores of letters, contacts, bookmarks and the like, and converting them."""

from widetrail.formats.record import Duplicates
from widetrail.records.merging import Merge
from widetrail.records.values import FieldMerged, Merged, NewFile, Policy, Sort, Store

__all__ = ["Duplicates", "FieldMerged", "Merge", "Merged", "NewFile", "Policy", "Sort", "Store"]
