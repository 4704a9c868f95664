"""What a recipe says of ``detach``."""

from __future__ import annotations

from widetrail.recipe.settings import Settings


class DetachSettings(Settings):
    """The settings of ``detach``; it has none."""

    detach: str = ""
