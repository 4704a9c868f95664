"""The parcel's logbook: numbered generations that govern the hand-over between stations.

Each generation is a new file, never written over: one line of canonical JSON, then the SHA-256 of
that line. It names the digest of the generation before it. The highest valid one counts. A torn
one at the end is told, since a leg that was cut off leaves it; any other that is damaged, missing
or out of its chain is refused.
"""

from __future__ import annotations

import json
import re
from dataclasses import dataclass
from typing import Annotated, Any, Literal, Self

from pydantic import (
    AfterValidator,
    Field,
    model_validator,
)

from widetrail.errors import ParcelUnusable
from widetrail.formats import canonical, digest
from widetrail.formats.outside import SafePath, read_outside
from widetrail.formats.stored_values import Count, Sha256, Text, Told, Truth, plain_values, why_not
from widetrail.formats.versions import CURRENT, brought_up
from widetrail.licence.seat_events import Phase, Purpose, Stage, event_of
from widetrail.machine import Effects
from widetrail.parcel.bag import mode_in
from widetrail.steps.outcomes import WrittenOutcome

FOLDER = "logbook"
MOST = 16 * 1024 * 1024

_TODO = "Take the parcel as it was when the last leg ended, or plan and pack again."


@dataclass(frozen=True, slots=True)
class Generation:
    """One entry: its number from 1, what happened, its facts, and the digest of its file."""

    number: int
    event: str
    body: dict[str, Any]
    digest: str


def read_logbook(parcel: SafePath) -> tuple[tuple[Generation, ...], SafePath | None]:
    """Return every generation, oldest first, and the file of a torn one after them, if any.

    Raises:
        ParcelUnusable: There is none, or one is damaged, missing or out of its chain.
    """
    folder = parcel / FOLDER
    try:
        names = sorted(p.name for p in folder.iterdir())
    except PermissionError as error:
        raise ParcelUnusable(
            "may not be read",
            where=str(parcel),
            why="it belongs to another account",
            todo="Give it to this account (chown -R), or walk as the administrator with --account.",
        ) from error
    except OSError as error:
        raise ParcelUnusable(
            "is no parcel",
            where=str(parcel),
            why=f"it holds no {FOLDER}",
            todo="Name the folder that `widetrail plan` made.",
        ) from error
    generations: list[Generation] = []
    for number, name in enumerate(names, start=1):
        where = folder / name
        if name != _name(number):
            why = f"{_name(number)} should stand here"
            raise ParcelUnusable("the logbook is not whole", where=str(where), why=why, todo=_TODO)
        before = generations[-1].digest if generations else ""
        try:
            generations.append(_read(where, number, before))
        except ParcelUnusable:
            if number < len(names) or not generations:
                raise
            return tuple(generations), where
    if not generations:
        raise ParcelUnusable("the logbook is empty", where=str(folder), todo=_TODO)
    return tuple(generations), None


def is_newest(parcel: SafePath, generation: Generation) -> bool:
    """Return whether a generation is the newest one of the parcel that lies there now."""
    folder = parcel / FOLDER
    try:
        data = read_outside(folder / _name(generation.number), MOST)
    except OSError:
        return False
    after = folder / _name(generation.number + 1)
    return digest(data) == generation.digest and not after.exists()


def _read(path: SafePath, number: int, before: str) -> Generation:
    try:
        data = read_outside(path, MOST)
    except OSError as error:
        raise ParcelUnusable(
            "the logbook cannot be read", where=str(path), why=error.strerror or ""
        ) from error
    line, _, seal = data.partition(b"\n")
    if seal != digest(line).encode() + b"\n":
        why = "its checksum does not fit"
        raise ParcelUnusable(
            "the logbook was damaged or touched", where=str(path), why=why, todo=_TODO
        )
    try:
        body = json.loads(line)
        if number == 1:
            body = brought_up("logbook", body)
        entry = _Entry.model_validate(plain_values(body))
    except (ValueError, RecursionError) as error:
        raise ParcelUnusable(
            "the logbook cannot be read", where=str(path), why=why_not(error), todo=_TODO
        ) from error
    if entry.number != number or entry.before != before:
        why = "it does not follow the entry before it"
        raise ParcelUnusable("the logbook is not whole", where=str(path), why=why, todo=_TODO)
    return Generation(number, entry.event, body, digest(data))


def _below(name: str) -> str:
    parts = name.split("/")
    if len(parts) != _DEPTH.get(parts[0]) or {"", ".", ".."} & set(parts) or "\0" in name:
        raise ValueError(f"{name!r} is no file of a parcel's cargo")
    return name


def _run(name: str) -> str:
    if not re.fullmatch("[a-z0-9][a-z0-9-]{0,31}", name) or name in ("seats", "machines"):
        raise ValueError(f"{name!r} is no name of a run")
    return name


_DEPTH = {"cargo": 2, "index": 2, "secrets": 2, "made": 4}
"""Names in the names of files, by the folder they lie in."""

_Name = Annotated[str, AfterValidator(_below)]


class SeatRecord(Told):
    """What happened to a seat, as ledgers and logbooks hold it."""

    run: Text
    item: Text
    turn: Count = 0
    station: Text
    machine: Text
    n: Count
    time: Text
    what: Text
    stage: Stage
    act: tuple[Purpose, Phase, Count] | None
    attempts: Count
    given_up: Truth = Field(False, alias="given up")

    @model_validator(mode="after")
    def _tells_an_event(self) -> SeatRecord:
        try:
            event_of(self.model_dump(by_alias=True))
        except KeyError as error:
            raise ValueError(f"it tells no event: {error}") from error
        return self


class _Segment(Told):
    size: Count
    stored: Count
    sha256: Sha256


class _Packed(Told):
    """What every entry must hold that tells what was packed."""

    index: _Name
    whole: bool
    segments: dict[Annotated[str, Field(pattern=r"^[0-9]{6}\.tar(\.age)?$")], _Segment]
    files: dict[_Name, Sha256]

    @model_validator(mode="after")
    def _names_its_files(self) -> Self:
        wanted = {self.index, *(f"cargo/{name}" for name in self.segments)}
        if not self.index.startswith("index/") or not wanted <= self.files.keys():
            raise ValueError("it names files that it has no digest of")
        return self


class _Choices(Told):
    only: list[Text]
    without: list[Text]
    parts: dict[Text, list[Text]]
    outside: dict[Text, Literal["carry", "leave"]]
    release_after: Literal["verifying", "packing"] = Field(alias="release after")
    ask_programs: bool = Field(alias="ask programs", strict=True)


class _Entry(Told):
    number: Count
    before: Text
    event: Text
    time: Text = ""
    run: Annotated[str, AfterValidator(_run)] = ""
    plan: Text = ""
    leg: Count = 0
    station: Text = ""
    machine: Text = ""
    files: dict[_Name, Sha256] = Field(default_factory=dict)
    steps: dict[Text, WrittenOutcome] = Field(default_factory=dict)
    proofs: dict[Text, dict[Text, Text]] = Field(default_factory=dict)
    damaged: list[Text] = Field(default_factory=list)
    again: list[Text] = Field(default_factory=list)
    seats: list[SeatRecord] = Field(default_factory=list)
    read_back: tuple[Count, Count] | None = Field(None, alias="read back")
    on_arrival: tuple[Count, Count] | None = Field(None, alias="on arrival")

    @model_validator(mode="after")
    def _holds_what_its_event_needs(self) -> Self:
        needed = _NEEDED.get(self.event, set())
        if lacking := needed - self.model_fields_set:
            raise ValueError(f"it holds no {', '.join(sorted(lacking))}")
        extra = self.model_extra or {}
        if self.number == 1:
            if not isinstance(extra.get("choices"), dict):
                raise ValueError("it holds no choices")
            _Choices.model_validate(extra["choices"])
        if "index" in extra:
            _Packed.model_validate({**extra, "files": self.files})
        return self


_RESULT = {"time", "leg", "station", "machine", "files", "steps"}
_NEEDED: dict[str, set[str]] = {
    "set out": {"run", "plan", "time"},
    "planned anew": {"plan"},
    "leg done": _RESULT,
    "leg halted": _RESULT,
    "leg mended": _RESULT,
    "topped up": _RESULT,
    "packed so far": {"time", "files", "steps"},
    "undone": {"time", "station", "machine"},
}


def add_generation(
    parcel: SafePath,
    effects: Effects,
    generations: tuple[Generation, ...],
    event: str,
    facts: dict[str, Any],
) -> tuple[Generation, ...]:
    """Write the next generation durably and return all of them."""
    number = len(generations) + 1
    before = generations[-1].digest if generations else ""
    body = {**facts, "number": number, "before": before, "event": event}
    body |= {"format": CURRENT["logbook"]} if number == 1 else {}
    line = canonical(body)
    data = line + b"\n" + digest(line).encode() + b"\n"
    effects.put(parcel / FOLDER / _name(number), data, mode_in(parcel))
    return (*generations, Generation(number, event, body, digest(data)))


def _name(number: int) -> str:
    return f"{number:06d}.json"
