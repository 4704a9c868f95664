"""What a recipe says of ``copy``."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Annotated

from pydantic import AfterValidator, Field

from widetrail.recipe.settings import Settings, StepText
from widetrail.recipe.templates import check_path

PARCEL = "{parcel}"


def _check_target(text: str) -> str:
    return check_path(text) if text else text


class CopySettings(Settings):
    """The settings of ``copy``: the path it goes to, if that is not the item's place."""

    of_place = True

    to: Annotated[str, AfterValidator(_check_target)] = Field("", alias="copy")

    @property
    def fills_parcel(self) -> bool:
        return True

    def templates(self) -> Iterator[StepText]:
        if self.to:
            yield StepText(("copy",), "path", self.to)
