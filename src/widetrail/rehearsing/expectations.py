"""Judging what a rehearsal came to: each difference with what was expected, and where that is."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from typing import NamedTuple

from widetrail.finding import Unknown, find_application
from widetrail.lazily import dataclass
from widetrail.machine import FolderMachine
from widetrail.planning import Plan, RejectedRoute
from widetrail.recipe import Loaded
from widetrail.rehearsing.rehearsal_file import (
    Differing,
    Expect,
    ExpectedItem,
    OnMachine,
    SameButFor,
    Screen,
)
from widetrail.steps import Noted
from widetrail.walking import CheckLine, ItemReport, Report

MOST_TOLD = 5
"""Names of files that differ which are told, at most."""


@dataclass(frozen=True)
class Difference:
    """One thing that came out otherwise than expected; ``where`` is its place in the recipe."""

    what: str
    expected: str
    found: str
    where: str = ""


@dataclass(frozen=True)
class Judge:
    """Judges the items of a rehearsal against what is expected of them."""

    expect: Expect
    recipes: Sequence[Loaded]
    plan: Plan
    report: Report

    def items(self) -> Iterator[Difference]:
        """Give what is otherwise with an item that is expected, or was not named."""
        own = f"{self.recipes[0].id}."
        found = {i.id.removeprefix(own): i for i in self.report.items}
        left = {i.id.removeprefix(own): i for i in self.plan.left if not i.there}
        there = {i.id.removeprefix(own) for i in self.plan.left if i.there}
        passed = {i.id.removeprefix(own): i.rejected for i in self.plan.items}
        passed |= {i.id.removeprefix(own): i.rejected for i in self.plan.left}
        for name in [
            *self.expect.items,
            *(n for n in (*found, *left) if n not in self.expect.items),
        ]:
            expected = self.expect.items.get(name, ExpectedItem())
            if name in left:
                codes = " and ".join(
                    f"{p.route}: {', '.join(p.codes)}" for p in left[name].rejected
                )
                if expected.state != "left":
                    yield self._one(name, expected.state, f"left ({codes})")
                losses = [loss.what for loss in left[name].losses]
                yield from self._losses(name, expected, losses)
            elif name in found:
                yield from self._item(name, expected, found[name])
            elif name not in there:
                what = f"{self.recipes[0].id} has no item of that name"
                yield Difference(name, "an item of the recipe", what)
            yield from self._rejected(name, expected, passed.get(name, ()))

    def _rejected(
        self, name: str, expected: ExpectedItem, found: Sequence[RejectedRoute]
    ) -> Iterator[Difference]:
        if expected.rejected is None:
            return
        wanted = {route: set(codes) for route, codes in expected.rejected.items()}
        codes = {p.route: set(p.codes) for p in found}
        if wanted != codes:
            reasons = "; ".join(f"{p.route}: {p.reason}" for p in found)
            told = f"{_shown(codes)} ({reasons})" if reasons else _shown(codes)
            yield self._one(f"{name}.rejected", _shown(wanted), told)

    def _item(self, name: str, expected: ExpectedItem, item: ItemReport) -> Iterator[Difference]:
        reasons = "; ".join(step.reason for step in item.steps)
        if item.state != expected.state:
            told = f"{item.state}: {reasons}" if reasons else item.state
            yield self._one(name, expected.state, told, "routes")
        if expected.why is not None and not re.search(expected.why, reasons):
            yield self._one(f"{name}.why", expected.why, reasons or "no reason")
        if expected.route is not None and item.route != expected.route:
            yield self._one(f"{name}.route", expected.route, item.route, "routes")
        yield from self._losses(name, expected, [loss.what for loss in item.losses])
        proved = [loss.what for loss in item.losses if loss.proof == "seen"]
        if expected.proved is not None and set(proved) != set(expected.proved):
            yield self._one(
                f"{name}.proved", ", ".join(expected.proved), ", ".join(proved), "losses"
            )
        for word, names in (("backed_up", item.backed_up), ("beside", item.beside)):
            wanted = getattr(expected, word)
            if wanted is not None and wanted != bool(names):
                yield self._one(f"{name}.{word}", _yes(wanted), ", ".join(names) or "no", "routes")
        if expected.rewritten is not None and item.rewritten != expected.rewritten:
            found = str(item.rewritten)
            yield self._one(f"{name}.rewritten", str(expected.rewritten), found, "paths")
        yield from self._checks(name, expected, item)

    def _losses(
        self, name: str, expected: ExpectedItem, found: Sequence[str]
    ) -> Iterator[Difference]:
        if expected.losses is not None and set(found) != set(expected.losses):
            wanted = ", ".join(expected.losses) or "none"
            yield self._one(f"{name}.losses", wanted, ", ".join(found) or "none", "losses")

    def _checks(self, name: str, expected: ExpectedItem, item: ItemReport) -> Iterator[Difference]:
        lines = {line.name: line for line in item.checks}
        for check, value in expected.checks.items():
            what, line = f"{name}.checks.{check}", lines.get(check)
            if line is None:
                told = f"it was not compared; compared: {', '.join(lines) or 'nothing'}"
                yield self._one(what, _told(value), told, "checks", check)
            elif isinstance(value, Differing):
                if problem := _not_differing(value, line):
                    yield self._one(what, problem, _both(line), "checks", check)
            elif line.verdict != "holds" or not _same(line.new, value):
                yield self._one(what, _told(value), _both(line), "checks", check)
        for check, line in lines.items():
            if check in expected.checks:
                continue
            what = f"{name}.checks.{check}"
            if line.verdict != "holds":
                yield self._one(what, f"to hold: {_plain(line.old)}", _both(line), "checks", check)
            elif line.new is not None and _is_empty(line.new):
                wanted = "a value, or an expect that says it is empty"
                empty = _plain(line.new)
                yield self._one(what, wanted, f"{empty} = {empty}", "checks", check)

    def _one(self, what: str, expected: str, found: str, *below: str) -> Difference:
        """Return a difference with the place in the recipe that it is about."""
        name = what.partition(".")[0].partition("[")[0]
        loaded, own = self.recipes[0], name
        for other in self.recipes:
            if what.startswith(f"{other.id}."):
                loaded, own = other, what[len(other.id) + 1 :].partition(".")[0].partition("[")[0]
        where = loaded.spot("items", own, *below) if own in loaded.recipe.listed else ""
        return Difference(what, expected, found, where)


def _shown(codes: Mapping[str, set[str]]) -> str:
    told = (f"{route}: {', '.join(sorted(mine))}" for route, mine in codes.items())
    return " and ".join(told) or "none"


def _yes(value: bool) -> str:
    return "yes" if value else "no"


def _plain(answer: Noted | None) -> str:
    if answer is None:
        return "not noted"
    if answer.by is not None:
        return ", ".join(f"{part} {_plain(inner)}" for part, inner in answer.by.items())
    if answer.value is None:
        return f"unknown ({answer.unknown})"
    return ", ".join(answer.value) if isinstance(answer.value, tuple) else str(answer.value)


def _told(value: object) -> str:
    if isinstance(value, Differing):
        return "not to hold"
    return ", ".join(value) if isinstance(value, tuple) else str(value)


def _both(line: CheckLine) -> str:
    return f"{_plain(line.new)} ({_plain(line.old)} on the old computer)"


def _same(answer: Noted | None, wanted: object) -> bool:
    """Return whether an answer is what was wanted; one by part is its sum, or all its lists."""
    if answer is None:
        return False
    if answer.by is not None:
        values = [one.value for one in answer.by.values()]
        if isinstance(wanted, tuple):
            return all(isinstance(v, tuple) for v in values) and wanted == tuple(
                one for value in values if isinstance(value, tuple) for one in value
            )
        numbers = [v for v in values if isinstance(v, int | float)]
        return len(numbers) == len(values) and sum(numbers) == wanted
    found = answer.value
    if isinstance(found, tuple):
        return found == wanted if isinstance(wanted, tuple) else found == (str(wanted),)
    return found is not None and (found == wanted or str(found) == str(wanted))


def _not_differing(wanted: Differing, line: CheckLine) -> str:
    """Return what was expected of a check that does not hold, where it came otherwise."""
    if wanted.differs is not None:
        right = line.verdict == "differs" and _same(line.new, wanted.differs)
        return "" if right else f"not to hold: {_told(wanted.differs)}"
    assert wanted.unknown is not None
    told = " ".join(v.unknown for v in (line.old, line.new) if v is not None)
    return "" if told and re.search(wanted.unknown, told) else f"unknown: {wanted.unknown}"


def _is_empty(noted: Noted) -> bool:
    """Return whether there is none of what was read, in no part."""
    if noted.by is not None:
        return all(map(_is_empty, noted.by.values()))
    return noted.value in (0, (), "")


class Printed(NamedTuple):
    """What a program printed of what it shows, and its exit status."""

    text: str
    status: int = 0


def judge_screen(expected: Screen, old: Printed, new: Printed) -> Iterator[Difference]:
    """Compare what was printed on both sides; what is the same and empty is no proof, nor is a
    program that fails alike on both."""
    but_for = expected.same_but_for if isinstance(expected, SameButFor) else ()
    one, other = _screen_lines(old.text, but_for), _screen_lines(new.text, but_for)
    for station, printed in (("old", old), ("new", new)):
        if printed.status != 0:
            said = " / ".join(printed.text.strip().splitlines()[-2:])[:200]
            what = f"it ended with {printed.status}: {said}"
            yield Difference(f"screen on {station}", "the program to print it", what)
            return
    if not one:
        yield Difference(
            "screen", "something to compare", "nothing was printed on the old computer"
        )
    for (number, a), (_, b) in zip(one, other, strict=False):
        if a != b:
            yield Difference(f"screen, line {number}", a, b)
            return
    if len(one) != len(other):
        yield Difference("screen", f"{len(one)} lines", f"{len(other)} lines")


def _screen_lines(screen: str, but_for: Sequence[str]) -> list[tuple[int, str]]:
    """Return the lines of a print-out with their numbers, but for those that match."""
    lines = enumerate(screen.splitlines(), start=1)
    return [(n, line) for n, line in lines if not any(re.search(e, line) for e in but_for)]


def judge_machine(
    station: str, expected: OnMachine, machine: FolderMachine, loaded: Loaded
) -> Iterator[Difference]:
    """Give what is otherwise on a machine than is expected of it."""
    for path, text in expected.files.items():
        there = machine.look(path)
        found = machine.read(path).decode("utf-8", "replace") if there else "it is not there"
        if found != text:
            yield Difference(f"{path} on {station}", text, found[:2000])
    for path in expected.there:
        if machine.look(path) is None:
            yield Difference(f"{path} on {station}", "there", "it is not there")
    for path in expected.gone:
        if machine.look(path) is not None:
            yield Difference(f"{path} on {station}", "gone", "it is there")
    finder = find_application(machine, loaded)
    here = finder.installation
    facts = {"release": str((here and here.release) or ""), "edition": here.edition if here else ""}
    for name, fact in facts.items():
        wanted = getattr(expected, name)
        if wanted is not None and fact != wanted:
            yield Difference(f"{name} on {station}", wanted, fact or "unknown")
    for name, wanted in expected.readings.items():
        if name not in loaded.recipe.readings:
            yield Difference(
                f"{name} on {station}", str(wanted), "the recipe does not have this reading"
            )
            continue
        answer = finder.reading(name)
        if isinstance(answer, Unknown) or not _same(Noted(value=answer.value), wanted):
            where = loaded.spot("readings", name)
            yield Difference(f"{name} on {station}", _told(wanted), str(answer), where)
