"""Merging records into a store: what is new, the same and different, and what comes of it.

A record is known by its own identity, or by its content where it has none. What it says is the same
where its digest is. Sources are judged by what the store held before, so their order does not
matter; the same merge a second time finds all of it there and changes nothing.
"""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Callable, Iterable, Iterator, Sequence

from widetrail.closing import Closing
from widetrail.formats.record import (
    CHUNK,
    Broken,
    Converts,
    Fits,
    Folder,
    Lost,
    MergesFields,
    NeedsOnce,
    Piece,
    Record,
)
from widetrail.records.known import Keys, Known, is_among
from widetrail.records.spool import Span, Spool
from widetrail.records.values import FieldMerged, Merged, NewFile, Policy, Sort, Store

NAMED = 200
"""Records of a sort that are told by name; the others are counted."""


_NONE: tuple[Lost, ...] = ()

_Names = dict[str, "_Names"]
"""Folders by their names, each with those within it."""


class Merge(Closing):
    """One merge of sources into a store, judged as it is made; nothing is written by that."""

    def __init__(
        self,
        sources: Sequence[Store],
        target: Store,
        policy: Policy,
        passed: Callable[[int], None] | None = None,
    ) -> None:
        """Judge every record of ``sources``; ``passed`` is told the bytes that were read since it
        was told last.

        Raises:
            Broken: A store cannot be read as what it is said to be, or records of a source cannot
                be brought into the target's form.
        """
        form = target.records
        self._target = Store(form, target.path, form.habits(target.path, target.declared))
        self._needs = form if isinstance(form, NeedsOnce) else None
        self._policy, self._passed = policy, passed
        self._by_folder = form.by_folder
        self._keys = Keys(by_content=policy.by_content, by_folder=form.by_folder)
        self._form, self._in_folder = form, form.in_folder
        self._spool = Spool()
        self._added: dict[Folder, list[Span]] = {}
        self._paths: list[tuple[str, Span]] = []
        self._changed: dict[bytes, Span] = {}
        self._merging: dict[bytes, list[Record]] = defaultdict(list)
        self._folders: set[Folder] = {()}
        self._once: set[str] = set()
        self._at_end: bytes | None = None
        """What must stand before what is added, where that comes at the very end of the store."""
        self._between = b""
        self.held = 0
        """How many records the store holds before."""
        self._count: dict[Sort, int] = defaultdict(int)
        self._adds = self._others = 0
        self._fields: list[FieldMerged] = []
        self._lost: Counter[str] = Counter()
        self._names: dict[Sort, list[str]] = defaultdict(list)
        try:
            with Known() as there, Known() as coming:
                for piece in self._pieces():
                    if piece.ends is not None:
                        self._folders.add(piece.ends)
                    self._at_end = piece.glue if piece.ends == () and not piece.raw else None
                    self._between = self._between or piece.between
                    if (record := piece.record) is not None:
                        there.add(self._keys.of(record, record.folder), record.digest)
                        self.held += 1
                for source in sources:
                    self._judge(source, there, coming)
            if self._merging:
                self._merge_fields()
        except BaseException:
            self.close()
            raise

    def close(self) -> None:
        """Let go of what is kept for it."""
        self._spool.close()

    def _pieces(self) -> Iterator[Piece]:
        return self._read(self._target)

    def _read(self, store: Store) -> Iterator[Piece]:
        """Give the pieces of a store, and tell how many bytes they were."""
        pieces = store.records.pieces(store.path, store.declared)
        return pieces if self._passed is None else _watched(pieces, self._passed)

    # Judging

    def _judge(self, source: Store, there: Known, coming: Known) -> None:
        policy, form, target = self._policy, source.records, self._target
        rows = form.kind == "row" and bool(target.declared.fields)
        as_it_is = form.kind == target.records.kind and not rows
        fits = target.records if isinstance(target.records, Fits) else None
        source = Store(form, source.path, form.habits(source.path, source.declared))
        wants, landing, holds = policy.wants, policy.landing, len(there) > 0
        flat = not (target.records.by_folder or target.records.in_folder)
        sort: Sort
        for piece in self._read(source):
            if (told := piece.record) is None:
                continue
            if wants is not None and not wants(source, told):
                self._tell("unwanted", source, told)
                continue
            record, folder, lost = told, told.folder, _NONE
            if not as_it_is:
                record, lost = self._converted(source, told)
            if fits is not None:
                record, unfit = fits.fit(record, target.declared)
                lost = (*lost, *unfit)
            if flat and folder:
                lost = (*lost, Lost("the folder that it was in"))
            if landing:
                folder = (*landing, *folder)
            key, digest = self._keys.of(record, folder), record.digest
            held = there.of(key) if holds else b""
            if (held and is_among(held, digest)) or not coming.add(key, digest):
                sort = "same"
            else:
                sort = "different" if held else "new"
                if lost:
                    self._lose(lost)
                if held:
                    self._meet(key, record, folder)
                else:
                    self._add(record, folder)
            number = self._count[sort] = self._count[sort] + 1
            if number <= NAMED:
                self._names[sort].append(form.name(told))

    def _converted(self, source: Store, record: Record) -> tuple[Record, tuple[Lost, ...]]:
        """Return a record as the target's form can hold it."""
        form, target = source.records, self._target
        if not isinstance(target.records, Converts):
            raise Broken(f"holds {form.kind}s, which cannot be brought where {target.path.name} is")
        return target.records.made(form.fields(record, source.declared), target.declared)

    def _meet(self, key: bytes, record: Record, folder: Folder) -> None:
        """Decide about a record whose identity is there already, with another content."""
        match self._policy.duplicates:
            case "keep both":
                self._add(record, folder)
            case "replace":
                if key in self._changed:  # two of one identity come: both do
                    self._add(record, folder)
                else:
                    self._others += 1
                    self._changed[key] = self._kept(record)
            case "merge fields":
                self._merging[key].append(record)
            case "skip":
                pass

    def _add(self, record: Record, folder: Folder) -> None:
        self._adds += 1
        spooled = self._kept(record)
        if self._in_folder:
            path = self._form.path(record, folder, self._adds, self._target.declared)
            self._paths.append((path, spooled))
            return
        if not self._by_folder:
            folder = ()
        added = self._added.get(folder)
        if added is None:
            self._added[folder] = [spooled]
        elif self._between or added[-1][1] != spooled[0]:
            added.append(spooled)
        else:
            added[-1] = added[-1][0], spooled[1]

    def _kept(self, record: Record) -> Span:
        if self._needs is not None:
            for name, needed in self._needs.once(record, self._target.declared):
                if name not in self._once:
                    self._once.add(name)
                    self._added.setdefault((), []).append(self._spool.add(needed))
        data, lost = self._form.written(record, self._target.declared)
        if lost:
            self._lose(lost)
        return self._spool.add(data)

    def _lose(self, lost: Iterable[Lost]) -> None:
        for one in lost:
            self._lost[one.what] += 1

    def _tell(self, sort: Sort, source: Store, record: Record) -> None:
        self._count[sort] += 1
        if len(names := self._names[sort]) < NAMED:
            names.append(source.records.name(record))

    def _tell_same(self, name: str) -> None:
        """Say that a record that was told as different is the same after all."""
        self._count["different"] -= 1
        self._count["same"] += 1
        if name in (named := self._names["different"]):
            named.remove(name)

    def _merge_fields(self) -> None:
        """Have records of the store take in what those of the same identity say beside."""
        form = self._form
        assert isinstance(form, MergesFields), "the recipe's model refuses what cannot be merged so"
        for piece in self._pieces():
            if (record := piece.record) is None:
                continue
            key, now = self._keys.of(record, record.folder), record
            for other in sorted(self._merging.pop(key, ()), key=lambda one: one.digest):
                before = now
                now, lost = form.merged(before, other, self._target.declared)
                self._tell_fields(before, other, now)
                self._lose(lost)
                if now is before and not lost:  # it said all that already
                    self._tell_same(form.name(other))
            if now is not record:
                self._others += 1
                self._changed[key] = self._kept(now)

    def _tell_fields(self, before: Record, other: Record, now: Record) -> None:
        """Keep what becomes of each field in which two records differ, of the first of them."""
        form, declared = self._form, self._target.declared
        if len(self._fields) >= NAMED:
            return
        mine, said, then = (form.fields(one, declared) for one in (before, other, now))
        self._fields += [
            FieldMerged(form.name(before), name, mine.get(name, ()), said[name], then.get(name, ()))
            for name in said
            if mine.get(name, ()) != said[name]
        ]

    @property
    def merged(self) -> Merged:
        """What comes of it."""
        names = {sort: tuple(some) for sort, some in self._names.items()}
        lost, count = dict(self._lost), {s: n for s, n in self._count.items() if n}
        fields = tuple(self._fields[:NAMED])
        return Merged(self.held, self._adds, self._others, count, names, lost, fields)

    # Writing

    @property
    def changes(self) -> bool:
        """Whether the store may be another after it."""
        return bool(self._adds or self._changed)

    @property
    def only_adds(self) -> bool:
        """Whether all that comes stands after what the store holds, which is one file."""
        ends = self._added.keys() <= {()} and not self._paths
        return ends and not self._changed

    @property
    def appends(self) -> bool:
        """Whether all that comes stands at the very end of the store, which is one file."""
        return self.only_adds and self._at_end is not None

    def appended(self) -> Iterator[bytes]:
        """Give what comes to the very end of the store."""
        yield self._at_end or b""
        yield from self._spool.chunks(self._added.get((), ()))

    def chunks(self) -> Iterator[bytes]:
        """Give the store as it is after the merge, where it is one file."""
        if self.appends:
            yield from self._with_end()
            return
        waiting = self._by_end()
        done = set[bytes]()
        for piece in self._pieces():
            if piece.ends is not None and piece.ends in waiting:
                yield piece.glue
                added = filter(None, self._within(piece.ends, waiting.pop(piece.ends)))
                for number, data in enumerate(added):
                    yield piece.between + data if number and piece.between else data
            yield self._instead(piece, done)

    def _with_end(self) -> Iterator[bytes]:
        """Give the store as it stands, then what is added."""
        if self._target.path.exists():
            with self._target.path.open("rb") as file:
                while chunk := file.read(CHUNK):
                    yield chunk
        yield from self.appended()

    def _instead(self, piece: Piece, done: set[bytes]) -> bytes:
        """Return what stands in the place of a piece of the store."""
        record = piece.record
        if record is None or not self._changed:
            return piece.raw
        key = self._keys.of(record, record.folder)
        if key in done:
            return piece.raw
        if (spooled := self._changed.get(key)) is not None:
            done.add(key)
            return self._spool.read(spooled)
        return piece.raw

    def _by_end(self) -> dict[Folder, list[Folder]]:
        """Return the folders that something is added to, by the folder of the store in which that
        is to be told: itself, or the innermost above it that is there."""
        found: dict[Folder, list[Folder]] = defaultdict(list)
        for folder in self._added:
            depth = len(folder)
            while folder[:depth] not in self._folders:
                depth -= 1
            found[folder[:depth]].append(folder)
        return dict(found)

    def _within(self, top: Folder, folders: Sequence[Folder]) -> Iterator[bytes]:
        """Give what comes into ``top``: records of its own, then folders that are not there yet,
        each once, however deep."""
        inner: _Names = {}
        for folder in folders:
            at = inner
            for name in folder[len(top) :]:
                at = at.setdefault(name, {})
        yield from self._spool.chunks(self._added.get(top, ()))
        form = self._form
        open_ones: list[tuple[bytes, Iterator[tuple[str, _Names]]]] = [(b"", iter(inner.items()))]
        path = list(top)
        while open_ones:
            end, names = open_ones[-1]
            found = next(names, None)
            if found is None:
                open_ones.pop()
                yield end
                if open_ones:
                    path.pop()
                continue
            name, below = found
            path.append(name)
            begin, end = form.marks(name)
            yield begin
            yield from self._spool.chunks(self._added.get(tuple(path), ()))
            open_ones.append((end, iter(below.items())))

    def rows(self) -> tuple[list[Record], list[Record]]:
        """Return the records that come to a database, and those that replace others in it."""
        added = (one for some in self._added.values() for one in some)
        changed = self._changed.values()
        return [self._record(one) for one in added], [self._record(one) for one in changed]

    def _record(self, spooled: Span) -> Record:
        return Record(b"", b"", (), self._spool.read(spooled))

    def files(self) -> Iterator[NewFile]:
        """Give the files that come to a store that is a folder."""
        done = set[bytes]()
        for piece in self._pieces() if self._changed else ():
            data = self._instead(piece, done)
            if piece.record is not None and data != piece.raw:
                yield NewFile(piece.path, data, replaces=True)
        for path, spooled in self._paths:
            yield NewFile(path, self._spool.read(spooled), replaces=False)


def _watched(pieces: Iterator[Piece], passed: Callable[[int], None]) -> Iterator[Piece]:
    since = 0
    for piece in pieces:
        since += len(piece.raw)
        if since > CHUNK:
            passed(since)
            since = 0
        yield piece
    passed(since)
