"""Commands of the application's that print what a person would see."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Any, Literal

from pydantic import BeforeValidator, Field

from widetrail.formats.documents import Model
from widetrail.recipe.conditions import one_or_many
from widetrail.recipe.text_types import ArgumentText

ExitStatuses = Annotated[tuple[int, ...], BeforeValidator(one_or_many)]


class Printout(Model):
    """A command that prints what a person would see.

    ``run`` names the program and its arguments, ``stdin`` a line that it is given, in which names
    in braces may stand that the recipe asks for. It ends with one of ``exit``. ``on`` a copy of the
    machine is where it is run that changes its files by being started.
    """

    run: tuple[ArgumentText, ...] = Field(min_length=1)
    stdin: ArgumentText | None = None
    exit: ExitStatuses = (0,)
    on: Literal["machine", "copy"] = "machine"


def _by_its_command(value: Any) -> Any:
    """Take an argument list alone as what is run."""
    return value if isinstance(value, Mapping | Model) else {"run": value}


AnyPrintout = Annotated[Printout, BeforeValidator(_by_its_command)]
