"""Records: merging stores of letters, contacts, bookmarks and the like, and converting them."""

from __future__ import annotations

from typing import TYPE_CHECKING

from widetrail.formats.record import Duplicates
from widetrail.lazily import lazily

if TYPE_CHECKING:
    from widetrail.records.merging import Merge
    from widetrail.records.values import FieldMerged, Merged, NewFile, Policy, Sort, Store
else:
    __getattr__ = lazily(
        __name__,
        {
            "merging": ("Merge",),
            "values": ("FieldMerged", "Merged", "NewFile", "Policy", "Sort", "Store"),
        },
    )

__all__ = ["Duplicates", "FieldMerged", "Merge", "Merged", "NewFile", "Policy", "Sort", "Store"]
