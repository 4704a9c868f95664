"""Changes of files that are shown as a diff, and written where somebody says so."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from difflib import unified_diff
from pathlib import Path

import click

from widetrail.formats.texts import for_people


def show_changes(changes: Sequence[tuple[Path, str, str]]) -> None:
    """Show each file's text before and after as a diff."""
    for path, before, after in changes:
        lines = before.splitlines(), after.splitlines()
        for line in unified_diff(*lines, str(path), str(path), lineterm=""):
            click.echo(for_people(line))


def write_changes(changes: Sequence[tuple[Path, str, str]], *, yes: bool) -> None:
    """Show changes, and write them where somebody says so, or said so before."""
    show_changes(changes)
    if changes and not yes and not sys.stdin.isatty():
        click.echo("Nothing was written: nobody can be asked here. Say --yes.", err=True)
    elif changes and (yes or click.confirm("Write this?")):
        for path, _, after in changes:
            path.write_text(after, encoding="utf-8", newline="")
