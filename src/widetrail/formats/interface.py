"""What every reader of a format gives back, and how it says that it cannot."""

from __future__ import annotations

from typing import NamedTuple

from widetrail.lazily import dataclass

Platform = str
"""The name of a platform; its rules decide how paths and settings are written."""

Scalar = str | int | float | bool | None
Raw = Scalar | list["Raw"] | dict[str, "Raw"]


class Unreadable(Exception):
    """The bytes are not what the format asks for, or the value is not there.

    The text is the reason, in words for people; it holds no part of a secret.
    """


class NotThere(Unreadable):
    """The file is sound, but the value that was asked for does not stand in it."""


class Unwritable(Exception):
    """A value cannot be written as the format has it; nothing was changed.

    The text is the reason, in words for people; it holds no part of the value.
    """


@dataclass(frozen=True, slots=True)
class Located:
    """A value out of a file, with the line it stands on (from 1; 0 where there are none)."""

    value: Raw
    line: int = 0


class Spot(NamedTuple):
    """A text value: where it stands, in the words of its form, what it is, and its line or 0."""

    where: str
    text: str
    line: int = 0
