"""``widetrail rehearse --from``: a report from the field, made machines and a rehearsal again."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from widetrail.cli.output import Page, print_json
from widetrail.field import StepTold
from widetrail.library.field_reports import FieldRehearsed, rehearse_field_report


def rehearse_field(report: Path, like: Path | None, keep: Path | None, *, as_json: bool) -> bool:
    """Rehearse a field report and show what came of it; return whether all went wrong as it did in
    the field.

    Raises:
        InputUnusable: The report is none, or the folder for it is there.
    """
    folder = keep or Path(f"{report.name.partition('.')[0]}-rehearsed")
    done = rehearse_field_report(report, folder, like)
    if as_json:
        names = ("again", "recorded", "other", "more")
        told = {name: [_row(one) for one in getattr(done, name)] for name in names}
        where = {"rehearsal": str(done.rehearsal), "same_way": done.same_way}
        print_json({**where, **told, "lacking": list(done.lacking)})
    else:
        _show(done)
    return done.same_way


def _row(step: StepTold) -> dict[str, str]:
    return {"step": step.id, "state": step.state, "reason": step.reason}


def _show(done: FieldRehearsed) -> None:
    page = Page()
    page.title("What happened in the field, rehearsed")
    _steps(page, "goes wrong again by itself, in the same way", done.again)
    _steps(page, "goes wrong as it was told to, from the report", done.recorded)
    _steps(page, "does not go wrong here", done.other)
    _steps(page, "goes wrong here only", done.more)
    for what in done.lacking:
        page.line(f"not rebuilt: {what}", "yellow", indent=2)
    if not (done.again or done.recorded or done.other or done.more):
        page.line("No step went wrong, in the field or here.", indent=2)
    page.line(f"{_HEADLINES[done.same_way]} Look into {done.rehearsal} and beside it.", "bold")


_HEADLINES = {
    True: "It goes as it went in the field.",
    False: "It does not go as it went in the field: the report holds no contents. Name a rehearsal "
    "of the same recipe too, whose machines have some.",
}


def _steps(page: Page, words: str, steps: Sequence[StepTold]) -> None:
    for step in steps:
        page.line(f"{step.id}: {words}", indent=2)
        page.line(f"{step.state}: {step.reason}" if step.reason else step.state, "dim", indent=4)
