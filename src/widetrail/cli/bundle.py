"""``widetrail bundle``: recipes handed out as one archive."""

from __future__ import annotations

from pathlib import Path

import click

from widetrail.cli.output import Page, json_option, print_json
from widetrail.cli.sheet import history_option
from widetrail.errors import not_written
from widetrail.formats.quantities import show_count, show_size
from widetrail.publishing import Bundle

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
@json_option
def show(archive: Path, as_json: bool) -> None:
    """Compare every file of ARCHIVE with its digest, and list its recipes."""
    from widetrail.library.publishing import read_archive

    _show(archive, read_archive(archive), as_json=as_json)


@command.command("unpack")
@click.argument("archive", type=PATH)
@click.argument("folder", type=PATH)
def unpack(archive: Path, folder: Path) -> None:
    """Compare every file of ARCHIVE with its digest, and write them into a new FOLDER."""
    from widetrail.library.publishing import unpack_archive

    unpacked = unpack_archive(archive, folder)
    page = Page()
    page.line(f"{show_count(len(unpacked.recipes), 'recipe')} in {folder / 'recipes'}")
    page.line(f"Open {folder / 'sheets' / 'index.html'}")


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
