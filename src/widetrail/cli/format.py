"""``widetrail format``: one layout for recipes, and one version of their language."""

from __future__ import annotations

from pathlib import Path

import click

from widetrail.cli.output import Page, json_option, print_json
from widetrail.formats.quantities import show_count
from widetrail.library.revisions import laid_out, upgrade


@click.command("format")
@click.argument("recipes", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option("--check", is_flag=True, help="Write nothing; end with 1 where one would change.")
@click.option(
    "--upgrade",
    "to_upgrade",
    is_flag=True,
    help="Bring recipes of an older version of the language up to this one; shown first.",
)
@click.option("--yes", is_flag=True, help="With --upgrade: write it without a question.")
@json_option
def command(
    recipes: tuple[Path, ...], check: bool, to_upgrade: bool, yes: bool, as_json: bool
) -> None:
    """Bring RECIPES (files, or folders of them) into the one layout; comments stay.

    The order of keys, indentation and empty lines change, and nothing else. With --upgrade the
    words of an older version of the language are replaced instead, as a diff shows.
    """
    if to_upgrade:
        _upgrade(recipes, check=check, yes=yes, as_json=as_json)
        return
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


def _upgrade(recipes: tuple[Path, ...], *, check: bool, yes: bool, as_json: bool) -> None:
    """Show what another version of the language changes, and write it where somebody says so."""
    from widetrail.cli.changes import show_changes, write_changes

    found = upgrade(recipes)
    changes = [(Path(one.file), one.before, one.after) for one in found]
    if as_json:
        print_json({"changed": [{"file": str(path), "text": after} for path, _, after in changes]})
    elif check:
        show_changes(changes)
    else:
        write_changes(changes, yes=yes)
    if not as_json and not changes:
        Page().line("Nothing to upgrade: all are of this version of the language.")
    if check and changes:
        click.get_current_context().exit(1)
