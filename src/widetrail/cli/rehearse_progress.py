"""How far rehearsals are: a table that lives while they run, or lines for build servers."""

from __future__ import annotations

import json
import sys
import time
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from typing import TYPE_CHECKING, Self

import click

from widetrail.cli.manner import manner
from widetrail.errors import WideTrailError
from widetrail.formats.quantities import show_duration
from widetrail.library.rehearsals import Rehearsals, Watch
from widetrail.rehearsing import Rehearsed
from widetrail.rehearsing.tried import Tried
from widetrail.workers import Crew

if TYPE_CHECKING:
    from rich.console import Console
    from rich.live import Live
    from rich.table import Table

FEW = 5
"""Rehearsals of which no table is shown."""

ROWS = 12
"""Recipes that the table shows, at most."""


class Count(Watch):
    """Counts what came of rehearsals, as a whole and by recipe."""

    def __init__(self) -> None:
        self.wanted: Counter[str] = Counter()
        self.done: Counter[str] = Counter()
        self.failed: Counter[str] = Counter()
        self._begun = time.monotonic()

    def begun(self, wanted: Sequence[Tried]) -> None:
        self.wanted = Counter(one.recipes[0] for one in wanted)
        self._begun = time.monotonic()

    def came(self, tried: Tried, result: Rehearsed | WideTrailError) -> None:
        self.done[tried.recipes[0]] += 1
        self.failed[tried.recipes[0]] += not (isinstance(result, Rehearsed) and result.passed)

    @property
    def left(self) -> int:
        """How many are still to come."""
        return self.wanted.total() - self.done.total()

    @property
    def rate(self) -> float:
        """How many came in a second so far."""
        return self.done.total() / max(1e-9, time.monotonic() - self._begun)

    @property
    def seconds_left(self) -> float:
        """How long it takes until all came, if it goes on like that; seconds."""
        return self.left / self.rate if self.done else 0.0


class Progress(Count):
    """A table on the terminal; nothing where none is there, or few are to be run."""

    def __init__(self, crew: Crew, terminal: Console | None) -> None:
        """``terminal`` is where results are printed meanwhile, if that is one."""
        super().__init__()
        self._crew, self._terminal = crew, terminal
        self._live: Live | None = None

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        if self._live is not None:
            self._live.stop()

    def begun(self, wanted: Sequence[Tried]) -> None:
        super().begun(wanted)
        if len(wanted) <= FEW or manner().quiet or not sys.stderr.isatty():
            return
        from rich.console import Console
        from rich.live import Live

        console = self._terminal or Console(stderr=True)
        self._live = Live(
            console=console, get_renderable=self._table, transient=True, refresh_per_second=4
        )
        self._live.start()

    def _table(self) -> Table:
        from rich.table import Table

        told = Table(box=None, show_header=True, pad_edge=False)
        for name in ("recipe", "done", "of", "failing"):
            told.add_column(name, justify="left" if name == "recipe" else "right")
        for name in sorted(self.wanted, key=self._rank)[:ROWS]:
            failing = str(self.failed[name]) if self.failed[name] else ""
            style = "red" if failing else ""
            told.add_row(name, str(self.done[name]), str(self.wanted[name]), failing, style=style)
        if len(self.wanted) > ROWS:
            told.add_row(f"and {len(self.wanted) - ROWS} more", "", "", "", style="dim")
        told.add_row(
            "all",
            str(self.done.total()),
            str(self.wanted.total()),
            str(self.failed.total()),
            style="bold",
        )
        far = "" if not self.done else f"{self.rate:.1f} a second, {self._time_left} left"
        told.caption = "; ".join(filter(None, (far, self._crew.told()))) or " "
        told.caption_justify = "left"
        return told

    def _rank(self, name: str) -> tuple[bool, bool, bool]:
        """Return which recipes are shown first: as many each time, so that the table stays as it
        is. Those that fail, then those that are on their way, then those to come."""
        is_done = self.done[name] == self.wanted[name]
        return not self.failed[name], is_done, not self.done[name]

    @property
    def _time_left(self) -> str:
        return show_duration(self.seconds_left)


class JsonLines(Count):
    """Lines of JSON on standard output: each result with how far all is, and one at the end."""

    def came(self, tried: Tried, result: Rehearsed | WideTrailError) -> None:
        super().came(tried, result)
        told: dict[str, object] = {"rehearsal": tried.name, "recipe": tried.recipes[0]}
        if isinstance(result, Rehearsed):
            differences = [vars(one) for one in result.differences]
            told |= {"passed": result.passed, "seconds": round(result.seconds, 3)}
            told |= {"differences": differences} if differences else {}
        else:
            told |= {"passed": False, "error": result.as_json()}
        _print({**told, **self._far()})

    def end(self, ran: Rehearsals, told: dict[str, object]) -> None:
        """Print the last line."""
        _print({"end": True, "passed": ran.passed, **self._far(), **told})

    def _far(self) -> dict[str, object]:
        return {
            "done": self.done.total(),
            "failing": self.failed.total(),
            "left": self.left,
            "rate": round(self.rate, 3),
            "seconds_left": round(self.seconds_left, 1),
        }


def _print(told: dict[str, object]) -> None:
    click.echo(json.dumps(told, ensure_ascii=True, default=str))


@contextmanager
def progress_of_mutants(recipe: str) -> Iterator[Callable[[int, int], None]]:
    """Show how far the mutations of a recipe are, where that is seen."""
    if not sys.stderr.isatty() or manner().quiet:
        yield lambda done, total: None
        return
    from rich.console import Console
    from rich.progress import Progress

    with Progress(console=Console(stderr=True), transient=True) as progress:
        task = progress.add_task(f"mutations of {recipe}", total=None)
        yield lambda done, total: progress.update(task, completed=done, total=total)
