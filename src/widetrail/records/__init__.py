"""Records: merging stores of letters, contacts, bookmarks and the like, and converting them."""

from widetrail.records.merging import Duplicates, Merge, Merged, NewFile, Policy, Sort, Store

__all__ = ["Duplicates", "Merge", "Merged", "NewFile", "Policy", "Sort", "Store"]
