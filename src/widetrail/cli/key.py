"""``widetrail key``: keys to sign recipes with."""

from __future__ import annotations

import os
import sys
from pathlib import Path

import click

from widetrail.cli.output import Page
from widetrail.errors import Halted, InputUnusable, not_written

PATH = click.Path(path_type=Path)
passphrase_option = click.option(
    "--passphrase-from",
    type=PATH,
    help="A file whose first line is the passphrase of the key; else it is asked for.",
)


@click.group("key")
def command() -> None:
    """Make keys to sign recipes with, and show their public halves."""


@command.command("make")
@click.argument("file", type=PATH)
@passphrase_option
def make(file: Path, passphrase_from: Path | None) -> None:
    """Make a new key in FILE, which must not exist, and print its public half for a keyring."""
    from widetrail.trust import make_key, open_key, public_text

    passphrase = passphrase_of(passphrase_from, again=True)
    data = make_key(passphrase)
    try:
        handle = os.open(file, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        with os.fdopen(handle, "wb") as made:
            made.write(data)
    except OSError as error:
        raise not_written(file, error) from error
    page = Page()
    page.line(public_text(open_key(data, passphrase, str(file))))
    page.line(f"{file} is yours alone; whoever is to trust it puts the line above in a keyring.")


@command.command("show")
@click.argument("file", type=PATH)
@passphrase_option
def show(file: Path, passphrase_from: Path | None) -> None:
    """Print the public half of the key in FILE."""
    from widetrail.trust import open_key, public_text

    try:
        data = file.read_bytes()
    except OSError as error:
        why = error.strerror or str(error)
        raise InputUnusable("cannot be read", where=str(file), why=why) from error
    Page().line(public_text(open_key(data, passphrase_of(passphrase_from), str(file))))


def passphrase_of(file: Path | None, *, again: bool = False) -> str:
    """Return the passphrase of a key, from the first line of a file or asked for.

    Raises:
        Halted: Nobody can be asked.
        InputUnusable: The file cannot be read, or its first line is empty.
    """
    if file is None:
        if not sys.stdin.isatty():
            todo = "Name a file with --passphrase-from."
            raise Halted("cannot ask", why="standard input is not a terminal", todo=todo)
        asked = click.prompt("Passphrase", hide_input=True, confirmation_prompt=again, err=True)
        return str(asked)
    try:
        lines = file.read_text(encoding="utf-8").splitlines()
    except (OSError, UnicodeDecodeError) as error:
        raise InputUnusable("cannot be read", where=str(file), why=str(error)) from error
    if not lines or not lines[0]:
        raise InputUnusable("holds no passphrase", where=str(file), why="its first line is empty")
    return lines[0]
