"""What a draft is told as: its files, whether they pass, and what is left open."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import click

from widetrail.cli.output import Page, print_json
from widetrail.lazily import dataclass
from widetrail.library.rehearsals import rehearse
from widetrail.tracing.draft_files import Drafted


def show_draft(made: Drafted, pages: Sequence[Path], *, as_json: bool) -> None:
    """Rehearse what was drafted and print what came of it; end with 1 where it does not pass.

    A rehearsal from one platform to another that does not pass is no part of the draft: it is
    removed, and asked.
    """
    own = {path: _rehearsed(path) for path in made.rehearsals}
    across = {path: _rehearsed(path) for path in made.across}
    questions = list(made.questions)
    for path, ran in across.items():
        if not ran.passed:
            path.unlink()
            questions.append(f"{path.name} does not pass, and was not kept: {ran.troubles[0]}")
    passed = all(ran.passed for ran in own.values())
    troubles = list(dict.fromkeys(line for ran in own.values() for line in ran.troubles))
    if as_json:
        kept = [*made.rehearsals, *(path for path, ran in across.items() if ran.passed)]
        print_json(
            {
                "recipe": str(made.recipe),
                "rehearsals": [str(path) for path in kept],
                "machines": [str(path) for path in made.machines],
                "pages": [str(path) for path in pages],
                "questions": questions,
                "passed": passed,
                "differences": troubles,
            }
        )
    else:
        page = Page()
        page.line(f"recipe     {made.recipe}")
        for path, ran in (own | across).items():
            page.line(f"rehearsal  {path}: {'it passes' if ran.passed else 'it fails'}")
        page.line(f"machines   {' and '.join(map(str, made.machines))}")
        shown = ", ".join(map(str, pages)) or "no page, since Matplotlib is not installed"
        page.line(f"evidence   {shown}")
        for title, lines in (("Differences and findings", troubles), ("Open questions", questions)):
            if lines:
                page.title(title)
            for line in lines:
                page.line(f"- {line}", indent=2)
    if not passed:
        click.get_current_context().exit(1)


@dataclass(frozen=True)
class _Ran:
    passed: bool
    troubles: tuple[str, ...]


def _rehearsed(rehearsal: Path) -> _Ran:
    ran = rehearse([rehearsal])
    differences = [
        f"{d.what}: expected {d.expected}, is {d.found}"
        for result in ran.results
        for d in result.differences
    ]
    return _Ran(ran.passed, (*differences, *(finding.message for finding in ran.findings)))
