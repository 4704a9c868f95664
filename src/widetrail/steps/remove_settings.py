"""What a recipe says of ``remove``."""

from __future__ import annotations

from collections.abc import Iterator

from widetrail.recipe.settings import Settings, StepText
from widetrail.recipe.text_types import PathText


class RemoveSettings(Settings):
    """The settings of ``remove``: the path that this run itself put there."""

    remove: PathText

    def templates(self) -> Iterator[StepText]:
        yield StepText(("remove",), "path", self.remove)
