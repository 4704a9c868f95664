"""What a step would do by what both machines hold while a plan is made; nothing is changed."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import field
from datetime import datetime
from typing import TYPE_CHECKING, Protocol

from widetrail.lazily import dataclass
from widetrail.machine import Machine
from widetrail.recipe.settings import Settings
from widetrail.steps.step import Step

if TYPE_CHECKING:  # few moves merge records
    from widetrail.records import FieldMerged, Sort


class Sight(Protocol):
    """Both machines as a plan sees them, both within reach."""

    old: Machine
    new: Machine
    now: datetime

    def settings(self, step: Step) -> Settings:
        """Return the recipe's settings that a step comes from."""

    def old_place(self, item: str) -> str:
        """Return where the item's place is on old."""

    def on_new(self, step: Step, template: str) -> str | None:
        """Return the path on new that a template stands for, if it is known."""


@dataclass(frozen=True)
class Foreseen:
    """What would come of records that are merged.

    ``held`` is how many the store holds, ``count`` how many of the sources are of each sort,
    ``names`` the first of each, and ``fields`` the first that are merged in which two records
    differ. ``trouble`` is why that is not known.
    """

    to: str
    held: int = 0
    count: Mapping[Sort, int] = field(default_factory=dict)
    names: Mapping[Sort, tuple[str, ...]] = field(default_factory=dict)
    fields: tuple[FieldMerged, ...] = ()
    trouble: str = ""
