"""The person at the terminal: asked, told how a walk goes, and shown how long it will take."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

import click

from widetrail.cli.fitting import cut
from widetrail.cli.manner import manner
from widetrail.cli.output import Page
from widetrail.errors import Waiting
from widetrail.formats.quantities import show_files, show_size
from widetrail.formats.texts import for_people
from widetrail.steps import Asked, Step, Task
from widetrail.walking import Answers, Company, Patience, read_answers

if TYPE_CHECKING:
    from rich.progress import Progress, TaskID

DRAWS_EVERY = 0.05
"""Seconds between two drawings of a bar."""

BAR = 30
"""Columns of a bar."""

SAYS_EVERY = 30.0
"""Seconds between two words on how far something is, where no bar can be drawn."""


class TerminalHands:
    """Hands that answer from a file first, and else ask at the terminal, if there is one."""

    def __init__(self, answers: Answers, watcher: Watcher) -> None:
        self._answers, self._watcher = answers, watcher

    def answer(self, asked: Asked) -> str | None:
        found = self._answers.answer(asked)
        if found is not None or not sys.stdin.isatty():
            return found
        with self._watcher.paused():
            kind = click.Choice(asked.choices) if asked.choices else None
            told: str = click.prompt(
                for_people(asked.words),
                hide_input=asked.secret,
                err=True,
                type=kind,
                confirmation_prompt=asked.secret and asked.made,
            )
        return told

    def act(self, task: Task, play: Callable[[Sequence[str]], None]) -> bool:
        if not sys.stdin.isatty():
            if task.shown:
                why = "what it shows is secret, and goes to nothing but a terminal"
                raise Waiting(task.words, why=why, todo="Walk at a terminal.")
            return self._answers.act(task, play)
        if not task.shown and self._answers.act(task, play):
            return True
        with self._watcher.paused():
            words = for_people(task.words)
            for name, value in (task.shown or {}).items():
                words = words.replace(f"‹{name}›", for_people(value))
            click.secho(f"\nYou: {words}", bold=True, err=True)
            if task.proof:
                shown = for_people(", ".join(task.proof))
                click.echo(f"  This shows that it is done: {shown}", err=True)
            return click.confirm("Is it done?", err=True)


class Watcher:
    """Tells on standard error how a walk goes.

    On a terminal, bars tell of the step and of what is copied; they leave nothing behind, since
    what will be done was shown before. Else a line tells now and then how far it is.
    """

    def __init__(self, page: Page) -> None:
        self._page = page
        self._bars: Progress | None = None
        self._steps: TaskID | None = None
        self._bar: TaskID | None = None
        self._drawn = self._begun = 0.0
        self._said = time.monotonic()
        self._first: float | None = None
        self._step = 0, 0, ""

    def begins(self, step: Step, words: str, number: int, total: int) -> None:
        now = time.monotonic()
        self._first, self._begun, self._step = None, now, (number, total, words)
        if manner().verbose:
            self._page.line(f"step {number} of {total}: {words}", "dim", indent=2)
        elif manner().quiet:
            return
        elif self._page.terminal is not None:
            self._draw()
        elif now - self._said >= SAYS_EVERY:
            self._said = now
            self._page.line(f"step {number} of {total}", indent=2)

    def waits(self, what: str) -> None:
        if self._bar is None and not manner().quiet:  # a bar tells it better
            self._page.line(f"waiting: {what}", "magenta", indent=2)

    def _draw(self) -> Progress:
        """Draw how far the steps are, and return the bars."""
        if self._bars is None:
            self._bars = _bars(self._page)
            self._bars.start()
            self._steps = self._bars.add_task("", far="")
        number, total, words = self._step
        far = cut(f"step {number} of {total}: {for_people(words)}", self._page.width - BAR - 8)
        assert self._steps is not None
        self._bars.update(self._steps, total=total, completed=number - 1, far=far)
        return self._bars

    def moves(
        self,
        done: float,
        total: float,
        unit: str,
        left: float | None,
        files: tuple[int, int] | None = None,
    ) -> None:
        now = time.monotonic()
        if manner().quiet:
            return
        if self._page.terminal is None:
            if now - self._said >= SAYS_EVERY:
                self._said = now
                self._page.line(_far(done, total, unit, self._rate(done), left, files), indent=2)
            return
        if now - self._drawn < DRAWS_EVERY and done < total:
            return
        self._drawn = now
        bars = self._draw()
        if self._bar is None:
            self._bar = bars.add_task("", total=total, far="")
        far = _far(done, total, unit, self._rate(done), left, files)
        bars.update(self._bar, completed=done, total=total, far=far)
        if done >= total:
            bars.remove_task(self._bar)
            self._bar = None

    def _rate(self, done: float) -> float | None:
        """Return how much came in a second since the step began, once that can be said."""
        now = time.monotonic()
        if self._first is None:
            self._first, self._begun = done, now
        passed = now - self._begun
        return (done - self._first) / passed if passed > 1 and done > self._first else None

    @contextmanager
    def paused(self) -> Iterator[None]:
        """Keep the terminal free while a person is asked."""
        self.close()
        yield

    def close(self) -> None:
        """Take the bars away."""
        if self._bars is not None:
            self._bars.stop()
            self._bars = self._bar = self._steps = None


def _bars(page: Page) -> Progress:
    from rich.progress import BarColumn, Progress, TextColumn

    bar = BarColumn(BAR, complete_style="green", finished_style="green")
    columns = (TextColumn("    "), bar, TextColumn("{task.fields[far]}"))
    return Progress(*columns, console=page.terminal, transient=True)


def _far(
    done: float,
    total: float,
    unit: str,
    rate: float | None,
    left: float | None,
    files: tuple[int, int] | None,
) -> str:
    if unit == "bytes":
        far = f"{show_size(int(done))} of {show_size(int(total))}"
        if files is not None:
            far = f"{far}, {files[0]} of {show_files(files[1])}"
        if rate is not None:
            far = f"{far}, {show_size(int(rate))}/s"
    else:
        far = f"{unit}: {done:g} of {total:g}"
    return f"{far}, {_left(left)} left" if left is not None and done < total else far


def _left(seconds: float) -> str:
    if seconds < 60:
        return f"{seconds:.0f} s"
    minutes = seconds / 60
    return f"{minutes:.0f} min" if minutes < 90 else f"{minutes / 60:.1f} h"


@contextmanager
def watched(company: Company) -> Iterator[None]:
    """Have the bars of a walk gone once it ended, however it ends."""
    try:
        yield
    finally:
        if isinstance(company.onlooker, Watcher):
            company.onlooker.close()


def make_company(page: Page, answers: Path | None, *, waits: bool) -> Company:
    """Return who is there while a leg is walked, by the options of the call.

    Raises:
        InputUnusable: The answers file cannot be used.
    """
    watcher = Watcher(page)
    given = read_answers(answers) if answers is not None else Answers()
    return Company(TerminalHands(given, watcher), watcher, Patience(waits))
