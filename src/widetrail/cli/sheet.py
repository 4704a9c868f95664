"""``widetrail sheet``: what there is to read of recipes, as pages."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path

import click

from widetrail.cli.output import Page, json_option, print_json
from widetrail.errors import not_written
from widetrail.formats.quantities import show_count

PATH = click.Path(path_type=Path)
history_option = click.option(
    "--history",
    type=PATH,
    help="The history of rehearsals (rehearse --history), to tell when they last passed.",
)


@click.command("sheet")
@click.argument("recipes", nargs=-1, required=True, type=PATH)
@click.option(
    "--to",
    type=PATH,
    default=Path("sheets"),
    show_default=True,
    help="The folder that the pages are written into; pages of the same names are replaced.",
)
@history_option
@json_option
def command(recipes: tuple[Path, ...], to: Path, history: Path | None, as_json: bool) -> None:
    """Write a page for people of each of RECIPES, files or folders: where the program keeps what,
    the routes with their conditions, what the recipe may do on either computer, what is not
    transferred, what a person does, and which rehearsals prove it.

    Of several recipes, index.html lists them. With --json the sheets are printed instead.
    """
    from widetrail.library.publishing import sheet_pages, sheets

    if as_json:
        print_json([asdict(one) for one in sheets(recipes, history=history)])
        return
    pages = sheet_pages(recipes, history=history)
    try:
        to.mkdir(parents=True, exist_ok=True)
        for name, text in pages.items():
            (to / name).write_text(text, encoding="utf-8")
    except OSError as error:
        raise not_written(error.filename or to, error) from error
    page = Page()
    page.line(f"{show_count(len(pages), 'page')} in {to}")
    page.line(f"Open {to / next(iter(pages))}")
