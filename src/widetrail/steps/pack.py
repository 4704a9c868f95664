"""``pack``: an item's files into the parcel; nothing on old is changed."""

from __future__ import annotations

import time
from collections.abc import Collection, Mapping
from io import BytesIO

from widetrail.errors import MachineUnusable, Waiting
from widetrail.finding import Selection
from widetrail.finding.stores import (
    CARRIED,
    Store,
    StoreKind,
    encode_values,
    is_value,
    selected,
)
from widetrail.formats.interface import Unreadable
from widetrail.machine import Entry
from widetrail.machine.paths import parent
from widetrail.recipe.templates import plain
from widetrail.steps.interface import Doing, Done, Failed, Outcome, Step
from widetrail.steps.saving import with_hard_links

LOOK_EVERY = 2.0
"""Seconds between two looks, while packing, at whether the program is still closed."""


class Pack:
    """Packs what an item stands for, links as links."""

    def words(self, step: Step) -> str:
        return f"pack {step.item} from {plain(step.text('from'))} into the parcel"

    def do(self, step: Step, doing: Doing) -> Outcome:
        while True:
            doing.await_closed(step.item)
            try:
                return self._pack(step, doing)
            except _Opened as error:
                doing.onlooker.waits(str(error))

    def _pack(self, step: Step, doing: Doing) -> Outcome:
        place, kind = doing.pinned(step.item), doing.store(step.item)
        if kind is not None:
            return _pack_values(step, doing, kind, place)
        there = doing.machine.look(place)
        if there is not None and there.kind == "file":
            place, entries = parent(place), [there]
        else:
            selection = Selection(
                doing.item(step.item), doing.machine.platform, doing.carved(step.item)
            )
            entries = list(with_hard_links(selection.walk(doing.machine, place)))
        left = [e.path for e in entries if e.kind == "other"]
        files = sum(e.kind == "file" for e in entries)
        outside = doing.outside(step.item)
        own = {e.path for e in entries}
        entries += _from_outside(doing, outside, own)
        files += len(outside)
        watch = _Watch(step, doing, sum(e.size for e in entries), files)
        machine = doing.machine

        def attributes(path: str) -> Mapping[str, bytes]:
            if path in outside:
                return machine.attributes(outside[path])
            return below.attributes(path) if path in own else {}

        with machine.opened(place) as below:
            files, size = doing.packing.add(
                step.item,
                (e for e in entries if e.kind != "other"),
                lambda p: machine.open(outside[p]) if p in outside else below.open(p),
                watch.moved,
                attributes,
            )
        return Done({"files": files, "size": size, "no files": list(left)})


def _from_outside(doing: Doing, outside: Mapping[str, str], taken: Collection[str]) -> list[Entry]:
    """Return the entries of files that lie elsewhere and go along, as they will lie on new.

    Raises:
        MachineUnusable: One is no longer there.
    """
    entries: list[Entry] = []
    for becomes, path in outside.items():
        there = doing.machine.look(path)
        if there is None or there.kind != "file":
            raise MachineUnusable("is no longer the file that was planned", where=path)
        folder = becomes.partition("/")[0]
        if not entries and folder not in taken:
            entries.append(Entry(folder, "folder", 0, there.mtime, 0o755))
        entries.append(there._replace(path=becomes, file_id=""))
    return entries


def _pack_values(step: Step, doing: Doing, kind: StoreKind, place: str) -> Outcome:
    """Pack the values that an item takes, as a text that the system's own tool reads."""
    try:
        values = selected(kind, doing.item(step.item), Store(doing.machine, kind, place).read())
    except Unreadable as error:
        return Failed(f"{place} {error}", "Mend what the reason names, then walk again.", {})
    data = encode_values(kind, place, values)
    moment = int(doing.now.timestamp() * 10**9)
    entry = Entry(CARRIED[kind], "file", len(data), moment, 0o600)
    files, size = doing.packing.add(step.item, [entry], lambda path: BytesIO(data))
    return Done({"files": files, "size": size, "values": sum(map(is_value, values))})


class _Opened(Waiting):
    """The program was opened while its files were packed."""


class _Watch:
    """Tells how far packing is, and looks every now and then whether the program stays closed."""

    def __init__(self, step: Step, doing: Doing, total: int, files: int) -> None:
        self._step, self._doing, self._total, self._files = step, doing, total, files
        self._done, self._count, self._begun = 0, 0, time.monotonic()
        self._looked = self._begun

    def moved(self, size: int, files: int) -> None:
        """Take note of bytes and files that are packed; none of either tell the end."""
        self._done, self._count = self._done + size, self._count + files
        now, done = time.monotonic(), not size and not files
        if done or now - self._looked >= LOOK_EVERY:
            self._looked = now
            if signs := self._doing.open_signs(self._step.item):
                raise _Opened("the program was opened while it was packed", why=signs)
        passed = now - self._begun
        left = (self._total - self._done) * passed / self._done if self._done else None
        far = self._count, self._files
        self._doing.onlooker.moves(self._done, self._total, "bytes", left, far)
