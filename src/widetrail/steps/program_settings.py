"""What a recipe says of ``open``, ``close`` and ``first_start``."""

from __future__ import annotations

from collections.abc import Iterator

from widetrail.recipe.settings import Settings
from widetrail.recipe.text_types import Name


class OpenSettings(Settings):
    """The settings of ``open``; it has none."""

    open: str = ""


class CloseSettings(Settings):
    """The settings of ``close``; it has none."""

    close: str = ""


class FirstStartSettings(Settings):
    """The settings of ``first_start``: the place that the program makes."""

    first_start: Name

    def places(self) -> Iterator[tuple[str, str]]:
        yield "first_start", self.first_start
