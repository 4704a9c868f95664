"""What a recipe says of ``write``."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Annotated, Literal

from pydantic import AfterValidator, Field, model_validator

from widetrail.formats.documents import YesNo
from widetrail.formats.flaws import flaw
from widetrail.formats.forms import FORMS
from widetrail.recipe.readings import InForm
from widetrail.recipe.settings import Role, Settings, StepText
from widetrail.recipe.text_types import ArgumentText, PathText


def _check_at(at: str) -> str:
    if not at.strip("/"):
        raise flaw("place", "expected where the value stands, such as section/key or /a/key")
    return at


class WrittenValue(InForm):
    """A value and where it stands: the file by its form, or a store, and the place in it.

    In a database ``at`` is ``table.column``, and ``row`` are columns with their values in the one
    row that is meant. ``keeps_secret`` tells that the value may be a secret, since the program
    itself keeps it there.
    """

    role = "write"
    code = "file"
    what = "file or store"

    in_file_: Mapping[str, PathText] = Field(default_factory=dict)
    at: Annotated[str, AfterValidator(_check_at)]
    row: dict[str, str] = Field(default_factory=dict, alias="where")
    value: ArgumentText
    as_: Literal["text", "path"] = Field("text", alias="as")
    keeps_secret: YesNo = False

    @model_validator(mode="after")
    def _fits(self) -> WrittenValue:
        form = FORMS[self.form]
        if form.check_write_at is not None:
            form.check_write_at(self.at)
        if bool(self.row) != (form.database is not None):
            raise flaw("place", '"where" names the row of a database, and belongs to "sqlite"')
        return self


class WriteSettings(Settings):
    """The settings of ``write``."""

    write: WrittenValue

    def templates(self) -> Iterator[StepText]:
        if self.write.in_file:
            yield StepText(("write", self.write.form), "written", str(self.write.where))
        role: Role = "kept" if self.write.keeps_secret else "written"
        yield StepText(("write", "value"), role, self.write.value)
