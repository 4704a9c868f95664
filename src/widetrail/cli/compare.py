"""``widetrail compare``: what another revision of a recipe changes."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path

import click

from widetrail.cli.output import Page, json_option, print_json
from widetrail.formats.quantities import show_count
from widetrail.library.revisions import compare_files, compare_with_revision
from widetrail.recipe.comparing import Difference

PATH = click.Path(path_type=Path)


@click.command("compare")
@click.argument("recipes", nargs=-1, required=True, type=PATH)
@click.option("--git", "revision", metavar="REV", help="Compare with a revision in Git.")
@click.option("--page", "to", type=PATH, help="Write it as a page (HTML) too.")
@json_option
def command(
    recipes: tuple[Path, ...], revision: str | None, to: Path | None, as_json: bool
) -> None:
    """Show what NEW changes of OLD: for safety, for the person, and else; and what it may do that
    OLD may not.

    \b
    widetrail compare OLD NEW
    widetrail compare --git REV RECIPE...
    """
    from widetrail.cli.grown import show_permissions
    from widetrail.reporting.compare_page import in_groups, render_comparison

    if revision is not None:
        compared = {path: compare_with_revision(path, revision) for path in recipes}
    elif len(recipes) == 2:
        compared = {recipes[1]: compare_files(*recipes)}
    else:
        raise click.UsageError("Two recipes are compared: OLD NEW, or --git REV RECIPE...")
    told = {path: one.differences for path, one in compared.items()}
    more = {path: one.permissions for path, one in compared.items()}
    if to is not None:
        to.write_text(render_comparison(told, more), encoding="utf-8")
    if as_json:
        print_json(
            {
                str(path): {
                    "differences": [asdict(one) for one in found],
                    "permissions": [one._asdict() for one in more[path]],
                }
                for path, found in told.items()
            }
        )
        return
    page = Page()
    for path, found in told.items():
        page.title(f"{path}: {show_count(len(found), 'difference')}")
        for title, differences in in_groups(found):
            page.line(title, "bold", indent=2)
            for one in differences:
                _show(page, one)
        if more[path]:
            page.line("May do more than before", "bold", indent=2)
        show_permissions(page, more[path], 4)


def _show(page: Page, one: Difference) -> None:
    page.line(f"{one.how:8} {one.what:15} {one.at}", indent=4)
    for sign, text in (("-", one.was), ("+", one.now)):
        if text:
            page.line(f"{sign} {text}", "dim", indent=6)
