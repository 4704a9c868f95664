"""``widetrail bundle``: recipes handed out as one archive."""

from __future__ import annotations

from pathlib import Path

import click

from widetrail.cli.output import Page, json_option, print_json
from widetrail.cli.sheet import history_option
from widetrail.cli.signing import show_signers
from widetrail.cli.signing_options import keyring_option, older_option
from widetrail.errors import not_written
from widetrail.formats.quantities import show_count, show_size
from widetrail.publishing import Bundle
from widetrail.trust import Signed

PATH = click.Path(path_type=Path)


@click.group("bundle")
def command() -> None:
    """Hand recipes out as one archive, with their sheets, schemas and digests; and read it."""


@command.command("write")
@click.argument("recipes", nargs=-1, required=True, type=PATH)
@click.option("--to", type=PATH, required=True, help="The archive (ZIP); it must not exist.")
@history_option
def write(recipes: tuple[Path, ...], to: Path, history: Path | None) -> None:
    """Write RECIPES, files or folders, into an archive. The same recipes give the same bytes."""
    from widetrail.library.publishing import bundle, read_archive

    archive = bundle(recipes, history=history)
    try:
        with to.open("xb") as file:
            file.write(archive)
    except OSError as error:
        raise not_written(to, error) from error
    _show(to, read_archive(to), as_json=False)


@command.command("show")
@click.argument("archive", type=PATH)
@keyring_option
@older_option
@json_option
def show(archive: Path, keyring: Path | None, older: bool, as_json: bool) -> None:
    """Compare every file of ARCHIVE with its digest, and list its recipes and who signed them."""
    from widetrail.library.publishing import read_archive

    told = read_archive(archive)
    signed = _verified(told, archive, keyring, older=older)
    _show(archive, told, as_json=as_json)
    if not as_json:
        _tell_signers(archive, signed)


@command.command("unpack")
@click.argument("archive", type=PATH)
@click.argument("folder", type=PATH)
@keyring_option
@older_option
def unpack(archive: Path, folder: Path, keyring: Path | None, older: bool) -> None:
    """Compare every file of ARCHIVE with its digest, and write them into a new FOLDER.

    With --keyring only if enough people signed it who may, and no recipe is older than one that was
    unpacked so before on this computer.
    """
    from widetrail.library.publishing import read_archive, unpack_bundle
    from widetrail.library.signing import accept, keep_signatures

    unpacked = read_archive(archive)
    signed = _verified(unpacked, archive, keyring, older=older)
    unpack_bundle(unpacked, folder)
    keep_signatures(archive, folder)
    if signed is not None:
        accept(signed)
    _tell_signers(archive, signed)
    page = Page()
    page.line(f"{show_count(len(unpacked.recipes), 'recipe')} in {folder / 'recipes'}")
    page.line(f"Open {folder / 'sheets' / 'index.html'}")


def _verified(read: Bundle, archive: Path, keyring: Path | None, *, older: bool) -> Signed | None:
    from widetrail.library.signing import verify_archive

    return None if keyring is None else verify_archive(read, archive, keyring, older=older)


def _tell_signers(archive: Path, signed: Signed | None) -> None:
    from widetrail.library.signing import signatures_of

    page = Page()
    if signed is None:
        there = signatures_of(archive).exists()
        why = "nobody's signature was looked at: name a --keyring" if there else "nobody signed it"
        page.line(f"Not verified: {why}.")
        return
    show_signers(page, signed.signers)


def _show(where: Path, bundle: Bundle, *, as_json: bool) -> None:
    if as_json:
        print_json(bundle.index.model_dump(mode="json"))
        return
    page = Page()
    size = sum(map(len, bundle.files.values()))
    page.title(f"{where}: {show_count(len(bundle.recipes), 'recipe')}, {show_size(size)}")
    rows = [
        [
            one.id,
            str(one.revision),
            one.name,
            one.releases or "any",
            bundle.index.files[one.file].sha256[:16],
        ]
        for one in bundle.recipes
    ]
    page.table(["Recipe", "Revision", "Program", "Versions", "SHA-256"], rows)
    page.line(f"Every file is as the index lists it. SHA-256 of the archive: {bundle.sha256}")
