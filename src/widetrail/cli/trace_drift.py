"""``widetrail trace drift``: what a next release keeps elsewhere, and a revision that finds it."""

from __future__ import annotations

import json
import tempfile
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import click

from widetrail.cli.output import Page, json_option, print_json
from widetrail.formats.quantities import show_count
from widetrail.library.recipes import load_recipe
from widetrail.machine import FolderMachine
from widetrail.rehearsing.machine_copies import copy_machine

if TYPE_CHECKING:
    from widetrail.recipe import Loaded
    from widetrail.tracing.revising import Proposal

PATH = click.Path(path_type=Path)


@click.command("drift")
@click.argument("recipe", type=PATH)
@click.option("--before", type=PATH, required=True, help="The machine folder before the release.")
@click.option("--after", type=PATH, required=True, help="The machine folder after the release.")
@click.option("--to", type=PATH, help="Write the new revision that is proposed to this file.")
@json_option
def drift(recipe: Path, before: Path, after: Path, to: Path | None, as_json: bool) -> None:
    """Show what RECIPE does not find any more after a program's next release, where it went, and a
    new revision that finds it.

    Both machines hold the same, one as the release before keeps it. The new revision is rehearsed
    from one to the other first. Ends with 1 where something drifted.
    """
    from widetrail.tracing.drift import drift_findings, find_drift
    from widetrail.tracing.revising import propose_revision

    loaded, machines = load_recipe(recipe), (FolderMachine(before), FolderMachine(after))
    drifted = find_drift(loaded, *machines)
    findings = drift_findings(loaded, drifted)
    proposal = propose_revision(loaded, drifted, *machines) if drifted else None
    troubles = _tried(proposal, loaded, before, after) if proposal and proposal.diff else []
    if to is not None and proposal is not None and proposal.diff:
        to.write_text(proposal.text, encoding="utf-8")
    if as_json:
        told = {
            "findings": [finding.as_json() for finding in findings],
            "proposed": proposal.diff if proposal is not None else "",
            "left": list(proposal.left) if proposal is not None else [],
            "troubles": troubles,
        }
        print_json(told)
    else:
        page = Page()
        for finding in findings:
            page.line(str(finding))
        page.line(f"{show_count(len(findings), 'finding')}")
        if proposal is not None:
            _show_proposal(page, proposal, troubles)
    if findings:
        click.get_current_context().exit(1)


def _tried(proposal: Proposal, loaded: Loaded, before: Path, after: Path) -> list[str]:
    """Rehearse a new revision from one machine to the other; return what went wrong."""
    from widetrail.library.rehearsals import rehearse
    from widetrail.tracing.revising import items_of

    recipe = loaded.id
    items = "".join(f"  {json.dumps(i)}: {{}}\n" for i in items_of(loaded, FolderMachine(before)))

    with tempfile.TemporaryDirectory(prefix="widetrail-drift-") as above:
        folder = Path(above)
        (folder / f"{recipe}.trail.yaml").write_text(proposal.text, encoding="utf-8")
        (folder / "machines").mkdir()
        for name, machine in (("before", before), ("after", after)):
            copy_machine(machine, folder / "machines" / name)
        script = folder / f"{recipe}.rehearsal.yaml"
        script.write_text(
            f"rehearsal: from before to after\nrecipe: {recipe}\n"
            "old: {machine: before}\nnew: {machine: after, set: {identity: after}}\n"
            f"expect:\n{items}",
            encoding="utf-8",
        )
        ran = rehearse([script])
    differences = (one for result in ran.results for one in result.differences)
    return [f"{d.what}: expected {d.expected}, is {d.found}" for d in differences]


def _show_proposal(page: Page, proposal: Proposal, troubles: Sequence[str]) -> None:
    if proposal.diff:
        page.title("Proposed")
        for line in proposal.diff.splitlines():
            style = {"+": "green", "-": "red"}.get(line[:1], "")
            page.columns(line, style, indent=2)
        page.line("")
        passed = "its rehearsal from before to after passes"
        page.line(passed if not troubles else "its rehearsal from before to after fails:")
        for trouble in troubles:
            page.line(f"- {trouble}", indent=2)
    if proposal.left:
        page.title("Not proposed")
        for line in proposal.left:
            page.line(f"- {line}", indent=2)
