"""``pack``: an item's files into the parcel; nothing on old is changed."""

from __future__ import annotations

import time
from collections.abc import Collection, Iterable, Iterator, Mapping
from io import BytesIO
from itertools import chain, zip_longest
from typing import BinaryIO, Literal, Protocol

from widetrail.errors import MachineUnusable, Waiting
from widetrail.finding import Selection, with_journals
from widetrail.finding.stores import (
    Store,
    StoreKind,
    carried_as,
    encode_values,
    is_value,
    selected,
)
from widetrail.formats import Unreadable
from widetrail.formats.stored_values import Count
from widetrail.machine import Entry
from widetrail.machine.interface import Opened
from widetrail.machine.paths import parent
from widetrail.recipe.templates import plain
from widetrail.spill import Spilled
from widetrail.steps.backup import with_hard_links
from widetrail.steps.cargo import UnreadableFile, Unstable
from widetrail.steps.contexts import Cargo, OfItem, People, Work
from widetrail.steps.kind import Act, Touched
from widetrail.steps.outcomes import Done, Facts, Failed, Outcome, Remark, remarks
from widetrail.steps.people import Asked
from widetrail.steps.step import Step


class Has(Work, OfItem, Cargo, People, Protocol):
    """What packing takes."""


LOOK_EVERY = 2.0
"""Seconds between two looks, while packing, at whether the program is still closed."""

TELL_EVERY = 0.05
"""Seconds between two times that the person is told how far packing is."""


class PackStep(Step):
    """An item that is packed from its place."""

    kind: Literal["pack"] = "pack"
    source: str


class PackFacts(Facts):
    """What was packed: files with their bytes, links, and named values."""

    files: Count = 0
    size: Count = 0
    links: Count = 0
    values: Count = 0

    @property
    def is_nothing(self) -> bool:
        return not (self.files or self.links)


class Pack(Act[PackStep, Has]):
    """Packs what an item stands for, links as links."""

    step = PackStep
    effect = "copies"
    facts = PackFacts
    needs_closed = True
    packs = True
    moves_data = True

    def touches(self, step: PackStep, doing: OfItem) -> Iterator[Touched]:
        yield Touched(doing.pinned(step.item), told=doing.is_told(step.item), taken=True)

    def words(self, step: PackStep) -> str:
        return f"Copy {step.item} from {plain(step.source)} into the parcel"

    def do(self, step: PackStep, doing: Has) -> Outcome:
        place, kind = doing.pinned(step.item), doing.store(step.item)
        tries, left_out = 1, _LeftOut(step, doing)
        while True:
            doing.await_closed(step.item)
            if kind is not None:
                return _pack_values(step, doing, kind, place)
            try:
                return self._pack(step, doing, left_out)
            except _Opened as error:
                doing.onlooker.waits(str(error))
            except Unstable as error:
                if tries == TRIES:
                    raise
                doing.onlooker.waits(f"{error}; it is read again")
                tries += 1
            except UnreadableFile as error:
                left_out.ask(error)

    def _pack(self, step: Step, doing: Has, left_out: _LeftOut) -> Outcome:
        listed = _Listed(step, doing, left_out.paths)
        watch = _Watch(step, doing, listed.size, listed.files)
        with doing.machine.opened(listed.folder) as below:
            files, size = doing.packing.add(
                step.item,
                listed.entries,
                lambda p: listed.open(below, p),
                watch.moved,
                lambda p: listed.attributes(below, p),
            )
        if changed := listed.changed():
            raise Unstable(changed)
        told = (*remarks("irregular", listed.irregular), *left_out.told)
        return Done(PackFacts(files=files, size=size, links=listed.links, remarks=told))


TRIES = 3
"""How often an item is listed and packed whose files are changed meanwhile."""


class _LeftOut:
    """The files that cannot be read, and what the person says of them."""

    ALL = "leave out all like it"
    CHOICES = ("leave it out", ALL, "stop")

    def __init__(self, step: Step, doing: Has) -> None:
        self._step, self._doing, self._all = step, doing, False
        self.paths: set[str] = set()
        self.told: list[Remark] = []

    def ask(self, error: UnreadableFile) -> None:
        """Leave a file out, where the person says so.

        Raises:
            UnreadableFile: They do not.
        """
        if not self._all:
            recipe, item = self._doing.finder(self._step.item).loaded.id, self._step.item
            words = f"{error}. Leave it out? It does not arrive then"
            asked = Asked(recipe, UNREADABLE, words, item, choices=self.CHOICES)
            answer = self._doing.ask(asked)
            if answer not in self.CHOICES[:2]:
                raise error
            self._all = answer == self.ALL
        self.paths.add(error.path)
        self.told.append(Remark(code="unreadable", path=error.where, reason=error.why))


UNREADABLE = "unreadable"
"""The name by which a person says whether files that cannot be read are left out."""


OTHERS = 0o077
"""What a mode lets others than the account do."""


class _Listed:
    """What an item is on old now: its place, all it takes below it, and files from elsewhere."""

    def __init__(self, step: Step, doing: Has, left_out: Collection[str]) -> None:
        self._step, self._doing, self._machine = step, doing, doing.machine
        self._left_out, self.outside = left_out, doing.outside(step.item)
        self.folder = self._place = doing.pinned(step.item)
        self.irregular: list[str] = []
        self._made: Collection[str] = ()
        """Folders that nothing of the machine stands behind: files from elsewhere lie in them."""
        self.files = self.links = self.size = 0
        self.entries = Spilled(Entry._make, self._counted())

    def _counted(self) -> Iterator[Entry]:
        for entry in self._listing():
            self.files += entry.kind == "file"
            self.links += entry.kind == "link"
            self.size += entry.size
            yield entry

    def _listing(self) -> Iterator[Entry]:
        """Give all of it as it is now, in one order."""
        found = (entry for entry in self._with_outside() if entry.path not in self._left_out)
        if self._doing.item(self._step.item).kind == "secret":
            return (entry._replace(mode=entry.mode & ~OTHERS) for entry in found)
        return found

    def _with_outside(self) -> Iterator[Entry]:
        """Give what is at the place and below it, then the files from elsewhere."""
        self.irregular, top = [], set()
        for entry in self._own():
            if entry.kind == "other":
                self.irregular.append(entry.path)
                continue
            if self.outside and "/" not in entry.path:
                top.add(entry.path)
            yield entry
        more = _from_outside(self._doing, self.outside, top)
        self._made = {entry.path for entry in more if entry.kind == "folder"}
        yield from more

    def _own(self) -> Iterable[Entry]:
        """Give what is at the place and below it."""
        there = self._machine.look(self._place)
        if there is None:
            raise MachineUnusable("no longer exists", where=self._place)
        if there.kind == "file":
            self.folder = parent(self._place)
            return with_journals(self._machine, self._place, there)
        item, platform = self._doing.item(self._step.item), self._machine.platform
        selection = Selection(item, platform, self._doing.carved(self._step.item))
        below = with_hard_links(selection.walk(self._machine, self._place))
        return chain([there._replace(path="")], below)

    def open(self, below: Opened, path: str) -> BinaryIO:
        """Open a file of it for reading."""
        elsewhere = self.outside.get(path)
        return self._machine.open(elsewhere) if elsewhere is not None else below.open(path)

    def attributes(self, below: Opened, path: str) -> Mapping[str, bytes]:
        """Return the extended attributes of something of it."""
        if path in self.outside or not path:
            return self._machine.attributes(self.outside.get(path, self.folder))
        return {} if path in self._made else below.attributes(path)

    def changed(self) -> str:
        """Return a path that is another now, or is or was there alone, or an empty text.

        The times of a folder change with names that are not the item's.
        """
        for one, other in zip_longest(self.entries, self._listing()):
            if one != other and not (one and other and _seen(one) == _seen(other)):
                return min(entry.path for entry in (one, other) if entry is not None)
        return ""


def _seen(entry: Entry) -> Entry:
    return entry._replace(mtime=0) if entry.kind == "folder" else entry


def _from_outside(doing: Has, outside: Mapping[str, str], taken: Collection[str]) -> list[Entry]:
    """Return the entries of files that lie elsewhere and go along, as they will lie on new.

    Raises:
        MachineUnusable: One no longer exists.
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


def _pack_values(step: Step, doing: Has, kind: StoreKind, place: str) -> Outcome:
    """Pack the values that an item takes, as a text that the system's own tool reads."""
    try:
        values = selected(kind, doing.item(step.item), Store(doing.machine, kind, place).read())
    except Unreadable as error:
        return Failed(f"{place} {error}", "Fix the cause above, then walk again.")
    data = encode_values(kind, place, values)
    moment = int(doing.now.timestamp() * 10**9)
    entry = Entry(carried_as(kind), "file", len(data), moment, 0o600)
    files, size = doing.packing.add(step.item, [entry], lambda path: BytesIO(data))
    return Done(PackFacts(files=files, size=size, values=sum(map(is_value, values))))


class _Opened(Waiting):
    """The program was opened while its files were packed."""


class _Watch:
    """Tells how far packing is, and looks every now and then whether the program stays closed."""

    def __init__(self, step: Step, doing: Has, total: int, files: int) -> None:
        self._step, self._doing, self._total, self._files = step, doing, total, files
        self._done, self._count, self._begun = 0, 0, time.monotonic()
        self._looked = self._told = self._begun

    def moved(self, size: int, files: int) -> None:
        """Take note of bytes and files that are packed; none of either tell the end."""
        self._done, self._count = self._done + size, self._count + files
        now, done = time.monotonic(), not size and not files
        if done or now - self._looked >= LOOK_EVERY:
            self._looked = now
            if signs := self._doing.open_signs(self._step.item):
                raise _Opened("the program was opened while it was packed", why=signs)
        if not done and now - self._told < TELL_EVERY:
            return
        self._told = now
        passed = now - self._begun
        left = (self._total - self._done) * passed / self._done if self._done else None
        far = self._count, self._files
        self._doing.onlooker.moves(self._done, self._total, "bytes", left, far)
