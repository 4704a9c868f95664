"""How the command line shows things: colours, how much it says, and a log of it."""

from __future__ import annotations

import sys
from datetime import UTC, datetime
from pathlib import Path
from typing import Literal, TextIO

import click

from widetrail import __version__
from widetrail.errors import not_written
from widetrail.lazily import dataclass

Color = Literal["auto", "always", "never"]
_KEY = "widetrail.manner"


@dataclass(frozen=True)
class Manner:
    """What the options before a command say; ``log`` is the file that all lines go to as well."""

    color: Color = "auto"
    quiet: bool = False
    verbose: bool = False
    log: TextIO | None = None

    def write_log(self, text: str) -> None:
        """Write lines to the log, each with the time (UTC)."""
        if self.log is None:
            return
        moment = datetime.now(UTC).isoformat(timespec="seconds")
        for line in text.splitlines():
            print(f"{moment} {line}", file=self.log, flush=True)


def set_manner(
    ctx: click.Context, color: Color, log: Path | None, *, quiet: bool, verbose: bool
) -> None:
    """Keep how a call is to show things, and begin its log.

    Raises:
        InputUnusable: The log cannot be written.
    """
    try:
        file = log.open("a", encoding="utf-8", errors="backslashreplace") if log else None
    except OSError as error:
        raise not_written(log, error) from error
    manner = Manner(color, quiet, verbose, file)
    if file is not None:
        ctx.call_on_close(file.close)
    ctx.find_root().meta[_KEY] = manner
    manner.write_log(f"widetrail {__version__}, Python {sys.version.split()[0]}, {sys.platform}")


def manner() -> Manner:
    """Return how the call that runs is to show things."""
    ctx = click.get_current_context(silent=True)
    found = ctx.find_root().meta.get(_KEY) if ctx is not None else None
    return found if isinstance(found, Manner) else Manner()
