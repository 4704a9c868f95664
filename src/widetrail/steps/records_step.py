"""The step that a merge of records becomes, what it takes, and what is known of it."""

from __future__ import annotations

from typing import Literal, Protocol

from pydantic import Field

from widetrail.formats.stored_values import Count, Text
from widetrail.records import Duplicates
from widetrail.steps.contexts import Cargo, OfItem, Work
from widetrail.steps.outcomes import Facts
from widetrail.steps.records_settings import ToldStore
from widetrail.steps.step import Step


class Has(Work, OfItem, Cargo, Protocol):
    """What merging records takes."""


class RecordsStep(Step):
    """Records of ``sources`` that are merged into ``target``; ``only``, ``without`` are words.

    ``chosen`` are the values that a field must have, by the names of fields.
    """

    kind: Literal["records"] = "records"
    target: ToldStore
    sources: tuple[ToldStore, ...]
    duplicates: Duplicates
    into: tuple[str, ...] = ()
    by_content: bool = False
    only: tuple[str, ...] = ()
    without: tuple[str, ...] = ()
    chosen: dict[str, tuple[str, ...]] = Field(default_factory=dict)

    @property
    def merges_into(self) -> str:
        return self.target.path


class RecordsFacts(Facts):
    """What came of a merge.

    It tells how many records the store held before, how many came to it (``added``) and became
    others (``changed``), were the same, left since another of the same identity is there
    (``left``), or not wanted. ``left_names`` are the first of those left, ``lost`` what the store
    cannot hold, and of how many.
    """

    to: Text = ""
    held: Count = 0
    added: Count = 0
    changed: Count = 0
    same: Count = 0
    left: Count = 0
    unwanted: Count = 0
    left_names: tuple[Text, ...] = ()
    lost: dict[Text, Count] = Field(default_factory=dict)

    @property
    def is_nothing(self) -> bool:
        return not (self.added or self.changed or self.same or self.left)
