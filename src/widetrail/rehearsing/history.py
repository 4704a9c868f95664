"""When rehearsals were run and how they came out: a file of SQLite that runs are added to.

A run is told by the digests of what it tried, so that it says of itself whether it still holds.
Each has an id of its own: the runs of one file can be put into another.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable, Iterator
from contextlib import closing, contextmanager
from datetime import UTC, datetime
from pathlib import Path
from typing import Literal
from uuid import uuid4

from widetrail import __version__
from widetrail.errors import InputUnusable
from widetrail.formats import digest
from widetrail.lazily import dataclass
from widetrail.rehearsing.rehearsal import Rehearsal
from widetrail.rehearsing.rehearsed import Rehearsed

_MARKS = {"application_id": 0x57544831, "user_version": 1}
"""What tells a file of SQLite to be a history, and the layout of its tables."""

_MADE = """
create table run (
  id text primary key, ended text not null, recipe text not null, rehearsal text not null,
  case_name text not null, passed integer not null, seconds real not null, engine text not null,
  recipe_digest text not null, rehearsal_digest text not null
) without rowid;
create index run_of on run (recipe, rehearsal, case_name, ended);
"""

Since = Literal["recipe", "rehearsal", "engine"]
"""What is another than when a rehearsal passed: a recipe, the rehearsal, or Wide Trail itself."""


@dataclass(frozen=True)
class Passed:
    """When a rehearsal last passed (ISO 8601, UTC), and what is another since."""

    ended: str
    since: tuple[Since, ...]


@dataclass(frozen=True)
class _Inputs:
    """What a rehearsal tries, by digests, and what it is known by."""

    recipe: str
    rehearsal: str
    case_name: str
    recipe_digest: str
    rehearsal_digest: str


class History:
    """A history of rehearsals, open for reading or for adding."""

    def __init__(self, base: sqlite3.Connection) -> None:
        self._base, self._digests = base, dict[Path, str]()

    def add(self, ran: Iterable[tuple[Rehearsal, Rehearsed]]) -> int:
        """Add runs that ended now; return how many."""
        ended = datetime.now(UTC).isoformat(timespec="seconds")
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
                of.recipe_digest,
                of.rehearsal_digest,
            )
            for of, result in ((self._inputs(one), result) for one, result in ran)
        ]
        with self._base:
            self._base.executemany(f"insert into run values ({', '.join('?' * 10)})", rows)
        return len(rows)

    def last_passed(self, rehearsal: Rehearsal) -> Passed | None:
        """Return when a rehearsal last passed, or ``None`` where it never did."""
        of = self._inputs(rehearsal)
        row = self._base.execute(
            "select ended, recipe_digest, rehearsal_digest, engine from run"
            " where recipe = ? and rehearsal = ? and case_name = ? and passed"
            " order by ended desc, id limit 1",
            (of.recipe, of.rehearsal, of.case_name),
        ).fetchone()
        if row is None:
            return None
        now: dict[Since, str] = {
            "recipe": of.recipe_digest,
            "rehearsal": of.rehearsal_digest,
            "engine": __version__,
        }
        then = zip(now.items(), row[1:], strict=True)
        return Passed(row[0], tuple(what for (what, here), there in then if here != there))

    def _inputs(self, rehearsal: Rehearsal) -> _Inputs:
        recipes = rehearsal.recipe_files
        return _Inputs(
            recipe=recipes[0].name,
            rehearsal=rehearsal.path.name,
            case_name=rehearsal.case,
            recipe_digest=digest("".join(map(self._digest, recipes)).encode()),
            rehearsal_digest=self._digest(rehearsal.path),
        )

    def _digest(self, path: Path) -> str:
        """Return the digest of a file, which many cases may have in common."""
        if path not in self._digests:
            self._digests[path] = digest(path.read_bytes())
        return self._digests[path]


@contextmanager
def open_history(path: Path, *, add: bool = False) -> Iterator[History]:
    """Open the history at ``path``; to ``add`` to it, it is made where it is not there.

    Raises:
        InputUnusable: It is not there, or is no history.
    """
    if not add and not path.is_file():
        raise InputUnusable("there is no history of rehearsals", where=str(path))
    address = f"{path.absolute().as_uri()}?mode={'rwc' if add else 'ro'}"
    try:
        with closing(sqlite3.connect(address, uri=True, timeout=60)) as base:
            _insist_or_make(base, path, make=add)
            yield History(base)
    except sqlite3.Error as error:
        why = str(error)
        raise InputUnusable("is no history of rehearsals", where=str(path), why=why) from error


def _insist_or_make(base: sqlite3.Connection, path: Path, *, make: bool) -> None:
    """Insist that a file is a history; where it is empty it may be made one."""
    told = tuple(base.execute(f"pragma {name}").fetchone()[0] for name in _MARKS)
    empty = base.execute("select count(*) from sqlite_master").fetchone()[0] == 0
    if make and empty and not any(told):
        marks = "".join(f"pragma {name} = {value};" for name, value in _MARKS.items())
        base.executescript(f"begin; {_MADE} {marks} commit;")
    elif told != tuple(_MARKS.values()):
        raise InputUnusable("is no history of rehearsals that this version reads", where=str(path))
