"""``remnants``: whether anything that was put on new still names the old machine or the medium.

In settings, and wherever the recipe says that paths stand, that is a fault; in other files it is a
mention, which is told.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from widetrail.errors import MachineUnusable
from widetrail.finding.readings import copied_database
from widetrail.finding.remnants import MOST, find_remnants, in_texts, remnant_pattern
from widetrail.finding.stores import Store, StoreKind, selected, shown_name, texts_of
from widetrail.finding.written import values_at
from widetrail.formats.interface import Spot, Unreadable
from widetrail.recipe import Globs
from widetrail.steps.interface import Doing, Done, Facts, Failed, Outcome, Step, WrittenAt

TOLD = 5
"""Remnants that are told in one reason."""

KEPT = 100
"""Remnants and mentions that a report keeps, at most."""

MENTIONS_IN = 2000
"""Files of an item that is no settings which are looked through for mentions, at most."""


class Remnants:
    """Looks through what of an item is on new now."""

    def words(self, step: Step) -> str:
        return f"look whether anything of {step.item} still names the old machine or the medium"

    def do(self, step: Step, doing: Doing) -> Outcome:
        look = _Look(step, doing)
        look.do()
        facts: Facts = {
            "looked through": look.count,
            "mentions": look.mentions[:KEPT],
            "not looked through": [f"{look.left} more files"] if look.left else [],
        }
        found = look.found
        if not found:
            return Done(facts)
        more = f", and {len(found) - TOLD} more" if len(found) > TOLD else ""
        reason = f"{step.item} still names the old machine: {'; '.join(found[:TOLD])}{more}"
        todo = "Set it right in the program, or declare it under paths in the recipe."
        return Failed(reason, todo, {**facts, "remnants": found[:KEPT]})


class _Look:
    """One look at an item: what is a fault, and what is a mere mention."""

    def __init__(self, step: Step, doing: Doing) -> None:
        self._item, self._doing = step.item, doing
        self._pattern = remnant_pattern(doing.old_paths(step.item), doing.platform_of_old)
        self._expression = re.compile(self._pattern)
        self._told = [_stripped(path) for path in doing.told_elsewhere(step.item)]
        self.found: list[str] = []
        self.mentions: list[str] = []
        self.count = self.left = 0

    def do(self) -> None:
        """Look through all of the item that is on new."""
        doing = self._doing
        if (kind := doing.store(self._item)) is not None:
            self._values(kind)
        settings = doing.item(self._item).kind != "data"
        rules = [
            (Globs([rule.file or "**"], ignore_case=True), rule)
            for rule in doing.written(self._item)
            if rule.form not in ("registry", "dconf")
        ]
        for path, below in doing.landed(self._item):
            mine = [rule for matches, rule in rules if matches(below or "x")]
            if not settings and not mine and self.count >= MENTIONS_IN:
                self.left += 1
                continue
            self.count += 1
            try:
                self._file(path, mine, settings=settings)
            except (Unreadable, MachineUnusable):  # carried as it is: no program reads it either
                continue

    def _file(self, path: str, rules: Sequence[WrittenAt], *, settings: bool) -> None:
        there = self._doing.machine.look(path)
        if there is None or there.kind != "file":
            return
        faults: set[str] = set()
        for rule in rules if not settings else ():
            for spot in values_at(self._doing.machine, path, rule.form, rule.at):
                if self._expression.search(spot.text) and not self._is_told(spot.text):
                    faults.add(spot.text)
                    self.found.append(_line(path, spot))
        for spot in _look(self._doing, path, there.size, self._pattern):
            if settings and not self._is_told(spot.text):
                self.found.append(_line(path, spot))
            elif not any(fault in spot.text for fault in faults):
                self.mentions.append(_line(path, spot))

    def _values(self, kind: StoreKind) -> None:
        """Look through the values of an item that are in a store now."""
        doing, place = self._doing, self._doing.pinned(self._item)
        values = selected(kind, doing.item(self._item), Store(doing.machine, kind, place).read())
        for name, text in values.items():
            texts = [(shown_name(kind, name), s.text) for s in texts_of(kind, place, name, text)]
            for spot in in_texts(texts, self._pattern):
                if not self._is_told(spot.text):
                    self.found.append(f"{place}: {spot.where}: {spot.text}")

    def _is_told(self, text: str) -> bool:
        """Return whether a text holds a path that is told to stay as it is."""
        return any(path in _stripped(text) for path in self._told)


def _line(path: str, spot: Spot) -> str:
    return f"{path}:{spot.line or spot.where}: {spot.text}"


def _stripped(text: str) -> str:
    return "".join(c for c in text.casefold() if c not in "\\/")


def _look(doing: Doing, path: str, size: int, pattern: str) -> Iterator[Spot]:
    machine = doing.machine
    with machine.open(path) as file:
        data = file.read(MOST + 1)
    if data.startswith(b"SQLite format 3\0"):
        with copied_database(machine, path) as copy:
            yield from find_remnants(data[:16], pattern, copy)
    elif size <= MOST:
        yield from find_remnants(data, pattern)
