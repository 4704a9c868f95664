"""What a recipe says of records that are merged, the step it becomes, and what is known of it."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Annotated, Literal

from pydantic import BeforeValidator, Field, model_validator

from widetrail.formats.documents import Model
from widetrail.formats.flaws import flaw
from widetrail.formats.forms import FORMS
from widetrail.formats.record import Converts, Declared, MergesFields, Records
from widetrail.recipe.conditions import Condition, one_or_many
from widetrail.recipe.globs import check_glob
from widetrail.recipe.readings import InForm
from widetrail.recipe.settings import Settings, StepText
from widetrail.recipe.text_types import ArgumentText, Name, PathText, Said
from widetrail.records import Duplicates

PARCEL = "{parcel}/"


class _Store(InForm):
    """A store of records: the form names where it is; the rest is what the form needs to know.

    ``at`` is where the records stand in it, ``fields`` the columns or members by the names of what
    they say, ``key`` those that are a row's identity.
    """

    role = "records"
    code = "store"
    what = "store of records"

    at: str = ""
    fields: dict[str, str] = Field(default_factory=dict)
    key_: Annotated[tuple[str, ...], BeforeValidator(one_or_many)] = Field((), alias="key")
    quoting: Literal["o", "rd", "cl", "cl2"] | None = None
    delimiter: str | None = None
    encoding: str | None = None
    quotes: Literal["all", "needed", "none"] | None = None

    @model_validator(mode="after")
    def _fits(self) -> _Store:
        given = [name for name in _OPTIONS if getattr(self, name) is not None]
        for name in given:
            if name not in self.records.options:
                raise flaw("store-option", f'"{name}" does not belong to "{self.form}"')
        if self.delimiter is not None and len(self.delimiter) != 1:
            raise flaw("store-option", "a delimiter is one character")
        if self.encoding is not None:
            try:
                "".encode(self.encoding)
            except LookupError:
                raise flaw("store-option", f'"{self.encoding}" is not an encoding') from None
        return self

    @property
    def records(self) -> Records:
        """How the form holds records."""
        records = FORMS[self.form].records
        assert records is not None, "only such forms have the role"
        return records

    @property
    def told(self) -> ToldStore:
        """The store as a plan holds it; its path is still to be filled."""
        options = {n: str(getattr(self, n)) for n in _OPTIONS if getattr(self, n) is not None}
        own = {"at": self.at, "fields": self.fields, "key": self.key_, "options": options}
        return ToldStore.model_validate({"form": self.form, "path": str(self.where), **own})


_OPTIONS = ("quoting", "delimiter", "encoding", "quotes")


class TargetStore(_Store):
    """The store that records come to."""

    in_file_: Mapping[str, PathText] = Field(default_factory=dict)


class SourceStore(_Store):
    """A store that records come from: a file that a program made in the parcel, or files of the
    item below its place, as a glob."""

    in_file_: Mapping[str, ArgumentText] = Field(default_factory=dict)

    @model_validator(mode="after")
    def _lies(self) -> SourceStore:
        where = str(self.where)
        if not where.startswith(PARCEL):
            if "{" in where:
                hint = 'Write it like "{parcel}/letters.mbox", or as a glob below the item'
                raise flaw("source", f'"{where}" is neither made nor packed', hint)
            check_glob(where)
        return self

    @property
    def is_made(self) -> bool:
        """Whether a program makes it in the parcel."""
        return str(self.where).startswith(PARCEL)


class RecordsSettings(Settings):
    """The settings of ``records``.

    ``into`` are the names of the folders, outermost first, that all records come to; ``identity``
    is ``content`` where records are told apart by what they say alone. ``only`` and ``without``
    are conditions on what a record says, by the names of its fields: it comes where all of ``only``
    hold and none of ``without``. ``folder`` is where it lies, ``moment`` when it is of. ``parts``
    are parts of the item by the field that tells them: where the person chose some values of a
    part, only records come in which the field is one of these.
    """

    checks_itself = True

    records: TargetStore
    from_: Annotated[
        tuple[SourceStore, ...], BeforeValidator(one_or_many), Field(min_length=1, alias="from")
    ]
    duplicates: Duplicates = "skip"
    into: Annotated[tuple[Said, ...], BeforeValidator(one_or_many)] = ()
    identity: Literal["own", "content"] = "own"
    only: dict[str, Condition] = Field(default_factory=dict)
    without: dict[str, Condition] = Field(default_factory=dict)
    parts: dict[Name, Said] = Field(default_factory=dict)

    @model_validator(mode="after")
    def _goes_together(self) -> RecordsSettings:
        target = self.records.records
        for source in self.from_:
            same = source.records.kind == target.kind
            if not same and not isinstance(target, Converts):
                kinds = f"{source.records.kind}s are not brought to a store of {target.kind}s"
                raise flaw("records-kind", kinds)
        if self.duplicates == "merge fields" and not isinstance(target, MergesFields):
            raise flaw("merge-fields", f'"{self.records.form}" has no fields that can be merged')
        if self.into and not (target.by_folder or target.in_folder):
            raise flaw("records-into", f'"{self.records.form}" has no folders')
        return self

    def templates(self) -> Iterator[StepText]:
        yield StepText(("records", self.records.form), "path", str(self.records.where))
        for number, source in enumerate(self.from_):
            if source.is_made:
                yield StepText(("from", number, source.form), "argument", str(source.where))

    @property
    def treats(self) -> tuple[Duplicates, ...]:
        more = isinstance(self.records.records, MergesFields)
        words: tuple[Duplicates, ...] = ("skip", "replace", "keep both")
        return (*words, "merge fields") if more else words

    def chooses(self, part: str) -> bool:
        return part in self.parts

    @property
    def fills_parcel(self) -> bool:
        return any(not source.is_made for source in self.from_)


class ToldStore(Model):
    """A store of records, as a plan holds it; ``path`` is a template."""

    form: str
    path: str
    at: str = ""
    fields: dict[str, str] = Field(default_factory=dict)
    key: tuple[str, ...] = ()
    options: dict[str, str] = Field(default_factory=dict)

    @property
    def declared(self) -> Declared:
        """What is declared of it."""
        return Declared(self.at, self.fields, self.key, self.options)

    @property
    def records(self) -> Records:
        """How its form holds records."""
        records = FORMS[self.form].records
        assert records is not None, "a plan is held against its recipes"
        return records
