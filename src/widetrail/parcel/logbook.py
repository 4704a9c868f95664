"""The parcel's logbook: numbered generations that govern the hand-over between stations.

Each generation is a new file, never written over: one line of canonical JSON, then the SHA-256 of
that line. It names the digest of the generation before it. The highest valid one counts. A torn
one at the end is told, since a leg that was cut off leaves it; any other that is damaged, missing
or out of its chain is refused.
"""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from typing import Annotated, Literal, Self

from pydantic import AfterValidator, ConfigDict, Field

from widetrail.errors import ParcelUnusable
from widetrail.formats import canonical, digest
from widetrail.formats.outside import SafePath, read_outside
from widetrail.formats.stored_values import Count, Sha256, Text, Told, Truth, plain_values, why_not
from widetrail.formats.versions import CURRENT, brought_up
from widetrail.lazily import dataclass
from widetrail.machine import Effects
from widetrail.parcel.bag import mode_in
from widetrail.parcel.events import (
    LEG_DONE,
    LEG_HALTED,
    LEG_MENDED,
    PACKED,
    PLANNED_ANEW,
    SET_OUT,
    TOPPED_UP,
    UNDONE,
)
from widetrail.parcel.seat_record import SeatRecord
from widetrail.parcel.segments import StoredSegment
from widetrail.planning.user_choices import WrittenChoices
from widetrail.recipe import Station
from widetrail.steps import Fact
from widetrail.steps.outcomes import WrittenOutcome

FOLDER = "logbook"
MOST = 16 * 1024 * 1024

_TODO = "Take the parcel as it was when the last leg ended, or plan and pack again."


@dataclass(frozen=True)
class Generation:
    """One entry: its number from 1, what it tells, and the digest of its file."""

    number: int
    body: Entry
    digest: str

    @property
    def event(self) -> str:
        """The code of what happened."""
        return self.body.event


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
            "is not a parcel",
            where=str(parcel),
            why=f"it holds no {FOLDER}",
            todo="Specify the folder that `widetrail plan` made.",
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
        why = "its checksum does not match"
        raise ParcelUnusable(
            "the logbook was damaged or changed", where=str(path), why=why, todo=_TODO
        )
    try:
        body = json.loads(line)
        if number == 1:
            body = brought_up("logbook", body)
        entry = Entry.model_validate(plain_values(body))
        _insist_whole(entry)
    except (ValueError, RecursionError) as error:
        raise ParcelUnusable(
            "the logbook cannot be read", where=str(path), why=why_not(error), todo=_TODO
        ) from error
    if entry.number != number or entry.before != before:
        why = "it does not follow the entry before it"
        raise ParcelUnusable("the logbook is not whole", where=str(path), why=why, todo=_TODO)
    return Generation(number, entry, digest(data))


def _below(name: str) -> str:
    parts = name.split("/")
    if len(parts) != _DEPTH.get(parts[0]) or {"", ".", ".."} & set(parts) or "\0" in name:
        raise ValueError(f"{name!r} is not a file of a parcel's cargo")
    return name


def _run(name: str) -> str:
    if not re.fullmatch("[a-z0-9][a-z0-9-]{0,31}", name) or name in ("seats", "machines"):
        raise ValueError(f"{name!r} is not a name of a run")
    return name


_DEPTH = {"cargo": 2, "index": 2, "secrets": 2, "made": 4, "signatures": 2}
"""Names in the names of files, by the folder they lie in."""

_Name = Annotated[str, AfterValidator(_below)]


_SegmentName = Annotated[str, Field(pattern=r"^[0-9]{6}\.tar(\.age)?$")]


class Entry(Told):
    """What a generation of the logbook tells; which of it stands there depends on its event."""

    model_config = ConfigDict(extra="ignore", frozen=True)

    event: Text
    number: Count = 0
    before: Text = ""
    time: Text = ""
    run: Annotated[str, AfterValidator(_run)] = ""
    plan: Text = ""
    choices: WrittenChoices | None = None
    card: Sha256 | None = None
    seal: dict[Text, Sha256] = Field(default_factory=dict)
    leg: Count = 0
    station: Station | Literal[""] = ""
    machine: Text = ""
    files: dict[_Name, Sha256] = Field(default_factory=dict)
    index: _Name | None = None
    whole: Truth = False
    segments: dict[_SegmentName, StoredSegment] = Field(default_factory=dict)
    steps: dict[Text, WrittenOutcome] = Field(default_factory=dict)
    proofs: dict[Text, dict[Text, Text]] = Field(default_factory=dict)
    damaged: tuple[Text, ...] = ()
    again: tuple[Text, ...] = ()
    seats: tuple[SeatRecord, ...] = ()
    read_back: tuple[Count, Count] | None = None
    on_arrival: tuple[Count, Count] | None = None

    def with_(self, **told: object) -> Self:
        """Return the entry with more in it."""
        return self.model_copy(update=told)

    def plain(self) -> dict[str, Fact]:
        """Return the entry as plain JSON values."""
        return self.model_dump(mode="json", exclude_unset=True)


def _insist_whole(entry: Entry) -> None:
    """Raise where an entry does not hold what its event needs.

    Raises:
        ValueError: Something is missing.
    """
    needed = _NEEDED.get(entry.event, frozenset())
    if entry.number == 1:
        needed |= {"choices"}
    if entry.index is not None:
        needed |= {"whole", "segments", "files"}
        wanted = {entry.index, *(f"cargo/{name}" for name in entry.segments)}
        if not entry.index.startswith("index/") or not wanted <= entry.files.keys():
            raise ValueError("it names files that it has no digest of")
    if lacking := needed - entry.model_fields_set:
        raise ValueError(f"it holds no {', '.join(sorted(lacking))}")


_RESULT = frozenset({"time", "leg", "station", "machine", "files", "steps"})
_NEEDED: Mapping[str, frozenset[str]] = {
    SET_OUT: frozenset({"run", "plan", "time"}),
    PLANNED_ANEW: frozenset({"plan"}),
    LEG_DONE: _RESULT,
    LEG_HALTED: _RESULT,
    LEG_MENDED: _RESULT,
    TOPPED_UP: _RESULT,
    PACKED: frozenset({"time", "files", "steps"}),
    UNDONE: frozenset({"time", "station", "machine"}),
}


def add_generation(
    parcel: SafePath, effects: Effects, generations: tuple[Generation, ...], told: Entry
) -> tuple[Generation, ...]:
    """Write the next generation durably and return all of them."""
    number = len(generations) + 1
    entry = told.with_(number=number, before=generations[-1].digest if generations else "")
    first = {"format": CURRENT["logbook"]} if number == 1 else {}
    line = canonical({**entry.plain(), **first})
    data = line + b"\n" + digest(line).encode() + b"\n"
    effects.put(parcel / FOLDER / _name(number), data, mode_in(parcel))
    return (*generations, Generation(number, entry, digest(data)))


def _name(number: int) -> str:
    return f"{number:06d}.json"
