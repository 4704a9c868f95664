"""What a trace found: its runs, what was touched, and what experiments told.

No contents stand in it: names, sizes, digests, and of a value that is no secret 200 characters.
"""

from __future__ import annotations

from collections import Counter
from dataclasses import asdict
from pathlib import Path
from typing import Any, Literal

from pydantic import TypeAdapter, ValidationError

from widetrail.errors import InputUnusable
from widetrail.formats.documents import read_text
from widetrail.formats.stored_values import why_not
from widetrail.lazily import dataclass

VALUE_MOST = 200
"""Characters of a value that a record holds, at most."""

RunKind = Literal["idle", "start", "act"]
Way = Literal[
    "read",
    "listed",
    "looked",
    "missed",
    "written",
    "created",
    "removed",
    "renamed",
    "appended",
    "fleeting",
]
"""What was done to a path: ``renamed`` is both what a file was called and what it is called now,
``looked`` is asking whether it is there, ``missed`` that it is not, ``fleeting`` was made and
removed in one run."""

CHANGING: frozenset[Way] = frozenset({"written", "created", "removed", "renamed"})
"""Ways that leave a path other than it was."""

Eye = Literal["fingerprints", "access times", "system calls", "open files"]
"""What saw it."""


@dataclass(frozen=True)
class Changed:
    """A value that changed: the form and address where it stands, and its text before and after.

    ``None`` is a value that is not there, ``***`` one that is secret. ``marked`` tells that the
    marker of the run stands in it now.
    """

    form: str
    at: str
    before: str | None
    after: str | None
    marked: bool = False


@dataclass(frozen=True)
class Touch:
    """A path of the machine and what one run did to it; sizes in bytes, ``None`` where it is not.

    ``marker`` says where the marker of the run was found in it, ``at`` when it was touched last, in
    seconds after the run began; ``renamed_from`` what a file was called before.
    """

    path: str
    ways: tuple[Way, ...]
    before: int | None = None
    after: int | None = None
    digest: str = ""
    marker: str = ""
    values: tuple[Changed, ...] = ()
    at: float | None = None
    renamed_from: str = ""


@dataclass(frozen=True)
class Run:
    """One run: its kind, what was done, how the program ended, and what was touched."""

    kind: RunKind
    did: str
    number: int
    status: int
    seconds: float
    touched: tuple[Touch, ...]
    shows_marker: bool = False
    secret: bool = False
    programs: tuple[str, ...] = ()
    missed: int = 0
    system: int = 0


@dataclass(frozen=True)
class Acted:
    """What one act did: files and folders that it gave another name, from what to what and how many
    files, and what has values that it changed."""

    did: str
    renamed: tuple[tuple[str, str, int], ...]
    changed: tuple[Touch, ...]


def _renames(touched: tuple[Touch, ...]) -> tuple[tuple[str, str, int], ...]:
    """Return what was renamed: the folder, where the files below it are called as before."""
    found: Counter[tuple[str, str]] = Counter()
    for touch in touched:
        if touch.renamed_from:
            old, new = touch.renamed_from.split("/"), touch.path.split("/")
            while len(old) > 2 and len(new) > 2 and old[-1] == new[-1]:
                old, new = old[:-1], new[:-1]
            found["/".join(old), "/".join(new)] += 1
    return tuple((*names, count) for names, count in found.items())


@dataclass(frozen=True)
class Part:
    """A part of what a program keeps: a file, or one value in a file or in the registry.

    ``form`` is that of a value, ``registry`` for one of the registry, whose ``path`` is a key.
    """

    path: str
    form: str = ""
    at: str = ""

    @property
    def is_file(self) -> bool:
        return not self.form


@dataclass(frozen=True)
class Shows:
    """What the program prints otherwise without a part: a line of each print-out, either one empty
    where there is none.

    ``back`` tells that the part was there again, the same, once the program had been started.
    """

    part: Part
    needed: bool
    usual: str = ""
    without: str = ""
    back: bool = False


@dataclass(frozen=True)
class Tells:
    """A value that names a place, ``written`` as it stands there, and what came of moving the place
    and changing the value.

    ``whole``: the program printed the same then, and something else while only the place had moved.
    ``part``: more of it than while only the place had moved; other files name the place too.
    ``no``: the value made no difference. ``default`` is where the program looks without the value,
    found by taking it away and moving the place there; ``moved_to`` where an act moved it, after
    which the program had written the value itself.
    """

    value: Part
    place: str
    written: str
    proved: Literal["whole", "part", "no"]
    folder: bool
    default: str = ""
    moved_to: str = ""


@dataclass(frozen=True)
class Trace:
    """All of a trace; ``machine`` is empty for this one.

    ``printed`` is the digest of what the program prints, ``shown`` its numbers, which is all that
    is kept of it; ``shows_account`` tells that it names the account. ``eyes`` are what could see,
    ``blind`` says why one could not. ``unstable`` are lines that change by chance, with ``#`` for
    what does. ``experiments`` is how often the program was started.
    """

    title: str
    machine: str
    program: str
    screen: tuple[str, ...]
    printed: str
    shown: str
    shows_account: bool
    eyes: tuple[Eye, ...]
    blind: tuple[str, ...]
    runs: tuple[Run, ...]
    shows: tuple[Shows, ...]
    tells: tuple[Tells, ...]
    unstable: tuple[str, ...] = ()
    experiments: int = 0

    @property
    def acted(self) -> tuple[Acted, ...]:
        """What the first run of each act changed."""
        first: dict[str, Run] = {}
        for run in self.runs:
            if run.kind == "act":
                first.setdefault(run.did, run)
        return tuple(
            Acted(did, _renames(run.touched), tuple(t for t in run.touched if t.values))
            for did, run in first.items()
        )

    def as_json(self) -> dict[str, Any]:
        return asdict(self)


def load_trace(path: Path) -> Trace:
    """Read a record.

    Raises:
        InputUnusable: It cannot be read, or is none.
    """
    try:
        return TypeAdapter(Trace).validate_json(read_text(path))
    except ValidationError as error:
        raise InputUnusable(
            "is no record of a trace", where=str(path), why=why_not(error)
        ) from error
