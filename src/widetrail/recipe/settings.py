"""What a recipe says of one step, and what others must know of it without knowing its kind.

Each kind of step has a model of its own below ``Settings``. Lint, coverage, mutations and planning
ask it what stands in it; none of them names a kind or a key of one.
"""

from collections.abc import Iterator, Mapping
from keyword import iskeyword
from typing import Any, ClassVar, Literal, NamedTuple

from widetrail.formats.documents import Model
from widetrail.formats.record import Duplicates
from widetrail.recipe.conditions import Condition

Key = tuple[str | int, ...]
"""Where something stands below a step: its keys and numbers."""

Role = Literal["argument", "environment", "input", "made", "words", "written", "kept", "path"]
"""What a template is for: an argument of a program, its environment or input, a file that is made,
words for a person, a value that is written into a file, or a path."""


class StepText(NamedTuple):
    """A template in a step: where it stands below it, what it is for, and its text."""

    at: Key
    role: Role
    text: str


class Settings(Model):
    """The settings of one step of a recipe; each kind has its own."""

    for_licences: ClassVar[bool] = False
    """Whether the step may be one of a licence."""

    not_for_licences: ClassVar[tuple[str, ...]] = ()
    """Its keys that a licence's step may not have: what is given back would be a second one."""

    unordered: ClassVar[tuple[str, ...]] = ()
    """Its keys whose lists have no order."""

    not_empty: ClassVar[tuple[str, ...]] = ()
    """Its keys whose maps go with the last that they hold."""

    commands_at: ClassVar[tuple[str, ...]] = ()
    """Its keys that are commands: a program of the recipe, and its arguments."""

    noticed_by: ClassVar[Mapping[str, str]] = {}
    """By key, which rehearsal would notice a change of it; ``{value}`` is what stands there."""

    checks_itself: ClassVar[bool] = False
    """Whether it compares what arrived with what was to come, so that the item needs no check."""

    of_place: ClassVar[bool] = False
    """Whether it is about the item's own place, so that the item must have one."""

    def templates(self) -> Iterator[StepText]:
        """Give every template that stands in the step."""
        for key, command in self.commands():
            yield from (StepText((key, n), "argument", text) for n, text in enumerate(command))

    def under(self, key: str) -> Any:
        """Return what the recipe says under ``key``, or what holds without it."""
        return getattr(self, f"{key}_" if iskeyword(key) else key)

    def commands(self) -> Iterator[tuple[str, tuple[str, ...]]]:
        """Give each command that it may start, by its key."""
        for key in self.commands_at:
            if command := self.under(key):
                yield key, command

    def conditions(self) -> Mapping[str, Mapping[str, Condition]]:
        """Return by key the conditions on readings that must hold for it to be done."""
        return {}

    def places(self) -> Iterator[tuple[str, str]]:
        """Give the places that it names beside those in braces, each with its key."""
        yield from ()

    @property
    def part(self) -> str:
        """The part of the item for each of whose values it is done once, or an empty text."""
        return ""

    @property
    def names_told(self) -> tuple[str, ...]:
        """The names that its program tells, which later steps may put in."""
        return ()

    @property
    def may_repeat(self) -> bool:
        """Whether it may be done once more where nobody knows whether it was done."""
        return True

    @property
    def fills_parcel(self) -> bool:
        """Whether something of the item comes into the parcel by it."""
        return False

    def chooses(self, part: str) -> bool:
        """Return whether it can carry some values of ``part`` alone."""
        return False

    @property
    def waits(self) -> bool:
        """Whether it is done only once something came, so that coverage asks for both ends."""
        return False

    @property
    def treats(self) -> tuple[Duplicates, ...]:
        """What may become of records that are there already, where that is a choice."""
        return ()
