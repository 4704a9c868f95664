"""One walk of a machine's disks, by claims: what is claimed is counted, all else is gathered."""

from __future__ import annotations

import os
import stat
import sys
from collections.abc import Callable, Iterator

from widetrail.errors import MachineUnusable
from widetrail.formats.outside import is_link, open_folder
from widetrail.machine import Machine
from widetrail.machine.host import BELOW_HANDLES, DEEPEST, status_of
from widetrail.machine.paths import base, upwards
from widetrail.survey.automaton import State
from widetrail.survey.claims import Claims, Sum
from widetrail.survey.scope import ANOTHER, Grounds

ENDING_MOST = 12
"""Characters of an ending; what is longer is none."""

Tick = Callable[[float, int], None]
"""Told what share of the walk is done (0 to 1) and how many names were seen."""

_FORMAT, _REGULAR, _FOLDER, _LINK = 0o170000, stat.S_IFREG, stat.S_IFDIR, stat.S_IFLNK
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


class Bunch(Sum):
    """Files that nobody claims, by their endings; ``odd`` is the largest whose ending tells
    nothing, ``known`` the recipes in whose places they lie."""

    __slots__ = ("endings", "known", "odd", "odd_size")

    def __init__(self) -> None:
        super().__init__()
        self.endings: dict[str, list[int]] = {}
        self.known: set[str] = set()
        self.odd, self.odd_size = "", -1

    def take_in(self, other: Bunch) -> None:
        """Add another one to it."""
        self.add(other.size, other.newest, other.files)
        for ending, (files, size) in other.endings.items():
            mine = self.endings.setdefault(ending, [0, 0])
            mine[0] += files
            mine[1] += size
        self.known |= other.known
        if other.odd_size > self.odd_size:
            self.odd, self.odd_size = other.odd, other.odd_size


class DiskWalk:
    """A walk and what it found so far.

    ``groups`` are paths with what lies there that nobody claims, and whether that is all there is;
    ``passed`` are paths that were not looked into, with why.
    """

    def __init__(self, machine: Machine, claims: Claims, grounds: Grounds, tick: Tick) -> None:
        self._machine, self._claims, self._grounds, self._tick = machine, claims, grounds, tick
        self._fold = claims.fold
        self.groups: list[tuple[str, bool, Bunch]] = []
        self.passed: dict[str, str] = {}
        self.names = self.links = 0
        self._telling = True
        self._begun: set[str] = set()
        self._blocked: set[str] = set()
        self._starts = {self._fold(start) for start in grounds.starts}

    def all_of_it(self) -> None:
        """Walk the grounds, then what claims name elsewhere."""
        starts = self._grounds.starts
        for number, start in enumerate(starts):
            self._begin(start, number / len(starts), 1 / len(starts))
        self._telling = False
        for path in self._claims.elsewhere():
            if not self._reached(path):
                self._begin(path, 1.0, 0.0)

    def _reached(self, path: str) -> bool:
        """Return whether a walk came by a path."""
        for folded in map(self._fold, upwards(path)):
            if folded in self._begun or folded in self._blocked:
                return folded in self._begun
        return False

    def _pass(self, at: _At, why: str) -> None:
        self.passed[at.shown] = why
        self._blocked.add(at.folded)

    def _begin(self, start: str, begin: float, width: float) -> None:
        """Walk at and below one start; ``begin`` and ``width`` are its share of the whole."""
        folded = self._fold(start)
        if folded in self._begun:
            return
        self._begun.add(folded)
        state = self._claims.state_of(start)
        try:
            host = self._machine.host(start)
            status = host.lstat()
        except (MachineUnusable, OSError, ValueError):
            return
        if is_link(status):
            self.links += 1
        elif stat.S_ISDIR(status.st_mode):
            at = _At(str(host), start, folded, status.st_dev, DEEPEST)
            self._emit(start, self._folder(at, None, state, begin, width), whole=True)
        elif stat.S_ISREG(status.st_mode):
            self.names += 1
            facts = self._claims.facts(state)
            if facts.sums:
                self._claims.count(facts, start, status.st_size, status.st_mtime_ns)

    # Walking

    def _folder(
        self, at: _At, above: int | None, state: State, begin: float, width: float
    ) -> Bunch | None:
        """Walk one folder; return what lies in it, where nobody claims any of it.

        ``above`` is the open folder that holds it, where the system opens names below folders.
        """
        bunch, folders, handle = Bunch(), list[tuple[str, int]](), None
        try:
            if BELOW_HANDLES:
                handle = open_folder(at.host if above is None else base(at.host), above)
            with os.scandir(at.host if handle is None else handle) as listed:
                clean = self._files(listed, bunch, at, state, folders)
            self._tick(begin, self.names)
            if at.depth == 0 and folders:
                self._pass(at, f"nested deeper than {DEEPEST}")
                folders, clean = [], False
            clean = clean and at.folded not in self._grounds.edges
            within, all_clean = self._folders(folders, at, handle, state, begin, width)
        except OSError as error:
            self._pass(at, error.strerror or str(error))
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
        self,
        folders: list[tuple[str, int]],
        at: _At,
        handle: int | None,
        state: State,
        begin: float,
        width: float,
    ) -> tuple[list[tuple[str, Bunch]], bool]:
        """Walk folders within one; return those of which nobody claims anything, and whether these
        are all, and in the same places as what holds them."""
        within: list[tuple[str, Bunch]] = []
        inside, all_clean = self._claims.facts(state).inside, True
        width /= len(folders) + 1
        for name, device in folders:
            begin += width
            folded = self._fold(name)
            inner, below = at.within(name, folded), state.step(folded)
            reason = self._reason(inner, is_other=device != at.device)
            if reason is None:
                found = self._folder(inner, handle, below, begin, width)
                if found is not None:
                    within.append((inner.shown, found))
                if found is None or self._claims.facts(below).inside != inside:
                    all_clean = False
            else:
                all_clean = False
                if reason:
                    self._pass(inner, reason)
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
        self,
        listed: Iterator[os.DirEntry[str]],
        bunch: Bunch,
        at: _At,
        state: State,
        folders: list[tuple[str, int]],
    ) -> bool:
        """Count the files of a folder; return whether nobody claims any.

        It is the loop that all names go through, so little is called in it.
        """
        facts, fold = self._claims.facts(state), self._fold
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
                if mode == _FOLDER and (_TELLS_ALL or not is_link(status)):
                    folders.append((one.name, status.st_dev))
                elif mode in (_FOLDER, _LINK):  # a junction has the mode of a folder
                    self.links += 1
                continue
            name, size, changed = one.name, status.st_size, status.st_mtime_ns
            if not alike:
                mine = facts if state.steady else self._claims.facts(state.step(fold(name)))
                if mine.sums:
                    clean = False
                    self._claims.count(mine, f"{at.shown}/{name}", size, changed)
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
        self.names += names
        bunch.add(total, newest, files)
        if files and facts.inside:
            bunch.known.add(facts.inside)
        return clean

    def _first_of_ending(self, bunch: Bunch, at: _At, name: str, ending: str, size: int) -> None:
        """Count a file of an ending that was not met yet, or of none that tells anything."""
        if len(ending) > ENDING_MOST or not ending:
            ending = ""
            if size > bunch.odd_size:
                bunch.odd, bunch.odd_size = f"{at.host}{os.sep}{name}", size
        known = bunch.endings.setdefault(ending, [0, 0])
        known[0] += 1
        known[1] += size

    def _emit(self, path: str, bunch: Bunch | None, *, whole: bool) -> None:
        if bunch is not None and bunch.files and self._telling:
            self.groups.append((path or "/", whole, bunch))
