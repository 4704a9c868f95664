"""``widetrail rehearse``: recipes tried out on copies of machines."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path

import click

from widetrail.cli.output import Page, json_option, now, print_json
from widetrail.rehearsing import Rehearsed, collect_rehearsals, load_rehearsal, rehearse


@click.command("rehearse")
@click.argument("paths", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option(
    "--machines", type=click.Path(path_type=Path),
    help="The folder that holds the machines; else one called machines beside or above.",
)  # fmt: skip
@json_option
def command(paths: tuple[Path, ...], machines: Path | None, as_json: bool) -> None:
    """Run the rehearsals that PATHS name: files, or folders with all below them.

    Machines are copied first and never changed. The programs that the rehearsals and their
    recipes name are started. Ends with 1 where something came out otherwise than expected.
    """
    rehearsals = [load_rehearsal(path) for path in collect_rehearsals(list(paths))]
    page = Page()
    results = []
    for rehearsal in rehearsals:
        result = rehearse(rehearsal, now(), machines)
        results.append(result)
        if not as_json:
            _show(page, result)
    passed = sum(r.passed for r in results)
    if as_json:
        print_json({"rehearsals": [{**asdict(r), "passed": r.passed} for r in results]})
    else:
        page.line(f"{passed} of {len(results)} rehearsals passed", "bold")
    if passed < len(results):
        click.get_current_context().exit(1)


def _show(page: Page, result: Rehearsed) -> None:
    verdict = "passed" if result.passed else "failed"
    page.line(f"{verdict}: {result.title}", "green" if result.passed else "red")
    for difference in result.differences:
        page.line(f"{difference.what}", indent=4)
        page.line(f"expected: {difference.expected}", indent=6)
        page.line(f"found:    {difference.found}", indent=6)
