"""Rehearsal files: two machines, what is prepared, and the outcome that is expected."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from functools import lru_cache
from itertools import product
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import AfterValidator, BeforeValidator, Discriminator, Field, Tag, model_validator

from widetrail.errors import DocumentUnusable, InputUnusable
from widetrail.findings import Finding, errors_of
from widetrail.formats.documents import TAG, Model, YesNo, check_tree, flaw, read_text
from widetrail.formats.quantities import parse_size
from widetrail.formats.yaml_positions import Map, Seq, read_marked
from widetrail.licence.seat_events import Word
from widetrail.parcel import Seal, make_seal
from widetrail.recipe import SUFFIX as RECIPE_SUFFIX
from widetrail.recipe import Loaded, Station, load_recipe
from widetrail.recipe.conditions import (
    Duration,
    check_expression,
    one_or_many,
    parse_duration,
)
from widetrail.rehearsing.maker import MakerFile
from widetrail.steps import KINDS
from widetrail.walking.answers import Given

SUFFIX = ".rehearsal.yaml"


def _value(raw: Any) -> Any:
    """Take a text that reads as a whole number as one; readings give numbers."""
    return int(raw) if isinstance(raw, str) and raw.lstrip("-").isdecimal() else raw


def _is_map(value: Any) -> str:
    return f"{TAG}map" if isinstance(value, Mapping | Model) else f"{TAG}text"


def _one_name(text: str) -> str:
    if text in ("", ".", "..", "parcel") or "/" in text or "\\" in text:
        raise flaw("machine", f'"{text}" is no name of a folder below machines')
    return text


Value = Annotated[int | str | tuple[str, ...], BeforeValidator(_value)]
Expression = Annotated[str, AfterValidator(check_expression)]
Words = Annotated[tuple[str, ...], BeforeValidator(one_or_many)]
Size = Annotated[int, BeforeValidator(parse_size)]


class Hollow(Model):
    """A file of that many bytes of which none is written: a hole that takes no room."""

    size: Size


Contents = Annotated[
    Annotated[str, Tag(f"{TAG}text")] | Annotated[Hollow, Tag(f"{TAG}map")],
    Discriminator(_is_map),
]


def _by_recipe(raw: Any) -> Any:
    return {"": raw} if isinstance(raw, str) else raw


class Change(Model):
    """What is done to a machine: files that are removed, files that are there then, statements for
    databases (SQL for SQLite, by their paths; one that is not there is made), values that are
    written where the first recipe reads them, commands."""

    removes: Words = ()
    files: dict[str, Contents] = Field(default_factory=dict)
    databases: dict[str, Words] = Field(default_factory=dict)
    values: dict[str, str] = Field(default_factory=dict)
    prepare: tuple[tuple[str, ...], ...] = ()


class Side(Change):
    """One machine of a rehearsal, and what makes it another one than it is.

    ``with`` holds keys of its ``machine.yaml``; ``user`` is another name of the account, ``drives``
    other letters of its drives; ``release`` and ``edition`` are written where the recipe reads
    them, of the first recipe or by recipe. Then comes what ``Change`` has, in its order.
    """

    machine: Annotated[str, AfterValidator(_one_name)]
    with_: dict[str, Any] = Field(default_factory=dict, alias="with")
    user: str = ""
    drives: dict[str, str] = Field(default_factory=dict)
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
    Discriminator(_is_map),
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

    ``passed_over`` are routes with what decided against each: facts of needs, or ``for``, ``only``,
    ``limit``, ``parts``, ``place``. ``proved`` are the losses that are seen to be made good;
    ``why`` is found in the reasons of what went wrong. ``seat`` is what the program says at the end
    of its licence: a licence that is carried is ``not`` active on old and active on new.
    """

    route: str | None = None
    state: State = "carried"
    checks: dict[str, Expected] = Field(default_factory=dict)
    losses: tuple[str, ...] | None = None
    proved: tuple[str, ...] | None = None
    passed_over: dict[str, Words] | None = None
    put_aside: YesNo | None = None
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
    Discriminator(_is_map),
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

    ``screen`` is of what the program prints on both sides; ``on`` of a machine; ``notices`` are all
    that the plan has to say beside.
    """

    refused: Words = ()
    screen: Screen | None = None
    on: dict[Station, OnMachine] = Field(default_factory=dict)
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
    own = {key: raw[key] for key in _OWN if key in raw}
    return {**own, "items": {key: value for key, value in raw.items() if key not in own}}


By = Literal["killed", "medium pulled", "disk full", "no permission", "broken disk", "read only"]


class Incident(Model):
    """Something that happens at a step: before it, while its program runs, or once it is done.

    ``by`` is how the walk is stopped, which is walked again afterwards (``lasting`` is what goes on
    happening), or what someone does to the machine meanwhile.
    """

    before: str | None = None
    during: str | None = None
    after: str | None = None
    by: Annotated[
        Annotated[By, Tag(f"{TAG}text")] | Annotated[Change, Tag(f"{TAG}map")],
        Discriminator(_is_map),
    ]
    lasting: YesNo = False

    @model_validator(mode="after")
    def _one(self) -> Incident:
        if sum(step is not None for step in (self.before, self.during, self.after)) != 1:
            raise flaw("stop", 'expected one of "before", "during" and "after"')
        return self

    @property
    def step(self) -> str:
        """The step that is meant, by the end of its id."""
        return self.before or self.during or self.after or ""


class RehearsalFile(Model):
    """A whole rehearsal file; ``sealed`` is the passphrase of the parcel, if it has one.

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
    hands: dict[str, Given] = Field(default_factory=dict)
    sealed: str = ""
    maker: MakerFile | None = None
    release_after: Literal["verifying", "packing"] | None = None
    stops: tuple[Incident, ...] = ()
    until: Literal["plan", "end", "undone"] = "end"
    patience: Duration = "60 s"
    expect: Annotated[Expect, BeforeValidator(_split)]

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


@dataclass(frozen=True, slots=True)
class Rehearsal:
    """A rehearsal with where it lies, so that its recipe and machines are found beside it.

    ``case`` names the row of its table that it is, where it has one.
    """

    path: Path
    file: RehearsalFile
    case: str = ""

    @property
    def name(self) -> str:
        """Where it lies, with its case in brackets."""
        return f"{self.path}[{self.case}]" if self.case else str(self.path)

    @property
    def title(self) -> str:
        """What it tries, in words."""
        return f"{self.file.rehearsal}: {self.case}" if self.case else self.file.rehearsal

    def recipes(self) -> tuple[Loaded, ...]:
        """Load the recipes, which lie beside it.

        Raises:
            InputUnusable: One is not there.
            DocumentUnusable: One has findings.
        """
        return tuple(load_recipe(path, KINDS) for path in self.recipe_files)

    @property
    def arrives(self) -> bool:
        """Whether all is expected to arrive, and nothing to happen on the way."""
        file = self.file
        all_carried = all(item.state == "carried" for item in file.expect.items.values())
        differs = any(
            isinstance(value, Differing)
            for item in file.expect.items.values()
            for value in item.checks.values()
        )
        plain = not file.stops and not file.expect.refused and file.until != "plan"
        return plain and all_carried and not differs

    @property
    def recipe_files(self) -> tuple[Path, ...]:
        """Where its recipes lie, the one that is rehearsed first."""
        names = self.file.recipe
        return tuple(self.path.parent / f"{name}{RECIPE_SUFFIX}" for name in names)


def load_rehearsal(path: Path) -> Rehearsal:
    """Load the rehearsal at ``path``; of a table, its first case.

    Raises:
        InputUnusable: It cannot be read.
        DocumentUnusable: It has findings.
    """
    return load_rehearsals(path)[0]


def load_rehearsals(path: Path) -> tuple[Rehearsal, ...]:
    """Load the rehearsal at ``path``, or each case of its table (``each``).

    A row of the table holds what is otherwise in that case: maps are merged, all else is replaced.
    Several tables by name give each row of one with each of the others.

    Raises:
        InputUnusable: It cannot be read.
        DocumentUnusable: It has findings.
    """
    tree, findings = read_marked(read_text(path), str(path))
    rows, wrong = _rows(tree, str(path)) if isinstance(tree, Map) else ([], ())
    found: list[Rehearsal] = []
    collected = [*findings, *wrong]
    if tree is None and not findings:
        collected.append(Finding(str(path), 1, 1, "mapping", "", "expected a mapping of keys"))
    whole = [("", tree)] if isinstance(tree, Map) else []
    for case, merged in rows or whole:
        value, more = check_tree(RehearsalFile, merged, str(path))
        collected.extend(more)
        if value is not None:
            found.append(Rehearsal(path, value, case))
    errors = errors_of(tuple(dict.fromkeys(collected)))
    if errors or not found:
        raise DocumentUnusable(str(path), errors)
    return tuple(found)


def _rows(tree: Map, file: str) -> tuple[list[tuple[str, Map]], tuple[Finding, ...]]:
    """Return each case of a rehearsal's table with the whole of its file, and what is wrong."""
    each = tree.pop("each", None)
    if each is None:
        return [], ()
    tables = list(each.values()) if isinstance(each, Map) and each else [each]
    wrong = [
        Finding(file, row.mark.line, row.mark.column, "each", "each", _NO_ROW)
        for table in tables
        for row in (table if isinstance(table, Seq) and table else [each])
        if not (isinstance(row, Map) and isinstance(row.get("case"), str))
    ]
    if wrong:
        return [], tuple(wrong)
    found = []
    for rows in product(*tables):
        merged = tree
        for row in rows:
            merged = _merged(merged, {k: v for k, v in row.items() if k != "case"}, row)
        found.append((", ".join(row["case"] for row in rows), merged))
    return found, ()


_NO_ROW = 'expected a list of maps, each with a "case" that names it'


def _merged(one: Map, other: Mapping[str, Any], at: Map) -> Map:
    result = Map({**one})
    result.mark, result.keys_at = one.mark, {**one.keys_at}
    for key, value in other.items():
        mine = one.get(key)
        if isinstance(mine, Map) and isinstance(value, Map):
            value = _merged(mine, value, value)
        result[key] = value
        result.keys_at[key] = at.keys_at[key]
    return result


def collect_rehearsals(paths: Iterable[Path]) -> list[Path]:
    """Return the rehearsal files that ``paths`` name: files, and folders with all below them; a
    recipe names those beside it that rehearse it.

    Raises:
        InputUnusable: A path is not there, or holds no rehearsal.
        DocumentUnusable: A rehearsal beside a recipe has findings.
    """
    found: list[Path] = []
    for path in paths:
        inside = [path]
        if path.is_dir():
            inside = sorted(path.rglob(f"*{SUFFIX}"))
        elif path.name.endswith(RECIPE_SUFFIX) and path.is_file():
            name = path.name.removesuffix(RECIPE_SUFFIX)
            beside = sorted(path.parent.glob(f"*{SUFFIX}"))
            inside = [p for p in beside if name in load_rehearsal(p).file.recipe]
        if not inside or not path.exists():
            why = "there is no such file"
            if path.exists():
                why = f"no *{SUFFIX} is {'in' if path.is_dir() else 'beside'} it"
            raise InputUnusable("nothing to rehearse", where=str(path), why=why)
        found.extend(inside)
    return list(dict.fromkeys(found))
