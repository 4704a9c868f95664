"""The values of a field report: what a maintainer gets of a move that went wrong."""

from __future__ import annotations

import json
from typing import Any, Literal

from pydantic import Field

from widetrail.errors import InputUnusable
from widetrail.formats.documents import Model
from widetrail.formats.stored_values import plain_values, why_not
from widetrail.planning import Plan
from widetrail.recipe import Station


class FieldRecipe(Model):
    """A recipe that the move was planned with: its file's SHA-256 and its text."""

    id: str
    revision: int
    sha256: str
    text: str


class StructureEntry(Model):
    """A name below the place of an item, which is made up, with its kind and size in bytes."""

    path: str
    kind: Literal["file", "folder", "link", "other"]
    size: int = 0


class Structure(Model):
    """The names below a place; ``left_out`` is how many more there are."""

    names: tuple[StructureEntry, ...] = ()
    left_out: int = 0


class FieldFile(Model):
    """What stands in a field report.

    ``plan`` is the plan, ``logbook`` what the parcel tells of each leg, ``journal`` what this
    computer does (``here`` is which of the move it is), ``refused`` what a walk is refused for
    here now; ``releases`` are those of the programs here. ``packed`` are the names in the parcel by
    item, ``there`` those in the item's place on this computer. Names of the person's are made up
    throughout; times are seconds since the plan.
    """

    field: Literal[1] = 1
    widetrail: str
    python: str
    system: str
    here: Station | None = None
    recipes: tuple[FieldRecipe, ...]
    plan: dict[str, Any]
    logbook: tuple[dict[str, Any], ...] = ()
    journal: tuple[dict[str, Any], ...] = ()
    refused: dict[str, Any] | None = None
    releases: dict[str, dict[str, str]] = Field(default_factory=dict)
    packed: dict[str, Structure] = Field(default_factory=dict)
    there: dict[str, Structure] = Field(default_factory=dict)

    @classmethod
    def read(cls, data: bytes, where: str) -> FieldFile:
        """Return the field report that was written down as ``data``.

        Raises:
            InputUnusable: It is none.
        """
        try:
            read = cls.model_validate(plain_values(json.loads(data)))
            Plan.model_validate(read.plan)
        except (ValueError, RecursionError) as error:
            what = "is no field report"
            raise InputUnusable(what, where=where, why=why_not(error)) from error
        return read

    def text(self) -> str:
        """Return it as a file has it."""
        told = self.model_dump(mode="json", exclude_none=True)
        return f"{json.dumps(told, indent=1, ensure_ascii=False)}\n"
