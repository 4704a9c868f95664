"""When rehearsals were run and how they came out: a file of SQLite that runs are added to.

A run is told by the digests of what it tried, so that it says of itself whether it still holds.
Each has an id of its own: the runs of one file can be put into another.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable, Iterator, Sequence
from contextlib import closing, contextmanager
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, Literal, get_args
from uuid import uuid4

from widetrail import __version__
from widetrail.errors import InputUnusable
from widetrail.lazily import dataclass
from widetrail.rehearsing.inputs import Input, Inputs
from widetrail.rehearsing.rehearsed import Rehearsed

_MARKS = {"application_id": 0x57544831, "user_version": 2}
"""What tells a file of SQLite to be a history, and the layout of its tables."""

_ADDED = ("machines", "programs", "engine")
"""Whose digests the second layout added; runs that were kept before have empty ones."""

_MADE = """
create table run (
  id text primary key, ended text not null, recipe text not null, rehearsal text not null,
  case_name text not null, passed integer not null, seconds real not null, engine text not null,
  recipe_digest text not null, rehearsal_digest text not null,
  machines_digest text not null default '', programs_digest text not null default '',
  engine_digest text not null default ''
) without rowid;
create index run_of on run (recipe, rehearsal, case_name, ended);
"""


@dataclass(frozen=True)
class Passed:
    """When a rehearsal last passed (ISO 8601, UTC), and what is another since."""

    ended: str
    since: tuple[Input, ...]


Why = Literal["never", "failed"] | Input
"""Why a rehearsal is to be run: it never was, it failed last, or what is another since."""


@dataclass(frozen=True)
class Standing:
    """When a rehearsal was last run (ISO 8601, UTC; empty where it never was), and why it is to be
    run again: for nothing, where it passed with all that it tries now."""

    ended: str
    why: tuple[Why, ...]


class History:
    """A history of rehearsals, open for reading or for adding."""

    def __init__(self, base: sqlite3.Connection) -> None:
        self._base = base

    def add(self, ran: Iterable[tuple[Inputs, Rehearsed]]) -> int:
        """Add runs that ended now; return how many."""
        ended = datetime.now(UTC).isoformat(timespec="milliseconds")
        rows = [
            (
                uuid4().hex,
                ended,
                of.recipe,
                of.rehearsal,
                of.case_name,
                result.passed,
                round(result.seconds, 3),
                __version__,
                *(of.digests.get(what, "") for what in _INPUTS),
            )
            for of, result in ran
        ]
        with self._base:
            self._base.executemany(f"insert into run values ({', '.join('?' * 13)})", rows)
        return len(rows)

    def last_passed(self, of: Inputs) -> Passed | None:
        """Return when a rehearsal last passed, or ``None`` where it never did."""
        row = self._newest(of, "and passed")
        return Passed(row[0], _others(of, row)) if row is not None else None

    def standing(self, of: Inputs) -> Standing:
        """Return when a rehearsal was last run, and why it is to be run again."""
        row = self._newest(of)
        if row is None:
            return Standing("", ("never",))
        return Standing(row[0], _others(of, row) if row[1] else ("failed",))

    def _newest(self, of: Inputs, wanted: str = "") -> Sequence[Any] | None:
        """Return the newest run: when it ended, whether it passed, and its digests."""
        digests = ", ".join(f"{what}_digest" for what in _INPUTS)
        row: Sequence[Any] | None = self._base.execute(
            f"select ended, passed, {digests} from run where recipe = ? and rehearsal = ?"
            f" and case_name = ? {wanted} order by ended desc, passed, id limit 1",
            (of.recipe, of.rehearsal, of.case_name),
        ).fetchone()
        return row


_INPUTS: tuple[Input, ...] = get_args(Input)


def _others(of: Inputs, row: Sequence[Any]) -> tuple[Input, ...]:
    """Return what is another than in a run, or was not or is not known; of machines that are not
    there nothing is said."""
    then = dict(zip(_INPUTS, row[2:], strict=True))
    known = [what for what in _INPUTS if what in of.digests]
    return tuple(what for what in known if not then[what] or of.digests[what] != then[what])


@contextmanager
def open_history(path: Path, *, add: bool = False) -> Iterator[History]:
    """Open the history at ``path``; to ``add`` to it, it is made where it is not there, and one of
    the layout before gets this one's.

    Raises:
        InputUnusable: It is not there, or is no history.
    """
    if not add and not path.is_file():
        raise InputUnusable("there is no history of rehearsals", where=str(path))
    address = f"{path.absolute().as_uri()}?mode={'rwc' if add else 'ro'}"
    try:
        with (
            closing(sqlite3.connect(address, uri=True, timeout=60)) as base,
            closing(_insist_or_make(base, path, make=add)) as brought_up,
        ):
            yield History(brought_up)
    except sqlite3.Error as error:
        why = str(error)
        raise InputUnusable("is no history of rehearsals", where=str(path), why=why) from error


def _insist_or_make(base: sqlite3.Connection, path: Path, *, make: bool) -> sqlite3.Connection:
    """Return a file that is a history, in this layout; where it is empty it may be made one. What
    is only read is brought up in memory."""
    told = tuple(base.execute(f"pragma {name}").fetchone()[0] for name in _MARKS)
    empty = base.execute("select count(*) from sqlite_master").fetchone()[0] == 0
    marks = "".join(f"pragma {name} = {value};" for name, value in _MARKS.items())
    if make and empty and not any(told):
        base.executescript(f"begin; {_MADE} {marks} commit;")
    elif told == (_MARKS["application_id"], 1):
        if not make:
            memory = sqlite3.connect(":memory:")
            base.backup(memory)
            base = memory
        added = (f"alter table run add column {n}_digest text not null default '';" for n in _ADDED)
        base.executescript(f"begin; {''.join(added)} {marks} commit;")
    elif told != tuple(_MARKS.values()):
        raise InputUnusable("is no history of rehearsals that this version reads", where=str(path))
    return base
