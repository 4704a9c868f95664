"""What people see of rehearsals: results, findings, stops, coverage and mutations."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from widetrail.cli.output import Page
from widetrail.errors import WideTrailError
from widetrail.formats.quantities import show_count
from widetrail.library.rehearsals import Rehearsals
from widetrail.rehearsing import Rehearsed
from widetrail.rehearsing.coverage import Coverage, Explained
from widetrail.rehearsing.inputs import INPUT_WORDS
from widetrail.rehearsing.mutants import Judged, show_mutant
from widetrail.rehearsing.result_texts import side_by_side

if TYPE_CHECKING:
    from rich.console import Console

    from widetrail.testing import Swept

_WHY: Mapping[str, str] = {"never": "never run before", "failed": "failed last", **INPUT_WORDS}

SHOWN = 40
"""Lines of both print-outs that are shown of a rehearsal that failed, at most."""


class Shown:
    """What people see, unless JSON was asked for."""

    def __init__(self, *, as_json: bool) -> None:
        self._page = None if as_json else Page()

    @property
    def terminal(self) -> Console | None:
        """The terminal that results are printed on, or ``None`` where it is none."""
        return self._page.terminal if self._page is not None else None

    def whole(self, ran: Rehearsals) -> None:
        """Tell what all rehearsals together came to."""
        self._findings(ran)
        self._broken(ran.broken)
        self._quarantined(ran)
        self._changed(ran)

    def title(self, text: str) -> None:
        if self._page is not None:
            self._page.title(text)

    def line(self, text: str, style: str = "", indent: int = 0) -> None:
        if self._page is not None:
            self._page.line(text, style, indent)

    def result(self, result: Rehearsed) -> None:
        verdict = "passed" if result.passed else "failed"
        style = "" if result.passed else "red"
        told = result.short if result.case else f"{result.short}: {result.title}"
        self.line(f"{verdict}  {result.seconds:5.1f} s  {told}", style)
        for difference in result.differences:
            where = f" ({difference.where})" if difference.where else ""
            self.line(f"{difference.what}{where}", indent=4)
            for word, text in (("expected", difference.expected), ("found", difference.found)):
                first, *more = text.splitlines() or [""]
                self.line(f"{word + ':':9} {first}", indent=6)
                for line in more:
                    self.line(line, indent=16)
        if not result.passed and self._page is not None:
            rows = side_by_side(result)
            if rows:
                self._page.table(["", "old, before", "new, after"], rows[:SHOWN])
        if result.kept:
            self.line(f"its machines are kept in {result.kept}", indent=4)

    def _findings(self, ran: Rehearsals) -> None:
        passed = sum(result.passed for result in ran.results)
        if ran.results:
            self.line(f"{passed} of {show_count(len(ran.results), 'rehearsal')} passed", "bold")
        for finding in ran.findings:
            self.line(str(finding), "yellow")

    def _broken(self, broken: Sequence[WideTrailError]) -> None:
        for error in broken:
            self.line(str(error), "red")
            for finding in getattr(error, "findings", ()):
                self.line(str(finding), indent=4)
        if broken:
            self.line(f"{show_count(len(broken), 'file')} cannot be used; the rest was run", "red")

    def _quarantined(self, ran: Rehearsals) -> None:
        failed = {(Path(r.file).name, r.case) for r in ran.results if not r.passed}
        for one in ran.quarantined:
            if (one.rehearsal, one.case_name) in failed:
                case = f"[{one.case_name}]" if one.case_name else ""
                told = f"{one.rehearsal}{case}: in quarantine until {one.until} ({one.why})"
                self.line(f"{told}: its failing does not count", "yellow")

    def _changed(self, ran: Rehearsals) -> None:
        """Tell why rehearsals were run again, and how many were not."""
        for name, why in ran.why.items():
            told = " and ".join(_WHY[one] for one in why)
            others = [one for one in why if one not in ("never", "failed")]
            self.line(f"{Path(name).name}: {told}{' changed since it passed' if others else ''}")
        if ran.unchanged:
            count = show_count(len(ran.unchanged), "rehearsal")
            self.line(f"{count} not run again: passed, and nothing changed since", "green")

    def left_out(self, count: int) -> None:
        """Tell how many rehearsals were not stopped at effects, and why."""
        if count:
            what = "is to be stopped or refused, or failed: it is"
            if count > 1:
                what = "are to be stopped or refused, or failed: they are"
            self.line(f"{show_count(count, 'rehearsal')} {what} not stopped at effects")

    def unneeded(self, reason: Explained) -> None:
        """Tell of a reason that nobody needs."""
        told = f"{reason.at}: {reason.mutation}: needs no reason ({reason.why})"
        self.line(told, "yellow", 4)

    def swept(self, swept: Swept) -> None:
        self.line(
            f"{swept.stops} of {swept.possible:,} stops, {show_count(swept.faults, 'fault')}: "
            f"{show_count(len(swept.troubles), 'trouble')}: {swept.rehearsal}",
            "" if swept.passed else "red",
        )
        for trouble in swept.troubles:
            self.line(trouble.stop, indent=4)
            self.line(trouble.what, indent=6)

    def coverage(self, covered: Sequence[Coverage]) -> None:
        self.title("What the rehearsals reached")
        for one in covered:
            reached = len(one.wanted) - len(one.missing)
            apart = _apart({"cannot be reached": one.ruled_out, "explained": one.explained})
            style = "green" if not one.missing else "bold"
            self.line(
                f"{one.recipe}: {reached} of {len(one.wanted)} branches"
                f" ({one.percent:.0f} %){apart}",
                style,
            )
            for branch in one.missing:
                self.line(f"{Path(one.file).name}:{branch.line}: {branch.words}", "red", indent=4)
                self.line(one.lines[branch.line - 1].strip(), "dim", indent=8)
            for finding in one.findings:
                self.line(str(finding), "yellow", indent=4)

    def mutants(self, judged: Sequence[Judged]) -> None:
        killed = sum(one.killed_by != "" for one in judged)
        apart = _apart(
            {
                "covered by no rehearsal": sum(one.unreached for one in judged),
                "explained": sum(one.explained != "" for one in judged),
            }
        )
        survived = [one for one in judged if one.survived]
        self.line(
            f"{killed} of {len(judged)} mutations detected{apart}",
            "green" if not survived else "bold",
        )
        for one in survived:
            for number, text in enumerate(show_mutant(one)):
                self.line(text, "" if number else "red", indent=8 if number else 4)


def _apart(counts: Mapping[str, int]) -> str:
    told = ", ".join(f"{count} {what}" for what, count in counts.items() if count)
    return f"; {told}" if told else ""
