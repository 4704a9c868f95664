"""What a recipe says of ``wait``."""

from __future__ import annotations

from collections.abc import Mapping
from typing import ClassVar

from pydantic import Field

from widetrail.recipe.conditions import Condition, Duration
from widetrail.recipe.settings import Settings
from widetrail.recipe.text_types import Name, Said


class WaitSettings(Settings):
    """The settings of ``wait``: the readings that must hold, and for how long at most."""

    for_licences = True
    noticed_by: ClassVar = {"within": "one that waits longer"}

    wait: dict[Name, Condition] = Field(min_length=1)
    within: Duration = "1 h"
    title: Said | None = None

    def conditions(self) -> Mapping[str, Mapping[str, Condition]]:
        return {"wait": self.wait}

    @property
    def waits(self) -> bool:
        return True
