"""``widetrail lint``: every finding of recipes, with its position."""

from __future__ import annotations

from pathlib import Path

import click

from widetrail.cli.output import Page, json_option, print_json
from widetrail.findings import errors_of
from widetrail.library.recipes import lint


@click.command("lint")
@click.argument("recipes", nargs=-1, required=True, type=click.Path(path_type=Path))
@json_option
def command(recipes: tuple[Path, ...], as_json: bool) -> None:
    """Check RECIPES (files, or folders of them); no machine is looked at.

    The exit status is 1 if a finding makes a recipe unusable.
    """
    found = lint(recipes)
    files, findings = list(found), [finding for some in found.values() for finding in some]
    if as_json:
        print_json({"files": [str(f) for f in files], "findings": [f.as_json() for f in findings]})
    else:
        page = Page()
        for finding in findings:
            page.line(str(finding), "" if finding.severity == "warning" else "red")
        count = "1 recipe" if len(files) == 1 else f"{len(files)} recipes"
        errors = len(errors_of(findings))
        page.line(f"{count}: {errors} errors, {len(findings) - errors} warnings")
    if errors_of(findings):
        click.get_current_context().exit(1)
