"""``widetrail lint``: every finding of recipes, with its position."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

import click

from widetrail.cli.changes import write_changes
from widetrail.cli.output import Page, json_option
from widetrail.findings import Finding, errors_of
from widetrail.formats.documents import read_text
from widetrail.formats.quantities import show_count
from widetrail.library.recipes import lint
from widetrail.reporting.findings import chosen, in_source

AS = ("text", "json", "sarif", "github", "junit")
"""Forms in which findings are printed."""


def _codes(_: click.Context, __: click.Parameter, value: tuple[str, ...]) -> tuple[str, ...]:
    return tuple(code.strip() for text in value for code in text.split(",") if code.strip())


@click.command("lint")
@click.argument("recipes", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option(
    "--as",
    "form",
    type=click.Choice(AS),
    default="text",
    help="The form: text, json, sarif (2.1.0), github (annotations) or junit.",
)
@click.option("--select", multiple=True, callback=_codes, help="Only these codes, with commas.")
@click.option("--ignore", multiple=True, callback=_codes, help="Not these codes, with commas.")
@click.option("--fix", "fixes", is_flag=True, help="Put right what is certain; shown first.")
@click.option("--yes", is_flag=True, help="With --fix: write it without a question.")
@click.option(
    "--account",
    help="The name of the account that wrote the recipes, to find it in paths; else your own.",
)
@click.option(
    "--policy",
    type=click.Path(path_type=Path),
    help="A file that says what recipes may do; what it does not allow is an error.",
)
@json_option
def command(
    recipes: tuple[Path, ...],
    form: str,
    fixes: bool,
    yes: bool,
    account: str | None,
    policy: Path | None,
    as_json: bool,
    **codes: tuple[str, ...],
) -> None:
    """Check RECIPES (files, or folders of them); no machine is looked at.

    The exit status is 1 if a finding makes a recipe unusable.
    """
    if fixes:
        _fix(recipes, yes=yes)
    own = _own_name() if account is None else account
    found = chosen(lint(recipes, account=own, policy=policy), codes["select"], codes["ignore"])
    form = "json" if as_json else form
    if form == "text":
        _show(found)
    else:
        from widetrail.reporting.finding_forms import FORMS

        click.echo(FORMS[form](found))
    if any(errors_of(findings) for findings in found.values()):
        click.get_current_context().exit(1)


def _own_name() -> str:
    """Return the name of the account, unless it is one that many computers have."""
    import getpass

    try:
        name = getpass.getuser()
    except (OSError, KeyError):  # the system has none
        return ""
    return "" if len(name) < _SHORTEST or name in _GENERAL else name


_SHORTEST = 4  # a shorter one stands in many words
_GENERAL = frozenset({"root", "user", "admin", "administrator", "guest"})


def _fix(recipes: tuple[Path, ...], *, yes: bool) -> None:
    """Show what can be put right as a diff, and write it where somebody says so."""
    from widetrail.library.revisions import fix

    write_changes([(Path(one.file), one.before, one.after) for one in fix(recipes)], yes=yes)


def _show(found: Mapping[Path, tuple[Finding, ...]]) -> None:
    page, errors, warnings = Page(), 0, 0
    for file, findings in found.items():
        lines = read_text(file).splitlines() if findings else []
        for finding in findings:
            color = "" if finding.severity == "warning" else "red"
            page.line(f"{finding} [{finding.rule}]", color)
            for line in in_source(finding, lines):
                page.line(line, "dim")
        errors += len(errors_of(findings))
        warnings += len(findings) - len(errors_of(findings))
    told = f"{show_count(errors, 'error')}, {show_count(warnings, 'warning')}"
    page.line(f"{show_count(len(found), 'recipe')}: {told}")
