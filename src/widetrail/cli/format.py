"""``widetrail format``: one layout for recipes."""

from __future__ import annotations

from pathlib import Path

import click

from widetrail.cli.output import Page, json_option, print_json
from widetrail.formats.quantities import show_count
from widetrail.library.revisions import laid_out


@click.command("format")
@click.argument("recipes", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option("--check", is_flag=True, help="Write nothing; end with 1 where one would change.")
@json_option
def command(recipes: tuple[Path, ...], check: bool, as_json: bool) -> None:
    """Bring RECIPES (files, or folders of them) into the one layout; comments stay.

    The order of keys, indentation and empty lines change, and nothing else.
    """
    told = laid_out(recipes)
    other = [path for path, (before, after) in told.items() if before != after]
    for path in other if not check else ():
        path.write_text(told[path][1], encoding="utf-8", newline="")
    if as_json:
        print_json({"files": [str(path) for path in told], "changed": [str(p) for p in other]})
    else:
        page = Page()
        for path in other:
            page.line(f"{path}: {'would be laid out' if check else 'laid out'}")
        page.line(f"{show_count(len(told), 'recipe')}, {len(told) - len(other)} as they should be")
    if check and other:
        click.get_current_context().exit(1)
