"""Conditions on facts and readings: the notation of ``needs``, ``when``, ``only`` and ``proof``."""

import math
import re
from collections.abc import Mapping
from datetime import timedelta
from typing import TYPE_CHECKING, Annotated, Any, Literal, Self

from pydantic import (
    AfterValidator,
    BeforeValidator,
    Field,
    ModelWrapValidatorHandler,
    model_validator,
)

from widetrail.formats.documents import Model
from widetrail.formats.flaws import flaw
from widetrail.formats.quantities import parse_size
from widetrail.old_words import COVERS_OLD
from widetrail.recipe.releases import AS_OLD, check_releases

if TYPE_CHECKING:
    from widetrail.formats.document_schema import SchemaMaker

FACTS = (
    "release",
    "edition",
    "installed",
    "administrator",
    "network",
    "platform",
    "system",
    "path",
)
"""The facts a need may name, beside the recipe's readings."""

_DURATION = re.compile(r"(\d{1,6})\s*(s|min|h|days?|weeks?|months?|years?)")
_DAYS = {"day": 1, "week": 7, "month": 365.2425 / 12, "year": 365.2425}
_LONGEST_DAYS = 1000 * 365.2425
_SECONDS = {"s": 1, "min": 60, "h": 3600}


def parse_duration(text: str) -> timedelta:
    """Return a duration such as ``10 min`` or ``24 months`` (a month is a twelfth of a year).

    Raises:
        PydanticCustomError: It is none.
    """
    match = _DURATION.fullmatch(text.strip())
    if match is None:
        hint = "Write a number and s, min, h, days, weeks, months or years"
        raise flaw("duration", f'"{text}" is not a duration', hint)
    number, unit = int(match[1]), match[2]
    if unit in _SECONDS:
        return timedelta(seconds=number * _SECONDS[unit])
    days = number * _DAYS[unit.rstrip("s")]
    if days > _LONGEST_DAYS:
        raise flaw("duration", f'"{text}" is longer than 1000 years')
    return timedelta(days=days)


def _check_duration(text: str) -> str:
    parse_duration(text)
    return text


Duration = Annotated[str, AfterValidator(_check_duration)]
"""A duration as the recipe writes it; ``parse_duration`` reads it."""


def one_or_many(value: object) -> object:
    """Return a document's value as a list: one value alone is a list of it."""
    return value if isinstance(value, list) else [value]


Words = Annotated[tuple[str, ...], BeforeValidator(one_or_many)]
"""Texts of a document, of which one alone need not stand in a list."""


def check_expression(text: str) -> str:
    """Return ``text`` if it is a regular expression.

    Raises:
        PydanticCustomError: It is none.
    """
    try:
        re.compile(text)
    except re.error as error:
        raise flaw("expression", f'"{text}" is not a regular expression: {error}') from error
    return text


Number = Annotated[float, Field(allow_inf_nan=False)]


def _number_or_old(value: object) -> object:
    """Take ``old``, or what reads as a number."""
    try:
        number = float(str(value))
    except ValueError:
        number = math.inf
    if value != "old" and not math.isfinite(number):
        raise flaw("number", f'expected a number or "old"; found "{value}"')
    return "old" if value == "old" else number


def _never_matches(expression: str, text: str) -> bool:
    from widetrail.formats.parser_process import matches  # starts a process, and is rarely needed

    return matches(expression, text) is False


class Condition(Model):
    """What a value must be; a bare value means ``is``.

    ``within`` is for moments: no longer ago than that. ``at_least: old`` asks for what old has: a
    number no less than old's, or a set with all of old's.
    """

    equals: str | None = Field(None, alias="is")
    one_of: Annotated[tuple[str, ...], BeforeValidator(one_or_many)] | None = Field(
        None, alias="in"
    )
    matches: Annotated[str, AfterValidator(check_expression)] | None = None
    at_least: Annotated[float | Literal["old"], BeforeValidator(_number_or_old)] | None = None
    at_most: Number | None = None
    within: Duration | None = None

    @model_validator(mode="wrap")
    @classmethod
    def _bare(cls, data: object, handler: ModelWrapValidatorHandler[Self]) -> Self:
        if isinstance(data, str):
            if data == COVERS_OLD:
                raise flaw("word", f'"{data}" is written {{at_least: old}} now')
            data = {"is": data}
        result = handler(data)
        if not any(getattr(result, name) is not None for name in cls.model_fields):
            raise flaw("condition", "this condition is empty")
        return result

    @classmethod
    def schema_with(cls, maker: "SchemaMaker") -> dict[str, Any]:
        """Return the JSON Schema: a bare value, or a mapping."""
        return {"anyOf": [maker.of(str), {**maker.mapping(cls), "minProperties": 1}]}

    @property
    def compares_old(self) -> bool:
        """Whether the value is compared with old's, which must be known by then."""
        return self.at_least == "old"

    @property
    def lowest(self) -> float | None:
        """The number that it asks for at least, if it names one."""
        return None if isinstance(self.at_least, str) else self.at_least

    @property
    def contradicts(self) -> bool:
        """Whether no value can be so."""
        low, high = self.lowest, self.at_most
        wanted = self.equals
        return (
            (low is not None and high is not None and low > high)
            or (wanted is not None and self.one_of is not None and wanted not in self.one_of)
            or (
                wanted is not None
                and self.matches is not None
                and _never_matches(self.matches, wanted)
            )
        )

    def __str__(self) -> str:
        words: list[str] = []
        if self.equals is not None:
            words.append(self.equals)
        if self.one_of is not None:
            words.append(f"one of {', '.join(self.one_of)}")
        if self.matches is not None:
            words.append("there" if self.matches == "." else f"matching {self.matches}")
        if self.lowest is not None:
            words.append(f"at least {self.lowest:g}")
        if self.at_most is not None:
            words.append(f"at most {self.at_most:g}")
        if self.within is not None:
            words.append(f"within {self.within}")
        if self.compares_old:
            words.append("at least as on the old computer")
        return " and ".join(words)


class SidePath(Model):
    """The need that a place has the same path on both sides."""

    place: Literal["same"]


class SideNeeds(Model):
    """What must be true of one station: facts, and readings by name."""

    release: str | None = None
    edition: Condition | None = None
    installed: Condition | None = None
    administrator: Condition | None = None
    network: Condition | None = None
    platform: Condition | None = None
    system: Annotated[str, AfterValidator(check_releases)] | None = None
    path: SidePath | None = None
    readings: dict[str, Condition] = Field(default_factory=dict)

    @model_validator(mode="wrap")
    @classmethod
    def _gather(cls, data: object, handler: ModelWrapValidatorHandler[Self]) -> Self:
        if isinstance(data, Mapping):
            own = {k: data[k] for k in data if k in FACTS}
            named = {k: data[k] for k in data if k not in FACTS}
            data = {**own, "readings": named}
        result = handler(data)
        if result.release is not None and result.release not in AS_OLD:
            check_releases(result.release)
        return result

    @classmethod
    def schema_with(cls, maker: "SchemaMaker") -> dict[str, Any]:
        """Return the JSON Schema: facts, and readings of any name."""
        made = maker.mapping(cls, frozenset({"readings"}))
        return {**made, "additionalProperties": maker.of(Condition)}


class Needs(Model):
    """Facts without which a route cannot be taken, station first."""

    old: SideNeeds | None = None
    new: SideNeeds | None = None
    between: SideNeeds | None = None


Size = Annotated[int, BeforeValidator(parse_size)]


class Limit(Model):
    """What passes a route over: more bytes, more files, or a larger file than these."""

    size: Size | None = None
    count: int | None = None
    file: Size | None = None
