"""``widetrail key``: keys, and signing with them."""

from __future__ import annotations

import os
import sys
from pathlib import Path

import click

from widetrail.cli.output import Page
from widetrail.errors import Halted, InputUnusable, not_written

PATH = click.Path(path_type=Path)
_passphrase_option = click.option(
    "--passphrase-from",
    type=PATH,
    help="A file whose first line is the passphrase of the key; else it is asked for.",
)


@click.group("key")
def command() -> None:
    """Make keys, show their public halves, and sign bundles and parcels with them."""


@command.command("make")
@click.argument("file", type=PATH)
@_passphrase_option
def make(file: Path, passphrase_from: Path | None) -> None:
    """Make a new key in FILE, which must not exist, and print its public half for a keyring."""
    from widetrail.trust.private_keys import make_key, open_key, public_text

    passphrase = _passphrase_of(passphrase_from, again=True)
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
@_passphrase_option
def show(file: Path, passphrase_from: Path | None) -> None:
    """Print the public half of the key in FILE."""
    from widetrail.trust.private_keys import open_key, public_text

    try:
        data = file.read_bytes()
    except OSError as error:
        why = error.strerror or str(error)
        raise InputUnusable("cannot be read", where=str(file), why=why) from error
    Page().line(public_text(open_key(data, _passphrase_of(passphrase_from), str(file))))


@command.command("sign")
@click.argument("what", type=PATH)
@click.option("--key", type=PATH, required=True, help="Your key, as `widetrail key make` made it.")
@click.option("--as", "name", required=True, help="The name that keyrings have for your key.")
@_passphrase_option
def sign(what: Path, key: Path, name: str, passphrase_from: Path | None) -> None:
    """Sign WHAT, a bundle's archive or a parcel, beside those who signed it before.

    The signatures of a bundle are in ARCHIVE.signatures.json. A parcel is signed as it is now, with
    all that is packed in it: sign it again when another leg was walked.
    """
    from widetrail.library.signed_moves import sign_parcel
    from widetrail.library.signing import sign_archive

    passphrase, page = _passphrase_of(passphrase_from), Page()
    if what.is_dir():
        page.line(f"Signed as {name}: {sign_parcel(what, key, name, passphrase)}.")
        return
    signed = sign_archive(what, key, name, passphrase)
    page.line(f"Signed as {name}: {signed}. Hand both files out.")


def _passphrase_of(file: Path | None, *, again: bool = False) -> str:
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
