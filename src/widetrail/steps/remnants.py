"""``remnants``: whether anything that was put on new still names the old computer or the medium.

In settings, and wherever the recipe says that paths stand, that is a fault; in other files it is a
mention, which is told.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from contextlib import suppress
from typing import Literal, Protocol
from urllib.parse import unquote

from widetrail.errors import MachineUnusable
from widetrail.finding.old_path_search import MOST, find_remnants, in_texts, remnant_pattern
from widetrail.finding.path_values import values_at
from widetrail.finding.readings import copied_database
from widetrail.finding.stores import (
    Store,
    StoreKind,
    file_with,
    in_file,
    selected,
    shown_name,
    texts_of,
)
from widetrail.formats import Unreadable
from widetrail.formats.forms import FORMS
from widetrail.formats.interface import Spot
from widetrail.formats.outside import read_most
from widetrail.formats.stored_values import Count, Text
from widetrail.machine.interface import Opened
from widetrail.machine.path_notation import is_there, read_written
from widetrail.machine.paths import join
from widetrail.recipe import Globs
from widetrail.steps.contexts import OfItem, Paths, Work
from widetrail.steps.kind import Act
from widetrail.steps.outcomes import Done, Facts, Failed, Outcome, remarks
from widetrail.steps.step import Step, WrittenAt


class Has(Work, OfItem, Paths, Protocol):
    """What looking for remnants takes."""


TOLD = 5
"""Remnants that are told in one reason."""

KEPT = 100
"""Remnants and mentions that a report keeps, at most."""

MENTIONS_IN = 2000
"""Files of an item that is not settings which are looked through for mentions, at most."""


class RemnantsStep(Step):
    """A look through what of an item is on new."""

    kind: Literal["remnants"] = "remnants"


class RemnantsFacts(Facts):
    """How many files were looked through, and what in them still names old or the medium."""

    looked_through: Count = 0
    remnants: tuple[Text, ...] = ()


class Remnants(Act[RemnantsStep, Has]):
    """Looks through what of an item is on new now."""

    step = RemnantsStep
    effect = "looks"
    facts = RemnantsFacts

    def words(self, step: RemnantsStep) -> str:
        return f"Scan {step.item} for paths of the old computer or the medium"

    def do(self, step: RemnantsStep, doing: Has) -> Outcome:
        look = _Look(step, doing)
        look.do()
        left = [f"{look.left} more files"] if look.left else []
        facts = RemnantsFacts(
            looked_through=look.count,
            remarks=(*remarks("mention", look.mentions[:KEPT]), *remarks("not_searched", left)),
        )
        reasons = [
            f"{step.item} {words}: {_some(found)}"
            for words, found in (
                ("still names the old computer", look.found),
                ("names a path that does not exist", list(look.dangling)),
                ("names what existed here before; what came is beside it", list(look.others)),
            )
            if found
        ]
        if not reasons:
            return Done(facts)
        todo = "Correct it in the program, or declare it under paths in the recipe."
        dangling = remarks("dangling", list(look.dangling)[:KEPT])
        more = {
            "remnants": tuple(look.found[:KEPT]),
            "remarks": (*facts.remarks, *dangling),
        }
        return Failed("; ".join(reasons), todo, facts.model_copy(update=more))


def _some(found: Sequence[str]) -> str:
    more = f", and {len(found) - TOLD:,} more" if len(found) > TOLD else ""
    return f"{'; '.join(found[:TOLD])}{more}"


class _Look:
    """One look at an item: what is a fault, and what is a mere mention."""

    def __init__(self, step: Step, doing: Has) -> None:
        self._item, self._doing = step.item, doing
        self._pattern = remnant_pattern(doing.old_paths(step.item), doing.platform_of_old)
        self._expression = re.compile(self._pattern)
        self._told = [_stripped(path) for path in doing.told_elsewhere(step.item)]
        self._left_out = set(doing.dangling(step.item))
        self._others = doing.came_beside()
        self.found: list[str] = []
        self.dangling: dict[str, None] = {}
        self.others: dict[str, None] = {}
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
            if not FORMS[rule.form].is_store
        ]
        for folder, paths in doing.landed(self._item):
            if doing.machine.look(folder) is None:
                continue
            with doing.machine.opened(folder) as opened:
                for below in paths:
                    mine = [rule for matches, rule in rules if matches(below)]
                    if not settings and not mine and self.count >= MENTIONS_IN:
                        self.left += 1
                        continue
                    self.count += 1
                    with suppress(Unreadable, MachineUnusable):  # it was carried as it is
                        self._file(opened, folder, below, mine, settings=settings)

    def _file(
        self,
        opened: Opened,
        folder: str,
        below: str,
        rules: Sequence[WrittenAt],
        *,
        settings: bool,
    ) -> None:
        path, faults = join(folder, below), set[str]()
        with opened.open(below) as file:
            data = read_most(file, MOST + 1)
        for rule in rules:
            spots: list[Spot] = []
            with suppress(Unreadable, MachineUnusable):  # that was told when it was not rewritten
                spots = values_at(self._doing.machine, path, rule.form, rule.at)
            for spot in spots:
                self._what_it_names(rule.how.parted(spot.text)[1], spot, path)
                names_old = self._expression.search(spot.text) and not self._is_told(spot.text)
                if not settings and names_old:
                    faults.add(spot.text)
                    self.found.append(_line(path, spot))
        for spot in self._spots(path, data):
            if settings and not self._is_told(spot.text):
                self.found.append(_line(path, spot))
            elif not any(fault in spot.text for fault in faults):
                self.mentions.append(_line(path, spot))

    def _what_it_names(self, text: str, spot: Spot, source: str) -> None:
        """Take note of a value that names what did not arrive, or somebody else's file.

        ``text`` is the path in it.
        """
        machine = self._doing.machine
        written, _ = read_written(text, machine, source) if text else (None, "")
        if written is None:
            return
        missing = written.path in self._left_out or self._doing.was_carried(written.path)
        if missing and not is_there(machine, written.path):
            self.dangling[_line(source, spot)] = None
        elif written.path in self._others:
            self.others[f"{_line(source, spot)}, came as {self._others[written.path]}"] = None

    def _spots(self, path: str, data: bytes) -> Iterator[Spot]:
        if data.startswith(b"SQLite format 3\0"):
            with copied_database(self._doing.machine, path) as copy:
                yield from find_remnants(data[:16], self._pattern, copy)
        elif len(data) <= MOST:
            yield from find_remnants(data, self._pattern)

    def _values(self, kind: StoreKind) -> None:
        """Look through the values of an item that are in a store now."""
        doing, place = self._doing, self._doing.pinned(self._item)
        values = selected(kind, doing.item(self._item), Store(doing.machine, kind, place).read())
        if in_file(kind):
            for spot in find_remnants(file_with(kind, b"", values), self._pattern):
                if not self._is_told(spot.text):
                    self.found.append(f"{place}: {spot.text}")
            return
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
    return "".join(c for c in unquote(text).casefold() if c not in "\\/")
