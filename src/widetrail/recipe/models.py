"""The frozen values a recipe is made of.

They are made in one place, the loader; nothing here reads a file or a machine.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Annotated, Any, Literal

from pydantic import (
    AfterValidator,
    BeforeValidator,
    Discriminator,
    Field,
    Tag,
    ValidationInfo,
    model_validator,
)

from widetrail.formats.checked import TAG, Model, Unknown, expected_one_of, flaw
from widetrail.formats.interface import Platform
from widetrail.recipe.globs import check_glob
from widetrail.recipe.releases import check_releases
from widetrail.recipe.templates import check_path, parse_template

Station = Literal["old", "new"]
Existing = Literal["put aside", "stop"]

READING_FORMS = ("ini", "json", "sqlite", "text", "file", "files", "size", "modified")
ADDRESSED = ("ini", "json", "sqlite", "text")
"""The forms in which ``at`` says which value is meant."""

_NAME = re.compile(r"[a-z][a-z0-9_]*")
_ID = re.compile(r"[a-z][a-z0-9]*(-[a-z0-9]+)*")


def _check_name(text: str) -> str:
    if not _NAME.fullmatch(text):
        raise flaw("name", f'"{text}" is no name', "Names are small letters, digits and _")
    return text


def _check_id(text: str) -> str:
    if not _ID.fullmatch(text):
        hint = "An id is small letters and digits in groups joined by -"
        raise flaw("id", f'"{text}" is no id', hint)
    return text


def _check_template(text: str) -> str:
    parse_template(text)
    return text


def _check_said(text: str) -> str:
    if not text.strip():
        raise flaw("empty", "nothing stands here")
    return text


def _one_or_many(value: Any) -> Any:
    return value if isinstance(value, list) else [value]


def _is_mapping(value: Any) -> str:
    return f"{TAG}map" if isinstance(value, Mapping | PerPlatform) else f"{TAG}text"


Name = Annotated[str, AfterValidator(_check_name)]
Said = Annotated[str, AfterValidator(_check_said)]
PathText = Annotated[str, AfterValidator(check_path)]
ArgumentText = Annotated[str, AfterValidator(_check_template)]
Glob = Annotated[str, AfterValidator(check_glob)]
Range = Annotated[str, AfterValidator(check_releases)]


class PerPlatform(Model):
    """One text for each platform; ``else`` for those not named."""

    windows: PathText | None = None
    macos: PathText | None = None
    linux: PathText | None = None
    otherwise: PathText | None = Field(None, alias="else")

    def on(self, platform: Platform) -> str | None:
        """Return the text for ``platform``, or ``None`` when the recipe has none for it."""
        own: str | None = getattr(self, platform)
        return self.otherwise if own is None else own


PathChoice = Annotated[
    Annotated[PathText, Tag(f"{TAG}text")] | Annotated[PerPlatform, Tag(f"{TAG}map")],
    Discriminator(_is_mapping),
]


def on_platform(choice: str | PerPlatform, platform: Platform) -> str | None:
    """Return what ``choice`` says for ``platform``, or ``None`` where it says nothing."""
    return choice if isinstance(choice, str) else choice.on(platform)


class For(Model):
    """The condition of a case: it is silent where it does not hold."""

    platform: Platform | None = None
    system: Range | None = None
    release: Range | None = None
    edition: Said | None = None


class Reading(Model):
    """A named way to get a value: one key names the form and where it is."""

    ini: PathChoice | None = None
    json_: PathChoice | None = Field(None, alias="json")
    sqlite: PathChoice | None = None
    text: PathChoice | None = None
    file: PathChoice | None = None
    files: PathChoice | None = None
    size: PathChoice | None = None
    modified: PathChoice | None = None
    at: str | None = None
    as_: Literal["number", "text", "path", "list", "set", "count", "yes-no"] | None = Field(
        None, alias="as"
    )
    pick: Literal["first", "last"] | None = None

    @model_validator(mode="after")
    def _one_form(self) -> Reading:
        given = [form for form in READING_FORMS if self._path(form) is not None]
        if len(given) != 1:
            names = " and ".join(f'"{g}"' for g in given) or "none"
            hint = f"The forms are {', '.join(READING_FORMS)}"
            raise flaw("reading-form", f"expected one form of reading; found {names}", hint)
        if given[0] in ADDRESSED and self.at is None:
            raise flaw("reading-at", f'"{given[0]}" needs "at": which value in it')
        if given[0] not in ADDRESSED and self.at is not None:
            raise flaw("reading-at", f'"{given[0]}" has no "at"')
        if given[0] == "text":
            self._check_expression()
        return self

    def _check_expression(self) -> None:
        assert self.at is not None
        try:
            groups = re.compile(self.at).groups
        except re.error as error:
            raise flaw("expression", f'"{self.at}" is no regular expression: {error}') from error
        if groups != 1:
            raise flaw("expression", f"expected one group in the expression; found {groups}")

    def _path(self, form: str) -> str | PerPlatform | None:
        choice: str | PerPlatform | None = getattr(self, "json_" if form == "json" else form)
        return choice

    @property
    def form(self) -> str:
        """The form: one of ``READING_FORMS``."""
        return next(form for form in READING_FORMS if self._path(form) is not None)

    @property
    def where(self) -> str | PerPlatform:
        """The path template of the file that is read."""
        where = self._path(self.form)
        assert where is not None
        return where


class Sign(Model):
    """What shows that the application is there: a file or a folder."""

    file: PathChoice | None = None
    folder: PathChoice | None = None

    @model_validator(mode="after")
    def _one(self) -> Sign:
        if (self.file is None) == (self.folder is None):
            raise flaw("sign", 'expected one of "file" and "folder"')
        return self

    @property
    def where(self) -> str | PerPlatform:
        """The path template of the sign."""
        where = self.file if self.file is not None else self.folder
        assert where is not None
        return where


class Recognition(Model):
    """One case of recognising the application."""

    for_: For | None = Field(None, alias="for")
    sign: Sign
    release: Reading | None = None
    edition: Reading | None = None


class Place(Model):
    """One case of where something is: a fixed folder or file, unless the program tells."""

    for_: For | None = Field(None, alias="for")
    folder: PathChoice | None = None
    file: PathChoice | None = None
    told_by: Reading | None = None

    @model_validator(mode="after")
    def _one(self) -> Place:
        if (self.file is None) == (self.folder is None):
            raise flaw("place", 'expected one of "folder" and "file"')
        return self

    @property
    def kind(self) -> Literal["folder", "file"]:
        """What the place is."""
        return "folder" if self.folder is not None else "file"

    @property
    def where(self) -> str | PerPlatform:
        """The path template that holds unless the program tells another."""
        where = self.folder if self.folder is not None else self.file
        assert where is not None
        return where


class Check(Model):
    """A reading compared between old and new."""

    compare: Literal["same", "at least"] = "same"


class Loss(Model):
    """Something that is not carried, and what to do about it."""

    what: Said
    remedy: Said


class StepRule(Model):
    """One step as the recipe states it: its kind and that kind's own settings."""

    kind: str
    rule: Model

    @classmethod
    def known_keys(cls) -> frozenset[str]:
        """Return nothing: a step's keys are judged by its kind."""
        return frozenset()

    @model_validator(mode="wrap")
    @classmethod
    def _by_kind(cls, data: Any, handler: Any, info: ValidationInfo) -> StepRule:
        kinds = info.context.kinds if isinstance(info.context, Notation) else {}
        keys = [data] if isinstance(data, str) else list(data) if isinstance(data, dict) else []
        kind = next((str(k) for k in keys if k in kinds), None)
        if kind is None:
            raise expected_one_of("step-kind", str(keys[0]) if keys else "", sorted(kinds))
        settings = {kind: ""} if isinstance(data, str) else data
        rule = kinds[kind].model_validate(settings, context=info.context)
        return cls.model_construct(kind=kind, rule=rule)


class Notation(Unknown):
    """The context of loading a recipe: the known step kinds and the unknown keys met."""

    def __init__(self, kinds: Mapping[str, type[Model]]) -> None:
        super().__init__()
        self.kinds = kinds


class Leg(Model):
    """The steps done at one station without walking away."""

    old: tuple[StepRule, ...] | None = None
    new: tuple[StepRule, ...] | None = None

    @model_validator(mode="after")
    def _one(self) -> Leg:
        if (self.old is None) == (self.new is None):
            raise flaw("leg", 'expected one station: "old" or "new"')
        return self

    @property
    def station(self) -> Station:
        """Where the leg is done."""
        return "old" if self.old is not None else "new"

    @property
    def steps(self) -> tuple[StepRule, ...]:
        """The steps of the leg, in order."""
        return (self.old if self.old is not None else self.new) or ()


class Route(Model):
    """One way to move an item."""

    name: Said
    existing: Existing = "put aside"
    legs: tuple[Leg, ...] = Field(min_length=1)
    losses: tuple[Loss, ...] = ()


class Item(Model):
    """One thing a person would miss."""

    title: Said
    kind: Literal["data", "settings"] = "data"
    from_: Name = Field(alias="from")
    take: Annotated[tuple[Glob, ...], BeforeValidator(_one_or_many)] = ()
    leave: Annotated[tuple[Glob, ...], BeforeValidator(_one_or_many)] = ()
    checks: dict[Name, Check] = Field(default_factory=dict)
    losses: tuple[Loss, ...] = ()
    routes: tuple[Route, ...] = Field(min_length=1)


class Application(Model):
    """The program a recipe is for."""

    id: Annotated[str, AfterValidator(_check_id)]
    name: Said
    maker: str = ""
    releases: Range | None = None
    programs: dict[Name, PathChoice] = Field(default_factory=dict)
    screen: tuple[ArgumentText, ...] = ()
    lock: Annotated[tuple[PathChoice, ...], BeforeValidator(_one_or_many)] = ()


class Recipe(Model):
    """A whole recipe."""

    recipe: Literal["1"]
    revision: Annotated[int, Field(ge=1)]
    application: Application
    recognise: tuple[Recognition, ...] = Field(min_length=1)
    places: dict[Name, Annotated[tuple[Place, ...], BeforeValidator(_one_or_many)]]
    readings: dict[Name, Reading] = Field(default_factory=dict)
    items: dict[Name, Item] = Field(min_length=1)
