"""``remnants``: whether anything that was put on new still names the old machine or the medium.

In settings, and wherever the recipe says that paths stand, that is a fault; in other files it is a
mention, which is told.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from widetrail.errors import MachineUnusable
from widetrail.finding.readings import copied_database
from widetrail.finding.remnants import MOST, find_remnants, in_texts, remnant_pattern
from widetrail.finding.stores import Store, StoreKind, selected, shown_name, texts_of
from widetrail.formats.interface import Spot, Unreadable
from widetrail.recipe import Globs
from widetrail.steps.interface import Doing, Done, Facts, Failed, Outcome, Step

TOLD = 5
"""Remnants that are told in one reason."""


class Remnants:
    """Looks through what of an item is on new now."""

    def words(self, step: Step) -> str:
        return f"look whether anything of {step.item} still names the old machine or the medium"

    def do(self, step: Step, doing: Doing) -> Outcome:
        pattern = remnant_pattern(doing.old_paths(step.item), doing.platform_of_old)
        published = doing.landed(step.item)
        told = [text.casefold() for text in doing.told_elsewhere(step.item)]
        found: list[str] = []
        mentions: list[str] = []
        kind = doing.store(step.item)
        if kind is not None:
            found += _in_store(step, doing, kind, pattern, told)
        for path, below in published:
            settings = self._is_setting(step, doing, below)
            for spot in _look(doing, path, pattern):
                line = f"{path}:{spot.line or spot.where}: {spot.text}"
                if settings and not _is_told(spot.text, told):
                    found.append(line)
                else:
                    mentions.append(line)
        facts: Facts = {"looked through": len(published), "mentions": mentions[:100]}
        if not found:
            return Done(facts)
        more = f", and {len(found) - TOLD} more" if len(found) > TOLD else ""
        reason = f"{step.item} still names the old machine: {'; '.join(found[:TOLD])}{more}"
        todo = "Set it right in the program, or declare it under paths in the recipe."
        return Failed(reason, todo, {**facts, "remnants": found[:100]})

    def _is_setting(self, step: Step, doing: Doing, below: str) -> bool:
        if doing.item(step.item).kind != "data":
            return True
        files = [rule.file or "**" for rule in doing.written(step.item)]
        return bool(files) and Globs(files, ignore_case=True)(below or "x")


def _is_told(text: str, told: Sequence[str]) -> bool:
    """Return whether a text holds a path that is told to stay as it is."""
    return any(_stripped(path) in _stripped(text) for path in told)


def _in_store(
    step: Step, doing: Doing, kind: StoreKind, pattern: str, told: Sequence[str]
) -> Iterator[str]:
    """Give the values of an item that still name old."""
    place = doing.pinned(step.item)
    values = selected(kind, doing.item(step.item), Store(doing.machine, kind, place).read())
    for name, text in values.items():
        texts = [(shown_name(kind, name), s.text) for s in texts_of(kind, place, name, text)]
        for spot in in_texts(texts, pattern):
            if not _is_told(spot.text, told):
                yield f"{place}: {spot.where}: {spot.text}"


def _stripped(text: str) -> str:
    return "".join(c for c in text.casefold() if c not in "\\/")


def _look(doing: Doing, path: str, pattern: str) -> Iterator[Spot]:
    machine = doing.machine
    try:
        there = machine.look(path)
        if there is None or there.kind != "file":
            return
        with machine.open(path) as file:
            head = file.read(16)
        if head == b"SQLite format 3\0":
            with copied_database(machine, path) as copy:
                yield from find_remnants(head, pattern, copy)
        elif there.size <= MOST:
            yield from find_remnants(machine.read(path), pattern)
    except (Unreadable, MachineUnusable):  # it was carried as it is, and no program reads it either
        return
