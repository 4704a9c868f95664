"""Which files of a place an item stands for."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Sequence
from contextlib import suppress

from widetrail.errors import MachineUnusable
from widetrail.finding.stores import (
    Store,
    carried_as,
    encode_values,
    is_value,
    selected,
    store_kind,
)
from widetrail.finding.values import Found
from widetrail.formats.companions import JOURNALS, SQLITE, database_of
from widetrail.lazily import dataclass
from widetrail.machine import Entry, Machine
from widetrail.machine.paths import join, key
from widetrail.machine.platforms import PLATFORMS, Platform
from widetrail.recipe import Globs, Item
from widetrail.spill import Spilled


@dataclass(frozen=True)
class Tally:
    """How much an item is: regular files, their bytes, the newest change (ns since 1970).

    ``values`` are the named values that it holds, where it is a text of these.
    """

    files: int = 0
    size: int = 0
    newest: int = 0
    values: int = 0


class Selection:
    """The ``take`` and ``leave`` of an item, for the names of one platform."""

    def __init__(self, item: Item, platform: Platform, carved: Sequence[str] = ()) -> None:
        """``carved`` are paths below the place that belong to other items."""
        ignore_case = PLATFORMS[platform].ignores_case
        self._carved = tuple(key(path, platform) for path in carved)
        self._platform: Platform = platform
        self.whole = not item.take
        self._take = Globs(item.take or ("**",), ignore_case=ignore_case)
        self._leave = Globs(item.leave, ignore_case=ignore_case)
        self._everything = self.whole and not item.leave and not carved

    def __call__(self, path: str) -> bool:
        """Return whether the item stands for ``path``, relative to its place."""
        if self._everything:
            return True
        return self._take(path) and not self._leave(path) and not self._elsewhere(path)

    def _elsewhere(self, path: str) -> bool:
        if not self._carved:
            return False
        mine = key(path, self._platform)
        return any(mine == c or mine.startswith(f"{c}/") for c in self._carved)

    def walk(self, machine: Machine, folder: str) -> Iterator[Entry]:
        """Give the selected entries below ``folder``, each after the folders it lies in.

        The journals of a selected database are selected too: without them it is another one.
        """
        if self._everything:
            yield from machine.walk(folder)
            return
        waiting: dict[str, Entry] = {}
        given: set[str] = set()
        for entry in machine.walk(folder):
            if entry.kind == "folder":
                waiting[entry.path] = entry
            if not self(entry.path) and not self._is_journal(machine, folder, entry, given):
                continue
            parts = entry.path.split("/")
            for depth in range(1, len(parts)):
                above = "/".join(parts[:depth])
                if above not in given:
                    given.add(above)
                    yield waiting[above]
            given.add(entry.path)
            yield entry

    def _is_journal(
        self, machine: Machine, folder: str, entry: Entry, given: Collection[str]
    ) -> bool:
        database, _ = database_of(entry.path) if entry.kind == "file" else ("", "")
        return database in given and is_database(machine, join(folder, database))


def is_database(machine: Machine, path: str) -> bool:
    """Return whether the file at ``path`` is a database that may have journals beside it."""
    with suppress(MachineUnusable), machine.open(path) as file:
        return file.read(len(SQLITE)) == SQLITE
    return False


def with_journals(machine: Machine, path: str, there: Entry) -> list[Entry]:
    """Return the file at ``path`` and, where it is a database, its journals beside it."""
    entries = [there]
    if any(machine.look(f"{path}{ending}") for ending in JOURNALS) and is_database(machine, path):
        for ending in JOURNALS:
            journal = machine.look(f"{path}{ending}")
            if journal is not None and journal.kind == "file":
                entries.append(journal)
    return entries


def entries_of(
    machine: Machine, item: Item, place: Found, carved: Sequence[str] = ()
) -> tuple[Collection[Entry], int]:
    """Return what an item stands for: all below its folder that it takes, its file, or the text
    of its values; and how many values these are. However much it is, little of it is in memory.

    Raises:
        MachineUnusable: Something of it cannot be read.
        Unreadable: Its values cannot be read.
    """
    kind = store_kind(item, place.path, place.kind)
    if kind is not None:
        values = selected(kind, item, Store(machine, kind, place.path).read())
        size = len(encode_values(kind, place.path, values))
        return [Entry(carried_as(kind), "file", size, 0, 0o600)], sum(map(is_value, values))
    there = machine.look(place.path)
    if there is None or there.kind != "folder":
        single = there is not None and there.kind == "file"
        return with_journals(machine, place.path, there) if single and there else [], 0
    below = Selection(item, machine.platform, carved).walk(machine, place.path)
    return Spilled(Entry._make, below), 0


def tally(entries: Iterable[Entry]) -> Tally:
    """Count ``entries``."""
    files = size = newest = 0
    for entry in entries:
        if entry.kind == "file":
            files, size, newest = files + 1, size + entry.size, max(newest, entry.mtime)
    return Tally(files, size, newest)
