"""What is found on a machine: outcomes as types of their own, each with how it was found."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import field
from typing import Literal

from widetrail.lazily import dataclass
from widetrail.recipe.places import PlaceKind
from widetrail.recipe.releases import Release

Value = str | int | float | bool | tuple[str, ...]


@dataclass(frozen=True)
class Known:
    """A value that was read, and from where (a machine path or registry key, a line or 0)."""

    value: Value
    source: str = ""
    line: int = 0

    def __str__(self) -> str:
        return show_value(self.value)


@dataclass(frozen=True)
class Unknown:
    """A value that could not be read, with the reason. It is never zero or empty.

    ``absent`` tells that all could be read and the value simply does not stand there.
    """

    reason: str
    absent: bool = False

    def __str__(self) -> str:
        return f"unknown ({self.reason})"


@dataclass(frozen=True)
class ByPart:
    """One answer for each value of a part; each is known or not by itself."""

    part: str
    answers: tuple[tuple[str, Known | Unknown], ...]

    @property
    def total(self) -> Known | Unknown:
        """The sum, where one number is wanted; unknown as soon as one answer is."""
        total: int | float = 0
        for name, answer in self.answers:
            if isinstance(answer, Unknown):
                return Unknown(f"{name}: {answer.reason}")
            if isinstance(answer.value, bool) or not isinstance(answer.value, int | float):
                return Unknown(f"{name}: {answer} is not a number")
            total += answer.value
        return Known(total)

    def __str__(self) -> str:
        return ", ".join(f"{name} {answer}" for name, answer in self.answers) or "none"


Answer = Known | Unknown | ByPart

Rule = Literal["fixed", "told", "first of", "follows", "each", "index", "pinned", "chosen", "held"]

_WORDS: Mapping[str, str] = {
    "fixed": "default location",
    "first of": "the first of {among} that exists",
    "follows": "as {source} was chosen",
    "each": "one of what {source} matches",
    "index": "listed in {source}",
    "pinned": "as it was before the first step here",
    "chosen": "the folder that was chosen",
    "held": "kept by the program itself",
}


@dataclass(frozen=True)
class How:
    """How a place was found.

    ``case`` is the number of the recipe's case that was taken (from 0); ``source`` and ``line``
    say what told it; ``among`` are the paths it was chosen from.
    """

    rule: Rule
    case: int = 0
    source: str = ""
    line: int = 0
    among: tuple[str, ...] = ()

    def __str__(self) -> str:
        if self.rule == "told":
            spot = f", line {self.line}" if self.line else ""
            return f"set in {self.source}{spot}"
        return _WORDS[self.rule].format(source=self.source, among=", ".join(self.among))


@dataclass(frozen=True)
class Said:
    """What a person said of the places of a recipe on one machine, by their names.

    ``at`` are the paths where they are to be; ``real`` tells which of several is the real one, by
    its name, its folder's name or its path.
    """

    at: Mapping[str, str] = field(default_factory=dict)
    real: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class Found:
    """A place that is there; ``synced`` names the service that keeps it in step, if any."""

    path: str
    kind: PlaceKind
    how: How
    synced: str = ""


@dataclass(frozen=True)
class Absent:
    """A place whose path is known while nothing is there yet."""

    path: str
    kind: PlaceKind
    how: How

    def __str__(self) -> str:
        return f"{self.path} is not there ({self.how})"


@dataclass(frozen=True)
class Nowhere:
    """A place whose path cannot be told, with the reason."""

    reason: str

    def __str__(self) -> str:
        return self.reason


@dataclass(frozen=True)
class Instance:
    """One folder or file of a place that is several.

    ``name`` is what the program calls it; ``in_use`` is whether the program uses it, ``None``
    where nothing tells.
    """

    path: str
    name: str
    in_use: bool | None
    how: How
    synced: str = ""
    kind: PlaceKind = "folder"


@dataclass(frozen=True)
class Several:
    """A place that is several folders or files, and what looked like one but is none, with why.

    ``source`` is the program's index that lists them, if there is one.
    """

    instances: tuple[Instance, ...]
    rejected: tuple[tuple[str, str], ...] = ()
    source: str = ""

    def __str__(self) -> str:
        names = ", ".join(i.name for i in self.instances)
        return f"{len(self.instances)} found: {names}" if self.instances else "not found"


def things_at(where: object) -> list[tuple[str, PlaceKind]]:
    """Return what is there at a place, by path and kind: one thing, each of several, or nothing."""
    if isinstance(where, Several):
        return [(instance.path, "folder") for instance in where.instances]
    return [(where.path, where.kind)] if isinstance(where, Found) else []


@dataclass(frozen=True)
class Held:
    """What lies in no place: the program itself keeps it, in a server, say."""

    def __str__(self) -> str:
        return _WORDS["held"]


Where = Found | Absent | Nowhere | Several | Held


@dataclass(frozen=True)
class Installation:
    """One installation of an application: the recognising case and sign, release and edition.

    ``unknown`` says what could not be read of it, with the reasons.
    """

    case: int
    sign: str
    release: Release | None
    edition: str
    unknown: tuple[str, ...] = ()


@dataclass(frozen=True)
class Recognised:
    """The installations of an application that were recognised on a machine; none if it is not
    there."""

    installations: tuple[Installation, ...] = ()

    @property
    def latest(self) -> Installation | None:
        """The one of the latest release, which is the one that is meant."""
        return max(self.installations, key=_order, default=None)


def _order(installation: Installation) -> tuple[tuple[int, int, str], ...]:
    return installation.release.order if installation.release is not None else ()


def part_label(values: Iterable[str]) -> str:
    """Return by what a value of a reading by part is known: the parts' values, in their order."""
    return " / ".join(values)


def show_value(value: Value) -> str:
    """Return a value for people."""
    if isinstance(value, bool):
        return "yes" if value else "no"
    return ", ".join(value) if isinstance(value, tuple) else str(value)
