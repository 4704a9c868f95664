"""When rehearsals were run and how they came out: a file of SQLite that runs are added to.

A run is told by the digests of what it tried, so that it says of itself whether it still holds.
Each has an id of its own: the runs of one file can be put into another. Runs that were begun
together are a batch, which can be gone on with after a cut.
"""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import asdict, replace
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any, Literal
from uuid import uuid4

from widetrail import __version__
from widetrail.errors import InputUnusable
from widetrail.formats import digest
from widetrail.lazily import dataclass
from widetrail.recipe import Loaded
from widetrail.recipe.decisions import Decision
from widetrail.rehearsing.coverage import Coverage
from widetrail.rehearsing.expectations import Difference
from widetrail.rehearsing.history_file import TABLES, open_tables
from widetrail.rehearsing.inputs import INPUTS, Input, Inputs
from widetrail.rehearsing.mutants import Judged
from widetrail.rehearsing.rehearsed import Rehearsed


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
    run again: for nothing, where it passed with all that it tries now. ``passed`` is when it last
    did, ``seconds`` how long it took last."""

    ended: str
    why: tuple[Why, ...]
    passed: str = ""
    seconds: float = 0.0


@dataclass(frozen=True)
class RunRow:
    """One run of a history: whose it was, when it ended (ISO 8601, UTC), how it came out, and one
    digest of all that it tried."""

    id: str
    batch: str
    ended: str
    recipe: str
    rehearsal: str
    case_name: str
    passed: bool
    seconds: float
    tried: str


Whose = tuple[str, str, str]
"""A rehearsal as a history knows it: the files of its recipe and itself, and its case."""

Kind = Literal["flaky", "killed"]
"""Why a rehearsal is in quarantine: it comes out one way and another, or workers died of it."""


@dataclass(frozen=True)
class Quarantine:
    """A rehearsal whose failing does not count: from when and until which day (ISO 8601), and why.

    One that is of the kind ``killed`` is not run where it is the same, by one digest of all that it
    ``tried``.
    """

    recipe: str
    rehearsal: str
    case_name: str
    since: str
    until: str
    why: str
    kind: Kind
    tried: str

    @property
    def whose(self) -> Whose:
        """The rehearsal it is about."""
        return self.recipe, self.rehearsal, self.case_name


class History:
    """A history of rehearsals, open for reading or for adding."""

    def __init__(self, base: sqlite3.Connection) -> None:
        self._base = base

    # Batches

    def begin(self, wanted: int) -> str:
        """Begin a batch of so many runs; return its id."""
        batch = uuid4().hex
        self._insert("batch", [(batch, _now(), "", wanted)])
        return batch

    def end(self, batch: str) -> None:
        """Note that all runs of a batch are there."""
        with self._base:
            self._base.execute("update batch set ended = ? where id = ?", (_now(), batch))

    def cut_off(self) -> str:
        """Return the newest batch that was cut off; an empty text where there is none."""
        row = self._base.execute(
            "select id, ended from batch order by begun desc, id limit 1"
        ).fetchone()
        return row[0] if row is not None and not row[1] else ""

    def of_batch(self, batch: str, of: Inputs, file: Path) -> Rehearsed | None:
        """Return what a rehearsal came to in a batch with the very inputs, without its screens;
        ``file`` is where it lies."""
        row = self._newest(of, "and batch = ?", batch)
        return self._result(row, of, file) if row is not None and not _others(of, row) else None

    # Runs

    def add(self, ran: Iterable[tuple[Inputs, Rehearsed]], batch: str = "") -> int:
        """Add runs that ended now, of a ``batch`` or of none; return how many."""
        ended, rows, reached = _now(), [], {}
        for of, result in ran:
            branches = sorted((b.recipe, b.where, b.branch) for b in result.branches)
            text = json.dumps(branches, ensure_ascii=False)
            known_by = digest(text.encode("utf-8", "surrogatepass"))
            reached[known_by] = text
            rows.append(
                (
                    uuid4().hex,
                    ended,
                    of.recipe,
                    of.rehearsal,
                    of.case_name,
                    result.passed,
                    round(result.seconds, 3),
                    __version__,
                    *(of.digests.get(what, "") for what in INPUTS),
                    batch,
                    known_by,
                    _told(result),
                )
            )
        self._insert("reached", reached.items())
        self._insert("run", rows)
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
        if row[1]:
            return Standing(row[0], _others(of, row), row[0], row[_SECONDS])
        passed = self._newest(of, "and passed")
        when = passed[0] if passed is not None else ""
        return Standing(row[0], ("failed",), when, row[_SECONDS])

    def passed_with(self, of: Inputs, file: Path) -> Rehearsed | None:
        """Return what a rehearsal came to when it last passed with the very inputs."""
        row = self._newest(of, "and passed")
        return self._result(row, of, file) if row is not None and not _others(of, row) else None

    def runs(self) -> Iterator[RunRow]:
        """Give every run, the oldest first.

        Raises:
            InputUnusable: One of them is none.
        """
        digests = " || ".join(f"{what}_digest" for what in INPUTS)
        columns = "id, batch, ended, recipe, rehearsal, case_name, passed != 0, seconds"
        for row in self._base.execute(f"select {columns}, {digests} from run order by ended, id"):
            run = RunRow(*row)
            try:
                datetime.fromisoformat(run.ended)
                yield replace(run, passed=bool(run.passed), seconds=float(run.seconds))
            except (ValueError, TypeError) as error:
                what = "is no history of rehearsals"
                raise InputUnusable(what, where=str(run.id), why=str(error)) from error

    def _newest(self, of: Inputs, wanted: str = "", *values: str) -> Sequence[Any] | None:
        """Return the newest run: when it ended, whether it passed, its digests, how long it took,
        what it reached and what is told of it."""
        digests = ", ".join(f"{what}_digest" for what in INPUTS)
        row: Sequence[Any] | None = self._base.execute(
            f"select ended, passed, {digests}, seconds, reached, told from run"
            f" where recipe = ? and rehearsal = ? and case_name = ? {wanted}"
            " order by ended desc, passed, id limit 1",
            (of.recipe, of.rehearsal, of.case_name, *values),
        ).fetchone()
        return row

    def _result(self, row: Sequence[Any], of: Inputs, file: Path) -> Rehearsed | None:
        """Return a run as what it came to; ``None`` where too little is kept, as the layout before
        did, or what is kept is none."""
        seconds, reached, told = row[_SECONDS:]
        branches = self._base.execute("select branches from reached where id = ?", (reached,))
        try:
            known, [[text]] = json.loads(told), branches
            return Rehearsed(
                str(file),
                known["title"],
                tuple(Difference(**one) for one in known["differences"]),
                case=of.case_name,
                recipes=tuple(known["recipes"]),
                seconds=float(seconds),
                branches=frozenset(Decision(r, tuple(w), b) for r, w, b in json.loads(text)),
                changed=tuple(known["changed"]),
                moved=known["moved"],
            )
        except (ValueError, KeyError, TypeError):
            return None

    # What whole recipes came to

    def add_judged(self, loaded: Loaded, judged: Sequence[Judged], seconds: float) -> None:
        """Add how many mutants of a recipe were detected."""
        counts = (
            len(judged),
            sum(one.killed_by != "" for one in judged),
            sum(one.unreached for one in judged),
            sum(one.explained != "" for one in judged),
        )
        known_by = digest(loaded.text.encode())
        row = (uuid4().hex, _now(), loaded.id, known_by, round(seconds, 3), *counts)
        self._insert("judged", [row])

    def add_covered(self, covered: Coverage) -> None:
        """Add how many branches of a recipe all its rehearsals reached, of those that count."""
        reached = len(covered.wanted) - len(covered.missing)
        row = (
            uuid4().hex,
            _now(),
            covered.recipe,
            text_known_by(covered.lines),
            len(covered.wanted),
            reached,
        )
        self._insert("covered", [row])

    def covered(self) -> Mapping[str, int]:
        """Return how many of a hundred branches were reached when that was measured last, by what
        a recipe's text is known by (``text_known_by``)."""
        rows = self.whole("covered")  # the oldest first
        return {row["recipe_digest"]: 100 * row["reached"] // max(1, row["wanted"]) for row in rows}

    def whole(self, table: Literal["judged", "covered"]) -> Iterator[Mapping[str, Any]]:
        """Give every row of what whole recipes came to, the oldest first."""
        for row in self._base.execute(f"select * from {table} order by ended, id"):
            yield dict(zip(TABLES[table], row, strict=True))

    # Quarantine

    def quarantine(self, whose: Whose, until: str, why: str, kind: Kind, tried: str) -> Quarantine:
        """Have a rehearsal's failing not count until a day (ISO 8601)."""
        put = Quarantine(*whose, _now()[:10], until, why, kind, tried)
        self._insert("quarantine", [(uuid4().hex, *asdict(put).values())])
        return put

    def quarantined(self, day: str) -> list[Quarantine]:
        """Return what is in quarantine on a day (ISO 8601), the last word on each rehearsal."""
        columns = ", ".join(list(TABLES["quarantine"])[1:])
        rows = self._base.execute(f"select {columns} from quarantine order by until, id")
        last = {row[:3]: Quarantine(*row) for row in rows}
        return [one for _, one in sorted(last.items()) if one.until > day]

    # Merging

    def merge(self, other: History) -> int:
        """Take in what another history holds and this one does not; return how many runs that
        were."""
        before = self._count()
        for name, columns in TABLES.items():
            told = ", ".join(columns)
            self._insert(name, other._base.execute(f"select {told} from {name}"))
        return self._count() - before

    def _count(self) -> int:
        count: int = self._base.execute("select count(*) from run").fetchone()[0]
        return count

    def _insert(self, table: str, rows: Iterable[Sequence[Any]]) -> None:
        marks = ", ".join("?" * len(TABLES[table]))
        told = ", ".join(TABLES[table])
        with self._base:
            self._base.executemany(f"insert or ignore into {table} ({told}) values ({marks})", rows)


_SECONDS = 2 + len(INPUTS)


QUARANTINE = 14
"""Days that a rehearsal is in quarantine, unless another number is said."""


def text_known_by(lines: Sequence[str]) -> str:
    """Return by what the text of a recipe is known, however its lines end."""
    return digest("\n".join(lines).encode())


def day_after(days: int) -> str:
    """Return the day (UTC, ISO 8601) so many days from now."""
    return (datetime.now(UTC) + timedelta(days)).date().isoformat()


def _now() -> str:
    return datetime.now(UTC).isoformat(timespec="milliseconds")


def _told(result: Rehearsed) -> str:
    told = {
        "title": result.title,
        "differences": [asdict(one) for one in result.differences],
        "recipes": result.recipes,
        "changed": result.changed,
        "moved": result.moved,
    }
    return json.dumps(told)


def _others(of: Inputs, row: Sequence[Any]) -> tuple[Input, ...]:
    """Return what is another than in a run, or was not or is not known; of machines that are not
    there nothing is said."""
    then = dict(zip(INPUTS, row[2:_SECONDS], strict=True))
    known = [what for what in INPUTS if what in of.digests]
    return tuple(what for what in known if not then[what] or of.digests[what] != then[what])


@contextmanager
def open_history(path: Path, *, add: bool = False) -> Iterator[History]:
    """Open the history at ``path``; to ``add`` to it, it is made where it is not there, and one of
    a layout before gets this one's.

    Raises:
        InputUnusable: It is not there, or is no history.
    """
    with open_tables(path, add=add) as base:
        yield History(base)


@contextmanager
def no_history() -> Iterator[History]:
    """Lend a history in which nothing was run."""
    with open_tables(None, add=True) as base:
        yield History(base)
