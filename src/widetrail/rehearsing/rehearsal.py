"""Rehearsal files: two machines, what is prepared, and the outcome that is expected."""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import BeforeValidator, Discriminator, Field, Tag, field_validator

from widetrail.errors import DocumentUnusable, InputUnusable
from widetrail.findings import errors_of
from widetrail.formats.checked import TAG, Model, check, flaw, read_text
from widetrail.parcel import Seal, make_seal
from widetrail.recipe import SUFFIX as RECIPE_SUFFIX
from widetrail.recipe import Loaded, load_recipe
from widetrail.recipe.conditions import one_or_many
from widetrail.rehearsing.maker import MakerFile
from widetrail.steps import KINDS
from widetrail.walking.hands import Given

SUFFIX = ".rehearsal.yaml"


def _value(raw: Any) -> Any:
    """Take a text that reads as a whole number as one; readings give numbers."""
    return int(raw) if isinstance(raw, str) and raw.lstrip("-").isdecimal() else raw


Expected = Annotated[int | str | tuple[str, ...], BeforeValidator(_value)]


class Side(Model):
    """One machine of a rehearsal, and what makes it another one than it is.

    ``with`` holds keys of its ``machine.yaml``, ``files`` texts by their path on the machine; then
    the commands of ``prepare`` are run.
    """

    machine: str
    with_: dict[str, Any] = Field(default_factory=dict, alias="with")
    files: dict[str, str] = Field(default_factory=dict)
    prepare: tuple[tuple[str, ...], ...] = ()


class ExpectedItem(Model):
    """What is expected of one item; what is left out is not judged, but that it is carried."""

    route: str | None = None
    checks: dict[str, Expected] = Field(default_factory=dict)
    losses: tuple[str, ...] | None = None


class SameButFor(Model):
    """What a program prints is the same but for the lines that match one of these expressions."""

    same_but_for: Annotated[tuple[str, ...], BeforeValidator(one_or_many)] = Field(min_length=1)

    @field_validator("same_but_for")
    @classmethod
    def _expressions(cls, expressions: tuple[str, ...]) -> tuple[str, ...]:
        for text in expressions:
            try:
                re.compile(text)
            except re.error as error:
                raise flaw("expression", f'"{text}" is no expression: {error}') from error
        return expressions


def _is_word(value: Any) -> str:
    return f"{TAG}text" if isinstance(value, str) else f"{TAG}map"


Screen = Annotated[
    Annotated[Literal["same"], Tag(f"{TAG}text")] | Annotated[SameButFor, Tag(f"{TAG}map")],
    Discriminator(_is_word),
]


class Expect(Model):
    """What is expected at the end, by item, and of what the program prints on both sides."""

    screen: Screen | None = None
    items: dict[str, ExpectedItem] = Field(min_length=1)


def _split(raw: Any) -> Any:
    if not isinstance(raw, dict):
        return raw
    own = {key: raw[key] for key in ("screen",) if key in raw}
    return {**own, "items": {key: value for key, value in raw.items() if key not in own}}


class RehearsalFile(Model):
    """A whole rehearsal file; ``sealed`` is the passphrase of the parcel, if it has one.

    Of several recipes the first is the one whose items and screen are meant.
    """

    rehearsal: str
    recipe: Annotated[tuple[str, ...], BeforeValidator(one_or_many)] = Field(min_length=1)
    old: Side
    new: Side
    between: Side | None = None
    only: tuple[str, ...] = ()
    without: tuple[str, ...] = ()
    choose: dict[str, dict[str, tuple[str, ...]]] = Field(default_factory=dict)
    outside: dict[str, Literal["carry", "leave"]] = Field(default_factory=dict)
    hands: dict[str, Given] = Field(default_factory=dict)
    sealed: str = ""
    maker: MakerFile | None = None
    release_after: Literal["verifying", "packing"] | None = None
    expect: Annotated[Expect, BeforeValidator(_split)]

    @property
    def all_hands(self) -> dict[str, Given]:
        """What the person answers and does, the parcel's passphrase too."""
        return {**({"parcel.seal": self.sealed} if self.sealed else {}), **self.hands}

    def seal(self) -> tuple[Seal, bytes] | None:
        """Return what the parcel is sealed with, if it is."""
        return make_seal(self.sealed) if self.sealed else None


@dataclass(frozen=True, slots=True)
class Rehearsal:
    """A rehearsal with where it lies, so that its recipe and machines are found beside it."""

    path: Path
    file: RehearsalFile

    def recipes(self) -> tuple[Loaded, ...]:
        """Load the recipes, which lie beside it.

        Raises:
            InputUnusable: One is not there.
            DocumentUnusable: One has findings.
        """
        paths = (self.path.parent / f"{name}{RECIPE_SUFFIX}" for name in self.file.recipe)
        return tuple(load_recipe(path, KINDS) for path in paths)


def load_rehearsal(path: Path) -> Rehearsal:
    """Load the rehearsal at ``path``.

    Raises:
        InputUnusable: It cannot be read.
        DocumentUnusable: It has findings.
    """
    value, _, findings = check(RehearsalFile, read_text(path), str(path))
    if value is None:
        raise DocumentUnusable(str(path), errors_of(findings))
    return Rehearsal(path, value)


def collect_rehearsals(paths: list[Path]) -> list[Path]:
    """Return the rehearsal files that ``paths`` name: files, and folders with all below them.

    Raises:
        InputUnusable: A path is not there, or holds no rehearsal.
    """
    found: list[Path] = []
    for path in paths:
        inside = sorted(path.rglob(f"*{SUFFIX}")) if path.is_dir() else [path]
        if not inside or not path.exists():
            why = f"it holds no *{SUFFIX}" if path.is_dir() else "there is no such file"
            raise InputUnusable("nothing to rehearse", where=str(path), why=why)
        found.extend(inside)
    return list(dict.fromkeys(found))
