"""What is found on a machine: outcomes as types of their own, each with how it was found."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from widetrail.recipe.releases import Release

Value = str | int | float | bool | tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Known:
    """A value that was read, and from where (a machine path, a line or 0)."""

    value: Value
    source: str = ""
    line: int = 0

    def __str__(self) -> str:
        return show_value(self.value)


@dataclass(frozen=True, slots=True)
class Unknown:
    """A value that could not be read, with the reason. It is never zero or empty.

    ``absent`` tells that all could be read and the value simply does not stand there.
    """

    reason: str
    absent: bool = False

    def __str__(self) -> str:
        return f"unknown ({self.reason})"


@dataclass(frozen=True, slots=True)
class How:
    """How a place was found: by the recipe's fixed path, or told by the program's settings.

    ``case`` is the number of the case of the recipe that was taken (from 0); ``source`` and
    ``line`` say where the program tells it, or why it was not asked.
    """

    rule: Literal["fixed", "told"]
    case: int = 0
    source: str = ""
    line: int = 0

    def __str__(self) -> str:
        if self.rule == "told":
            spot = f":{self.line}" if self.line else ""
            return f"told by {self.source}{spot}"
        return "where it is unless moved"


@dataclass(frozen=True, slots=True)
class Found:
    """A place that is there."""

    path: str
    kind: Literal["folder", "file"]
    how: How


@dataclass(frozen=True, slots=True)
class Absent:
    """A place whose path is known while nothing is there yet."""

    path: str
    kind: Literal["folder", "file"]
    how: How

    def __str__(self) -> str:
        return f"{self.path} is not there ({self.how})"


@dataclass(frozen=True, slots=True)
class Nowhere:
    """A place whose path cannot be told, with the reason."""

    reason: str

    def __str__(self) -> str:
        return self.reason


Where = Found | Absent | Nowhere


@dataclass(frozen=True, slots=True)
class Installation:
    """One installation of an application: the recognising case and sign, release and edition."""

    case: int
    sign: str
    release: Release | None
    edition: str
    unknown: tuple[str, ...] = ()


def show_value(value: Value) -> str:
    """Return a value for people."""
    if isinstance(value, bool):
        return "yes" if value else "no"
    return ", ".join(value) if isinstance(value, tuple) else str(value)
