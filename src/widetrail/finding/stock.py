"""Taking stock of a machine's disks in one walk: what each claim holds, and what nobody claims.

Nothing is changed, links and other file systems are not crossed. Claims are patterns in one
automaton; its states are carried down the walk, so a file costs a look-up or less.
"""

from __future__ import annotations

import os
import stat
import sys
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

from widetrail.errors import MachineUnusable
from widetrail.finding.automaton import ANYWHERE, Automaton, Segment, State, key_of
from widetrail.finding.grounds import ANOTHER, Grounds
from widetrail.finding.likeness import BEGINNING, Likeness, likeness
from widetrail.finding.selection import Tally
from widetrail.machine import Machine
from widetrail.machine.host import DEEPEST, FOLDER_FLAGS, status_of
from widetrail.machine.paths import base, key, parent, split

ENDING_MOST = 12
"""Characters of an ending; what is longer is none."""

LOOKED_INSIDE = 200
"""Groups whose largest file is looked into, at most: the largest groups."""


@dataclass(frozen=True, slots=True)
class Claimed:
    """What an item of a recipe stands for on the machine: globs ``take`` and ``leave`` at and below
    ``path``, whose names after the first ``fixed`` characters may hold globs.

    ``here`` tells that the application is on the machine. Without an ``item`` it is a place that a
    recipe only knows.
    """

    recipe: str
    item: str
    path: str
    take: tuple[str, ...] = ()
    leave: tuple[str, ...] = ()
    fixed: int = -1
    here: bool = True

    def segments(self, fold: Callable[[str], str]) -> list[str]:
        """Return the segments of its path as the automaton wants them."""
        end = len(self.path) if self.fixed < 0 else self.fixed
        anchor, names = split(self.path[:end])
        plain = [fold(name) for name in ([anchor] if anchor else []) + names]
        return plain + [Segment(fold(s)) for s in self.path[end:].split("/") if s]


@dataclass(frozen=True, slots=True)
class Group:
    """Files that nobody claims: all of a folder, or only those right in it where not ``whole``.

    ``known`` are the recipes in whose places some of them lie, and no item of which takes them.
    """

    path: str
    whole: bool
    tally: Tally
    likeness: Likeness
    known: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Shared:
    """Files that items of several recipes claim: which (``recipe.item``), how much, and where."""

    claims: tuple[str, ...]
    tally: Tally
    path: str


@dataclass(frozen=True, slots=True)
class Stock:
    """What a walk found.

    ``taken`` and ``left`` are, by the number of a claim, what it takes and what it leaves on
    purpose. ``passed`` are paths that were not looked into, with why; ``names`` how many names were
    seen, ``links`` how many of them were links.
    """

    taken: tuple[Tally, ...]
    left: tuple[Tally, ...]
    groups: tuple[Group, ...]
    shared: tuple[Shared, ...]
    passed: tuple[tuple[str, str], ...]
    names: int
    links: int


NOTHING = Stock((), (), (), (), (), 0, 0)
"""The stock where no disk was walked."""

Tick = Callable[[float, int], None]
"""Told what share of the walk is done (0 to 1) and how many names were seen."""


def take_stock(
    machine: Machine, claims: Sequence[Claimed], grounds: Grounds,
    tick: Tick = lambda share, names: None,
) -> Stock:  # fmt: skip
    """Walk the grounds, and what claims name outside of them, and return what is there."""
    walk = _Walk(machine, claims, grounds, tick)
    walk.all_of_it()
    return walk.stock()


_FORMAT, _REGULAR, _FOLDER, _LINK = 0o170000, stat.S_IFREG, stat.S_IFDIR, stat.S_IFLNK
_BELOW_HANDLES = os.scandir in os.supports_fd and os.open in os.supports_dir_fd
"""Whether names are opened and looked at below an open folder, which is quicker than by paths."""

_TELLS_ALL = sys.platform != "win32"


class _At:
    """Where a walk is: for the system, for people, as a key of the volume; on which file system,
    and how much deeper it may go."""

    __slots__ = ("depth", "device", "folded", "host", "shown")

    def __init__(self, host: str, shown: str, folded: str, device: int, depth: int) -> None:
        self.host, self.shown, self.folded = host, shown.rstrip("/"), folded.rstrip("/")
        self.device, self.depth = device, depth

    def within(self, name: str, folded: str) -> _At:
        """Return where a folder in it is."""
        inner = _At.__new__(_At)
        inner.host, inner.shown = f"{self.host}{os.sep}{name}", f"{self.shown}/{name}"
        inner.folded, inner.device = f"{self.folded}/{folded}", self.device
        inner.depth = self.depth - 1
        return inner


class _Sum:
    """A tally that grows."""

    __slots__ = ("files", "newest", "size")

    def __init__(self) -> None:
        self.files = self.size = self.newest = 0

    def add(self, size: int, newest: int, files: int = 1) -> None:
        self.files += files
        self.size += size
        if newest > self.newest:
            self.newest = newest

    def told(self) -> Tally:
        return Tally(self.files, self.size, self.newest)


class _Bunch(_Sum):
    """Files that nobody claims, by their endings; ``odd`` is the largest whose ending tells
    nothing, ``known`` the recipes in whose places they lie."""

    __slots__ = ("endings", "known", "odd", "odd_size")

    def __init__(self) -> None:
        super().__init__()
        self.endings: dict[str, list[int]] = {}
        self.known: set[str] = set()
        self.odd, self.odd_size = "", -1

    def take_in(self, other: _Bunch) -> None:
        self.add(other.size, other.newest, other.files)
        for ending, (files, size) in other.endings.items():
            mine = self.endings.setdefault(ending, [0, 0])
            mine[0] += files
            mine[1] += size
        self.known |= other.known
        if other.odd_size > self.odd_size:
            self.odd, self.odd_size = other.odd, other.odd_size


class _Facts:
    """What it means to be in one state: whose sums grow, or that nobody claims it."""

    __slots__ = ("inside", "is_shared", "sums", "taken")

    def __init__(self, sums: list[_Sum], taken: tuple[int, ...], inside: str) -> None:
        self.sums, self.taken, self.inside = sums, taken, inside
        self.is_shared = False


_BASE, _TAKE, _LEAVE, _KNOWN = range(4)
"""What a mark says of a path: it lies in the claim's place, is taken, is left, or is only known."""


class _Walk:
    def __init__(
        self, machine: Machine, claims: Sequence[Claimed], grounds: Grounds, tick: Tick
    ) -> None:
        self._machine, self._claims, self._grounds, self._tick = machine, claims, grounds, tick
        self._fold = key_of(machine.platform)
        self._cache = key(machine.root("cache"), machine.platform)
        self._taken = [_Sum() for _ in claims]
        self._left = [_Sum() for _ in claims]
        self._shared: dict[tuple[int, ...], tuple[_Sum, str]] = {}
        self._groups: list[tuple[str, bool, _Bunch]] = []
        self._passed: dict[str, str] = {}
        self._names = self._links = 0
        self._telling = True
        self._begun: set[str] = set()
        self._starts = {self._fold(start) for start in grounds.starts}
        self._automaton = Automaton()
        for number, claim in enumerate(claims):
            self._add(number, claim)

    def _add(self, number: int, claim: Claimed) -> None:
        above, mark, add = claim.segments(self._fold), 4 * number, self._automaton.add
        if not claim.item:
            add([*above, Segment(ANYWHERE)], mark + _KNOWN)
            return
        add([*above, Segment(ANYWHERE)], mark + _BASE)
        for glob in claim.take or (ANYWHERE,):
            add([*above, *self._glob(glob)], mark + _TAKE)
        for glob in claim.leave:
            add([*above, *self._glob(glob)], mark + _LEAVE)

    def _glob(self, glob: str) -> list[Segment]:
        return [Segment(self._fold(segment)) for segment in glob.split("/")]

    def _facts(self, state: State) -> _Facts:
        """Return what it means to be at a path of that state: the claims whose place is the
        innermost decide."""
        if isinstance(state.facts, _Facts):
            return state.facts
        kinds: dict[int, set[int]] = {}
        for mark in state.marks:
            kinds.setdefault(mark // 4, set()).add(mark % 4)
        held = [number for number, found in kinds.items() if _BASE in found]
        depth = max((self._claims[n].path.count("/") for n in held), default=0)
        mine = [n for n in held if self._claims[n].path.count("/") == depth]
        taken = tuple(n for n in mine if _TAKE in kinds[n] and _LEAVE not in kinds[n])
        left = [n for n in mine if _LEAVE in kinds[n]] if not taken else []
        sums = [self._taken[n] for n in taken] + [self._left[n] for n in left]
        known = mine or [n for n, found in kinds.items() if _KNOWN in found]
        inside = self._claims[known[0]].recipe if known and not sums else ""
        facts = _Facts(sums, taken, inside)
        facts.is_shared = len({self._claims[n].recipe for n in taken}) > 1
        state.facts = facts
        return facts

    # Where

    def all_of_it(self) -> None:
        """Walk the grounds, then what claims name elsewhere."""
        starts = self._grounds.starts
        for number, start in enumerate(starts):
            self._begin(start, number / len(starts), 1 / len(starts))
        self._telling = False
        elsewhere = {claim.path for claim in self._claims if claim.here and claim.item}
        for path in sorted(elsewhere):
            if not self._reached(path):
                self._begin(path, 1.0, 0.0)

    def _reached(self, path: str) -> bool:
        """Return whether a walk came by a path."""
        passed = {self._fold(shown) for shown in self._passed}
        while True:
            mine = self._fold(path)
            if mine in self._begun:
                return True
            if mine in passed or parent(path) == path:
                return False
            path = parent(path)

    def _begin(self, start: str, begin: float, width: float) -> None:
        """Walk at and below one start; ``begin`` and ``width`` are its share of the whole."""
        folded = self._fold(start)
        if folded in self._begun:
            return
        self._begun.add(folded)
        state = self._automaton.start
        anchor, names = split(start)
        for name in ([anchor] if anchor else []) + names:
            state = state.step(self._fold(name))
        try:
            host = self._machine.host(start)
            status = host.lstat()
        except (MachineUnusable, OSError, ValueError):
            return
        if stat.S_ISDIR(status.st_mode):
            at = _At(str(host), start, folded, status.st_dev, DEEPEST)
            self._emit(start, self._folder(at, None, state, begin, width), whole=True)
        elif stat.S_ISREG(status.st_mode):
            self._names += 1
            facts = self._facts(state)
            if facts.sums:
                self._claimed(facts, start, status.st_size, status.st_mtime_ns)

    # Walking

    def _folder(
        self, at: _At, above: int | None, state: State, begin: float, width: float
    ) -> _Bunch | None:
        """Walk one folder; return what lies in it, where nobody claims any of it.

        ``above`` is the open folder that holds it, where the system opens names below folders.
        """
        bunch, folders, handle = _Bunch(), list[tuple[str, int]](), None
        try:
            if _BELOW_HANDLES:
                name = at.host if above is None else base(at.host)
                handle = os.open(name, FOLDER_FLAGS, dir_fd=above)
            with os.scandir(at.host if handle is None else handle) as listed:
                clean = self._files(listed, bunch, at, state, folders)
            self._tick(begin, self._names)
            if at.depth == 0 and folders:
                self._passed[at.shown] = f"nested deeper than {DEEPEST}"
                folders, clean = [], False
            clean = clean and at.folded not in self._grounds.edges
            within, all_clean = self._folders(folders, at, handle, state, begin, width)
        except OSError as error:
            self._passed[at.shown] = error.strerror or str(error)
            return None
        finally:
            if handle is not None:
                os.close(handle)
        if clean and all_clean:
            for _, inner in within:
                bunch.take_in(inner)
            return bunch
        for shown, inner in within:
            self._emit(shown, inner, whole=True)
        self._emit(at.shown, bunch, whole=False)
        return None

    def _folders(
        self, folders: list[tuple[str, int]], at: _At, handle: int | None, state: State,
        begin: float, width: float,
    ) -> tuple[list[tuple[str, _Bunch]], bool]:  # fmt: skip
        """Walk folders within one; return those of which nobody claims anything, and whether these
        are all, and in the same places as what holds them."""
        within: list[tuple[str, _Bunch]] = []
        inside, all_clean, width = self._facts(state).inside, True, width / (len(folders) + 1)
        for name, device in folders:
            begin += width
            folded = self._fold(name)
            inner, below = at.within(name, folded), state.step(folded)
            reason = self._reason(inner, is_other=device != at.device)
            if reason is None:
                found = self._folder(inner, handle, below, begin, width)
                if found is not None:
                    within.append((inner.shown, found))
                if found is None or self._facts(below).inside != inside:
                    all_clean = False
            else:
                all_clean = False
                if reason:
                    self._passed[inner.shown] = reason
        return within, all_clean

    def _reason(self, at: _At, *, is_other: bool) -> str | None:
        """Return why a folder is not walked from above, ``None`` where it is; the text is empty
        where it is walked by itself. ``is_other`` tells that it is on another file system."""
        known = self._grounds.passed.get(at.folded)
        if known is not None:
            return known
        if at.folded in self._starts:
            if is_other or at.folded in self._begun:
                return ""
            self._begun.add(at.folded)
            return None
        if is_other:
            return "another file system"
        if self._grounds.is_another_account(at.folded):
            return ANOTHER
        return None

    def _files(
        self, listed: Iterator[os.DirEntry[str]], bunch: _Bunch, at: _At, state: State,
        folders: list[tuple[str, int]],
    ) -> bool:  # fmt: skip
        """Count the files of a folder; return whether nobody claims any.

        It is the loop that all names go through, so little is called in it.
        """
        facts, fold = self._facts(state), self._fold
        clean, alike = not facts.sums, state.steady and not facts.sums
        names = files = total = newest = 0
        endings = bunch.endings
        for one in listed:
            names += 1
            try:
                status = one.stat(follow_symlinks=False) if _TELLS_ALL else status_of(one)
            except OSError:  # it went away while we looked
                continue
            mode = status.st_mode & _FORMAT
            if mode != _REGULAR:
                if mode == _FOLDER:
                    folders.append((one.name, status.st_dev))
                elif mode == _LINK:
                    self._links += 1
                continue
            name, size, changed = one.name, status.st_size, status.st_mtime_ns
            if not alike:
                mine = facts if state.steady else self._facts(state.step(fold(name)))
                if mine.sums:
                    clean = False
                    self._claimed(mine, f"{at.shown}/{name}", size, changed)
                    continue
                if mine.inside:
                    bunch.known.add(mine.inside)
            files += 1
            total += size
            if changed > newest:
                newest = changed
            stem, _, ending = name.rpartition(".")
            known = endings.get(ending) if stem else None
            if known is not None:
                known[0] += 1
                known[1] += size
            else:
                self._first_of_ending(bunch, at, name, ending if stem else "", size)
        self._names += names
        bunch.add(total, newest, files)
        if files and facts.inside:
            bunch.known.add(facts.inside)
        return clean

    def _first_of_ending(self, bunch: _Bunch, at: _At, name: str, ending: str, size: int) -> None:
        """Count a file of an ending that was not met yet, or of none that tells anything."""
        if len(ending) > ENDING_MOST or not ending:
            ending = ""
            if size > bunch.odd_size:
                bunch.odd, bunch.odd_size = f"{at.host}{os.sep}{name}", size
        known = bunch.endings.setdefault(ending, [0, 0])
        known[0] += 1
        known[1] += size

    def _claimed(self, facts: _Facts, path: str, size: int, newest: int) -> None:
        for one in facts.sums:
            one.add(size, newest)
        if facts.is_shared:
            known = self._shared.setdefault(facts.taken, (_Sum(), path))
            known[0].add(size, newest)

    def _emit(self, path: str, bunch: _Bunch | None, *, whole: bool) -> None:
        if bunch is not None and bunch.files and self._telling:
            self._groups.append((path, whole, bunch))

    # What was found

    def stock(self) -> Stock:
        """Return what was found, the largest and newest first."""
        self._groups.sort(key=lambda group: (-group[2].size, -group[2].newest, group[0]))
        groups = [self._group(number, *told) for number, told in enumerate(self._groups)]
        shared = [
            Shared(tuple(self._name(n) for n in numbers), total.told(), path)
            for numbers, (total, path) in self._shared.items()
        ]
        return Stock(
            tuple(one.told() for one in self._taken), tuple(one.told() for one in self._left),
            tuple(groups), tuple(sorted(shared, key=lambda s: (-s.tally.size, s.claims))),
            tuple(sorted(self._passed.items())), self._names, self._links,
        )  # fmt: skip

    def _name(self, number: int) -> str:
        return f"{self._claims[number].recipe}.{self._claims[number].item}"

    def _group(self, number: int, path: str, whole: bool, bunch: _Bunch) -> Group:
        endings: dict[str, tuple[int, int]] = {}
        for ending, (files, size) in bunch.endings.items():
            mine = endings.get(ending.lower(), (0, 0))
            endings[ending.lower()] = mine[0] + files, mine[1] + size
        beginning = b""
        if number < LOOKED_INSIDE and bunch.odd:
            with suppress(OSError), Path(bunch.odd).open("rb", buffering=0) as file:
                beginning = file.read(BEGINNING)
        names = list(self._below_edge(path))
        looks = likeness(names, endings, beginning)
        return Group(path, whole, bunch.told(), looks, tuple(sorted(bunch.known)))

    def _below_edge(self, path: str) -> Iterator[str]:
        """Give the names of the folders from the nearest edge down to ``path``."""
        names: list[str] = []
        while self._fold(path) not in self._grounds.edges and parent(path) != path:
            names.append(base(path))
            path = parent(path)
        if self._fold(path) == self._cache:
            names.append(base(path))
        yield from reversed(names)
