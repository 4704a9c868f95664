"""The values of a rehearsal file: both machines, what happens, and what is expected."""

from __future__ import annotations

from collections.abc import Mapping
from functools import lru_cache
from typing import TYPE_CHECKING, Annotated, Any, Literal

from pydantic import AfterValidator, BeforeValidator, Discriminator, Field, Tag, model_validator

from widetrail.formats.documents import TAG, Model, YesNo, text_or_map
from widetrail.formats.flaws import flaw
from widetrail.formats.quantities import parse_size
from widetrail.licence.terms import Word
from widetrail.machine.effect_failed import RefusedBy
from widetrail.parcel import Seal, make_seal
from widetrail.recipe import Station
from widetrail.recipe.conditions import (
    Duration,
    Words,
    check_expression,
    one_or_many,
    parse_duration,
)
from widetrail.recipe.printouts import AnyPrintout
from widetrail.records import Duplicates
from widetrail.rehearsing.maker import MakerFile
from widetrail.walking.answers import Given

if TYPE_CHECKING:
    from widetrail.formats.document_schema import SchemaMaker


def _value(raw: Any) -> Any:
    """Take a text that reads as a whole number as one; readings give numbers."""
    return int(raw) if isinstance(raw, str) and raw.lstrip("-").isdecimal() else raw


def _one_name(text: str) -> str:
    if text in ("", ".", "..", "parcel") or "/" in text or "\\" in text:
        raise flaw("machine", f'"{text}" is not a name of a folder below machines')
    return text


Value = Annotated[int | str | tuple[str, ...], BeforeValidator(_value)]


Expression = Annotated[str, AfterValidator(check_expression)]


Size = Annotated[int, BeforeValidator(parse_size)]


class Hollow(Model):
    """A file of that many bytes of which none is written: a hole that takes no room."""

    size: Size


Contents = Annotated[
    Annotated[str, Tag(f"{TAG}text")] | Annotated[Hollow, Tag(f"{TAG}map")],
    Discriminator(text_or_map),
]


def _by_recipe(raw: Any) -> Any:
    return {"": raw} if isinstance(raw, str) else raw


class Change(Model):
    """What is done to a machine: files that are removed, files that are there then, statements for
    databases (SQL for SQLite, by their paths; one that is not there is made), values that are
    written where the first recipe reads them, commands.

    ``answers`` are what readings tell from then on without being taken, by what they ask
    (``Finder.asked``): machines that were made of a field report have no contents to read.
    """

    removes: Words = ()
    files: dict[str, Contents] = Field(default_factory=dict)
    databases: dict[str, Words] = Field(default_factory=dict)
    values: dict[str, str] = Field(default_factory=dict)
    answers: dict[str, Any] = Field(default_factory=dict)
    prepare: tuple[tuple[str, ...], ...] = ()


class Side(Change):
    """One machine of a rehearsal, and what makes it another one than it is.

    ``set`` holds keys of its ``machine.yaml``; ``user`` is another name of the account, ``drives``
    other letters of its drives; ``release`` and ``edition`` are written where the recipe reads
    them, of the first recipe or by recipe. ``changes_itself`` are the paths at and below which its
    programs change files at any start, as a server does. Then comes what ``Change`` has, in its
    order.
    """

    machine: Annotated[str, AfterValidator(_one_name)]
    set_: dict[str, Any] = Field(default_factory=dict, alias="set")
    user: str = ""
    drives: dict[str, str] = Field(default_factory=dict)
    changes_itself: Words = ()
    release: Annotated[dict[str, str], BeforeValidator(_by_recipe)] = Field(default_factory=dict)
    edition: Annotated[dict[str, str], BeforeValidator(_by_recipe)] = Field(default_factory=dict)


class Differing(Model):
    """A check that is expected not to hold: what new has then, or why that is not known."""

    differs: Value | None = None
    unknown: Expression | None = None

    @model_validator(mode="after")
    def _one(self) -> Differing:
        if (self.differs is None) == (self.unknown is None):
            raise flaw("check", 'expected one of "differs" and "unknown"')
        return self


Expected = Annotated[
    Annotated[Value, Tag(f"{TAG}text")] | Annotated[Differing, Tag(f"{TAG}map")],
    Discriminator(text_or_map),
]


State = Literal[
    "carried",
    "nothing",
    "failed",
    "waiting",
    "packed",
    "planned",
    "left",
    "undone",
    "returned",
    "given up",
]


class ExpectedItem(Model):
    """What is expected of one item; what is left out is not judged, but that it is carried.

    ``rejected`` are routes with what decided against each: facts of needs, or ``for``, ``only``,
    ``limit``, ``parts``, ``place``. ``proved`` are the losses that are seen to be made good;
    ``why`` is found in the reasons of what went wrong. ``seat`` is what the program says at the end
    of its licence: a licence that is carried is ``not`` active on old and active on new.
    """

    route: str | None = None
    state: State = "carried"
    checks: dict[str, Expected] = Field(default_factory=dict)
    losses: tuple[str, ...] | None = None
    proved: tuple[str, ...] | None = None
    rejected: dict[str, Words] | None = None
    backed_up: YesNo | None = None
    beside: YesNo | None = None
    rewritten: int | None = None
    why: Expression | None = None
    seat: dict[Literal["old", "new"], Word] = Field(default_factory=dict)


class SameButFor(Model):
    """What a program prints is the same but for the lines that match one of these expressions."""

    same_but_for: Annotated[tuple[Expression, ...], BeforeValidator(one_or_many)] = Field(
        min_length=1
    )


Screen = Annotated[
    Annotated[Literal["same"], Tag(f"{TAG}text")] | Annotated[SameButFor, Tag(f"{TAG}map")],
    Discriminator(text_or_map),
]


class OnMachine(Model):
    """What is expected of a machine at the end: files by path with their text, what is there and
    what is gone; release, edition and readings of the first recipe."""

    files: dict[str, str] = Field(default_factory=dict)
    there: Words = ()
    gone: Words = ()
    release: str | None = None
    edition: str | None = None
    readings: dict[str, Value] = Field(default_factory=dict)


class Expect(Model):
    """What is expected at the end: what is refused, or what becomes of the items.

    ``screen`` is of what the program prints on both sides; ``at_the_end`` of a machine;
    ``notices`` are all that the plan has to say beside.
    """

    refused: Words = ()
    screen: Screen | None = None
    at_the_end: dict[Station, OnMachine] = Field(default_factory=dict)
    notices: tuple[Expression, ...] | None = None
    items: dict[str, ExpectedItem] = Field(default_factory=dict)

    @model_validator(mode="after")
    def _something(self) -> Expect:
        if not self.items and not self.refused:
            raise flaw("expect", "nothing is expected", "Name items, or what is refused")
        return self


_OWN = tuple(name for name in Expect.model_fields if name != "items")


def _split(raw: Any) -> Any:
    if not isinstance(raw, dict):
        return raw
    own = {key: raw[key] for key in (*_OWN, "on") if key in raw}
    return {**own, "items": {key: value for key, value in raw.items() if key not in own}}


By = Literal["killed", "medium pulled", RefusedBy]


class ComesOut(Model):
    """A step that is not done, and comes out as is said: ``failed``, or it ``waits``, and why."""

    comes_out: Literal["failed", "waits"]
    why: str


def _by_tag(value: object) -> str:
    """Return the tag of what happens: a word, a change of the machine, or how a step comes out."""
    named = isinstance(value, ComesOut) or (isinstance(value, Mapping) and "comes_out" in value)
    return f"{TAG}told" if named else text_or_map(value)


class Incident(Model):
    """Something that happens at a step: before it, while its program runs, or once it is done.

    ``by`` is how the walk is stopped, which is walked again afterwards (``lasting`` is what goes on
    happening), what someone does to the machine meanwhile, or how the step comes out without being
    done.
    """

    before: str | None = None
    during: str | None = None
    after: str | None = None
    by: Annotated[
        Annotated[By, Tag(f"{TAG}text")]
        | Annotated[Change, Tag(f"{TAG}map")]
        | Annotated[ComesOut, Tag(f"{TAG}told")],
        Discriminator(_by_tag),
    ]
    lasting: YesNo = False

    @model_validator(mode="after")
    def _one(self) -> Incident:
        if sum(step is not None for step in (self.before, self.during, self.after)) != 1:
            raise flaw("stop", 'expected one of "before", "during" and "after"')
        if isinstance(self.by, ComesOut) and self.before is None:
            raise flaw("stop", '"comes_out" belongs to "before"')
        return self

    @property
    def step(self) -> str:
        """The step that is meant, by the end of its id."""
        return self.before or self.during or self.after or ""


class RehearsalFile(Model):
    """A whole rehearsal file; ``sealed`` is the passphrase of the parcel, if it has one, ``screen``
    what prints what a person sees, if that is not what the recipe says.

    Of several recipes the first is the one whose items and screen are meant. ``until: plan`` ends
    it once the plan is made, ``until: undone`` takes it back again in the end; ``patience`` is how
    long it waits for one thing.
    """

    rehearsal: str
    recipe: Annotated[tuple[str, ...], BeforeValidator(one_or_many)] = Field(min_length=1)
    old: Side
    new: Side
    between: Side | None = None
    only: Words = ()
    without: Words = ()
    choose: dict[str, dict[str, tuple[str, ...]]] = Field(default_factory=dict)
    outside: dict[str, Literal["carry", "leave"]] = Field(default_factory=dict)
    routes: dict[str, str] = Field(default_factory=dict)
    duplicates: dict[str, Duplicates] = Field(default_factory=dict)
    to: dict[str, str] = Field(default_factory=dict)
    real: dict[str, str] = Field(default_factory=dict)
    hands: dict[str, Given] = Field(default_factory=dict)
    ask_programs: YesNo = False
    screen: AnyPrintout | None = None
    sealed: str = ""
    maker: MakerFile | None = None
    release_after: Literal["verifying", "packing"] | None = None
    stops: tuple[Incident, ...] = ()
    until: Literal["plan", "end", "undone"] = "end"
    patience: Duration = "60 s"
    expect: Annotated[Expect, BeforeValidator(_split)]

    @classmethod
    def schema_with(cls, maker: SchemaMaker) -> dict[str, Any]:
        """Return the JSON Schema: what a file without a table must have, its table may give."""
        made = maker.mapping(cls)
        row = {"type": "object", "required": ["case"], "additionalProperties": False}
        row = {**row, "properties": {name: {} for name in ("case", *made["properties"])}}
        rows = {"type": "array", "minItems": 1, "items": row}
        tables = {"type": "object", "minProperties": 1, "additionalProperties": rows}
        made["properties"] = {**made["properties"], "each": {"anyOf": [rows, tables]}}
        made["anyOf"] = [{"required": ["each"]}, {"required": made.pop("required")}]
        return made

    @property
    def all_hands(self) -> dict[str, Given]:
        """What the person answers and does, the parcel's passphrase too."""
        return {**({"parcel.seal": self.sealed} if self.sealed else {}), **self.hands}

    @property
    def longest(self) -> float:
        """Seconds that it waits for one thing."""
        return parse_duration(self.patience).total_seconds()

    def seal(self) -> tuple[Seal, bytes] | None:
        """Return what the parcel is sealed with, if it is."""
        return _seal(self.sealed) if self.sealed else None


@lru_cache(maxsize=8)
def _seal(passphrase: str) -> tuple[Seal, bytes]:
    """Return a seal, made once for a passphrase: making one takes more than a second."""
    return make_seal(passphrase)
