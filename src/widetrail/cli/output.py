"""What all commands share in showing things: pages for people, JSON, errors, common options."""

from __future__ import annotations

import json
import os
import sys
from collections.abc import Callable, Iterable, Sequence
from datetime import UTC, datetime
from functools import cached_property, wraps
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

from widetrail.cli.manner import manner
from widetrail.errors import (
    DocumentUnusable,
    Halted,
    Obstructed,
    WideTrailError,
)
from widetrail.formats.texts import for_people

if TYPE_CHECKING:
    from rich.console import Console

F = TypeVar("F", bound=Callable[..., Any])

T = TypeVar("T")

WIDTH = 100
"""Columns where the output is not a terminal, and COLUMNS does not say how many."""


def _remember_json(ctx: click.Context, _: click.Parameter, value: bool) -> bool:
    ctx.meta["widetrail.json"] = value
    return value


def as_value(kind: Callable[..., T]) -> Callable[[Callable[[T], None]], Callable[..., None]]:
    """Have a command get what a call gives as one value, made by ``kind``."""

    def taking(command: Callable[[T], None]) -> Callable[..., None]:
        @wraps(command)
        def called(**given: Any) -> None:
            command(kind(**given))

        return called

    return taking


def json_option(command: F) -> F:
    """Add ``--json``: one JSON document on standard output and nothing else there."""
    return click.option(
        "--json",
        "as_json",
        is_flag=True,
        is_eager=True,
        callback=_remember_json,
        help="Print one JSON document instead of text.",
    )(command)


def machine_options(command: F) -> F:
    """Add the options that say which machine is looked at, and whether programs may be asked."""
    for option in (
        click.option(
            "--yes", is_flag=True, help="Consent to starting the programs that are listed."
        ),
        click.option(
            "--ask-programs", is_flag=True, help="Read what programs print, where a recipe says so."
        ),
        click.option("--account", default="", help="The account on this machine."),
        click.option(
            "--machine",
            type=click.Path(path_type=Path),
            help="The machine folder; else this machine.",
        ),
    ):
        command = option(command)
    return command


def station_options(consent_to: str) -> Callable[[F], F]:
    """Add the options of what is done at a station: the machine, the account, and consent."""
    options = (
        click.option("--yes", is_flag=True, help=f"Consent to {consent_to}."),
        click.option("--account", default="", help="The account on this machine."),
        click.option(
            "--machine",
            type=click.Path(path_type=Path),
            help="The machine folder; else this machine.",
        ),
    )

    def add(command: F) -> F:
        for option in options:
            command = option(command)
        return command

    return add


def consent(
    yes: bool, question: str, todo: str = "Read what is listed above, then add --yes."
) -> None:
    """Ask for consent unless it was given beforehand; ``todo`` is how it is, where nobody can be
    asked.

    Raises:
        Halted: Nobody can be asked, or consent was not given.
    """
    if yes:
        return
    if not sys.stdin.isatty():
        raise Halted("consent is needed", why="standard input is not a terminal", todo=todo)
    if not click.confirm(question, err=True):
        raise Halted("consent was not given", why="nothing was changed")


def print_json(value: Any) -> None:
    """Print ``value`` as the one JSON document of a command."""
    click.echo(json.dumps(value, indent=2, sort_keys=True))


def now() -> datetime:
    """Return the moment that the core is given."""
    return datetime.now(UTC)


class Page:
    """Text for people: every word from a file is made fit to be shown."""

    def __init__(self, *, to_errors: bool = False) -> None:
        self._stream = sys.stderr if to_errors else sys.stdout
        self._manner = manner()
        always = self._manner.color == "always" or bool(os.environ.get("FORCE_COLOR"))
        self._plain = not self._stream.isatty() and not always

    @cached_property
    def _console(self) -> Console:
        from rich.console import Console

        color = self._manner.color
        return Console(
            file=self._stream,
            no_color=True if color == "never" else None,
            force_terminal=True if color == "always" else None,
            highlight=False,
            markup=False,
            emoji=False,
            soft_wrap=False,
            legacy_windows=None if self._stream.isatty() else False,
            width=None if self._stream.isatty() or "COLUMNS" in os.environ else WIDTH,
        )

    @property
    def width(self) -> int:
        """Columns of the page."""
        if self._plain:
            given = os.environ.get("COLUMNS", "")
            return int(given) if given.isdecimal() else WIDTH
        return self._console.width

    @property
    def terminal(self) -> Console | None:
        """The terminal it is printed on, or ``None`` where it is none."""
        return self._console if not self._plain and self._console.is_terminal else None

    def title(self, text: str) -> None:
        """Print a heading with a line of space before it."""
        self._show("")
        self._show(for_people(text), "bold")

    def line(self, text: str = "", style: str = "", indent: int = 0) -> None:
        """Print one paragraph, each of its lines indented by ``indent`` columns.

        Where a program reads it, one line stays one line.
        """
        self._show(for_people(text), style, indent)

    def columns(self, text: str, style: str = "", indent: int = 0) -> None:
        """Print one line whose columns fit the page; it is not wrapped."""
        self._show(for_people(text), style, indent, wrap=False)

    def _show(self, text: str, style: str = "", indent: int = 0, *, wrap: bool = True) -> None:
        indented = f"{' ' * indent}{text}"
        self._manner.write_log(indented)
        if self._plain:
            print(indented, file=self._stream)
            return
        from rich.padding import Padding
        from rich.text import Text

        if wrap:
            padded = Padding(Text(text, style=style), (0, 0, 0, indent), expand=False)
            self._console.print(padded)
        else:
            shown = Text(indented, style=style)
            self._console.print(shown, no_wrap=True, overflow="ignore", crop=False)

    def table(self, headers: Sequence[str], rows: Iterable[Sequence[str]]) -> None:
        """Print a table; cells of a row are texts, of one or several lines."""
        from rich import box
        from rich.table import Table
        from rich.text import Text

        table = Table(box=box.SIMPLE_HEAD, pad_edge=False, header_style="dim")
        for header in headers:
            right = header.startswith(">")
            table.add_column(
                header.removeprefix(">"),
                justify="right" if right else "left",
                no_wrap=right,
                overflow="fold",
            )
        for row in rows:
            self._manner.write_log("  ".join(map(for_people, row)))
            table.add_row(*(Text(_shown(cell), style=_style(cell)) for cell in row))
        self._console.print(table)


def _shown(cell: str) -> str:
    return "\n".join(map(for_people, cell.split("\n")))


def _style(cell: str) -> str:
    if cell in ("holds", "carried", "same", "passed"):
        return "green"
    return "red" if cell in ("differs", "unknown", "failed", "waiting") else ""


def show_error(error: WideTrailError, *, as_json: bool) -> None:
    """Show an error on standard error, and as JSON on standard output where that was asked."""
    if as_json:
        print_json({"error": error.as_json()})
    page = Page(to_errors=True)
    if isinstance(error, DocumentUnusable):
        for finding in error.findings:
            page.line(str(finding))
    page.line(f"error: {error}", "bold red" if not isinstance(error, Obstructed) else "bold")
    if isinstance(error, Obstructed):
        for obstacle in error.obstacles:
            page.line(f"- {obstacle}", "red", indent=2)
            page.line(obstacle.todo, indent=4)
    elif error.todo:
        page.line(error.todo, indent=7)
