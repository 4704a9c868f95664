"""What each path is, with the evidence for it in one line."""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from collections.abc import Iterator, Sequence
from functools import cached_property
from typing import Literal, Protocol, get_args

from widetrail.lazily import dataclass
from widetrail.machine import Machine
from widetrail.machine.paths import base, is_within, join, key, parent, split
from widetrail.tracing.noise import Rate, rates
from widetrail.tracing.own_folder import own_folder
from widetrail.tracing.parts import settings_among
from widetrail.tracing.record import CHANGING, Run, Shows, Trace, Way
from widetrail.tracing.secrecy import is_licence, is_secret
from widetrail.tracing.shapes import patterns

Kind = Literal[
    "data", "setting", "index", "secret", "licence", "cache", "log", "lock", "temporary", "unclear"
]
"""What a path is; ``unclear`` ones are taken, since nothing tells that nobody misses them."""

_ORDER: tuple[Kind, ...] = get_args(Kind)

TAKEN: frozenset[Kind] = frozenset({"data", "setting", "index", "secret", "licence", "unclear"})

_CACHE = re.compile(r"cache|^te?mp$", re.IGNORECASE)
_LOCK = re.compile(r"lock|\bpid\b|~$", re.IGNORECASE)


@dataclass(frozen=True)
class Classed:
    """A path, what it is and why; ``shows`` is what the program prints otherwise without it."""

    path: str
    kind: Kind
    why: str
    shows: Shows | None = None
    size: int = 0
    rate: Rate | None = None

    @property
    def is_needed(self) -> bool:
        """Whether the program shows something else without it."""
        return self.shows is not None and self.shows.needed


def is_left_secret(one: Classed) -> bool:
    """Return whether a file holds a secret that the program does not need: it stays behind."""
    return one.kind == "secret" and not one.is_needed


@dataclass(frozen=True)
class Group:
    """Paths of one class that differ in a name; ``pattern`` has ``*`` for that."""

    pattern: str
    kind: Kind
    why: str
    paths: tuple[str, ...]
    size: int


@dataclass
class _Facts:
    """What is known of one path from all runs."""

    ways: set[Way]
    runs: dict[str, int]
    writes: int = 0
    appends: int = 0
    marker: str = ""
    secret: bool = False
    size: int = 0
    is_folder: bool = False


class Classes:
    """The classes of all paths of a trace, on the machine that it was made of."""

    def __init__(self, trace: Trace, machine: Machine) -> None:
        self._trace, self._machine = trace, machine
        self._shows = {one.part.path: one for one in trace.shows if one.part.is_file}
        self._values = defaultdict[str, list[Shows]](list)
        for one in trace.shows:
            if not one.part.is_file:
                self._values[one.part.path].append(one)

    @cached_property
    def _facts(self) -> dict[str, _Facts]:
        found: dict[str, _Facts] = {}
        for run in self._trace.runs:
            for touch in run.touched:
                facts = found.setdefault(touch.path, _Facts(set(), {}))
                facts.ways |= set(touch.ways)
                facts.marker = facts.marker or touch.marker
                facts.secret = facts.secret or (run.secret and bool(touch.marker))
                facts.size = touch.after or facts.size
                made_folder = "created" in touch.ways and touch.after is None
                facts.is_folder = facts.is_folder or (made_folder and "fleeting" not in touch.ways)
                facts.writes += "written" in touch.ways
                facts.appends += "appended" in touch.ways
                if CHANGING & set(touch.ways):
                    facts.runs[_name(run)] = facts.runs.get(_name(run), 0) + 1
        return found

    @cached_property
    def all(self) -> tuple[Classed, ...]:
        """All files and fleeting names, each with its class."""
        paths = [path for path in dict.fromkeys((*self._facts, *self._shows)) if self._counts(path)]
        found = [self._classed(path) for path in (*paths, *self._beside(paths))]
        return tuple(sorted(found, key=lambda one: one.path))

    def _beside(self, paths: Sequence[str]) -> Iterator[str]:
        """Give the files that lie in folders of the program's own, and that it did not touch."""
        platform = self._machine.platform
        there = [path for path in paths if self._machine.look(path) is not None]
        used = {key(path, platform) for path in there}
        told = [told for told in self._trace.tells if told.proved != "no"]
        apart = [p for p in there if not any(is_within(p, t.place, platform) for t in told)]
        mine = (own_folder(self._machine, path, used, self._trace.program) for path in apart)
        own = [t.place for t in told if t.folder] + [one for one in mine if one is not None]
        given: set[str] = set()
        for folder in dict.fromkeys(own):
            for entry in self._machine.walk(folder):
                path = join(folder, entry.path)
                if entry.kind == "file" and key(path, platform) not in used | given:
                    given.add(key(path, platform))
                    yield path

    def _counts(self, path: str) -> bool:
        shows = self._shows.get(path)
        above = self._facts.get(parent(path))
        if shows is not None and (shows.needed or (above and "listed" in above.ways)):
            return True
        facts = self._facts.get(path)
        if facts is None or (shows is not None and not facts.ways):
            return False
        if facts.ways <= {"listed", "looked", "missed"} or path.startswith("HKEY_") or path == "/":
            return False
        there = self._machine.look(path)
        if there is not None:
            return there.kind != "folder"
        return not facts.is_folder and not self._is_moved(path)

    def _is_moved(self, path: str) -> bool:
        """Return whether a path lies where a place was moved to by an act."""
        to = (told.moved_to for told in self._trace.tells if told.moved_to)
        return any(is_within(path, place, self._machine.platform) for place in to)

    @cached_property
    def _rates(self) -> dict[str, Rate]:
        starts = sum(run.kind != "act" for run in self._trace.runs)
        acts = Counter(run.did for run in self._trace.runs if run.kind == "act")
        counts = {}
        for path, facts in self._facts.items():
            for act, runs in acts.items():
                if hits := facts.runs.get(act, 0):
                    other = sum(facts.runs.get(k, 0) for k in ("idle", "start"))
                    counts[f"{path}\0{act}"] = (hits, runs, other, starts)
        best: dict[str, Rate] = {}
        for name, rate in rates(counts).items():
            path = name.partition("\0")[0]
            if path not in best or rate.chance < best[path].chance:
                best[path] = rate
        return best

    def _classed(self, path: str) -> Classed:
        facts = self._facts.get(path, _Facts(set(), {}))
        shows = self._shows.get(path)
        kind, why = self._kind(path, facts, shows)
        there = self._machine.look(path)
        size = there.size if there is not None else facts.size
        return Classed(path, kind, why, shows, size, self._rates.get(path))

    def _kind(self, path: str, facts: _Facts, shows: Shows | None) -> tuple[Kind, str]:
        for judge in (self._passing, self._private, self._needed, self._noise, self._touched):
            if (judged := judge(path, facts, shows)) is not None:
                return judged
        if not facts.ways:
            return "unclear", "it lies among what the program uses, and was not touched"
        return "unclear", f"it was {_told(facts.ways)}, and the print-out is the same without it"

    def _passing(self, path: str, facts: _Facts, shows: Shows | None) -> tuple[Kind, str] | None:
        if "fleeting" in facts.ways and shows is None:
            if _LOCK.search(base(path)):
                return "lock", "it is there only while the program runs, and is called a lock"
            return "temporary", "it is made and removed again within one run"
        return None

    def _private(self, path: str, facts: _Facts, shows: Shows | None) -> tuple[Kind, str] | None:
        needed = shows is not None and shows.needed
        names = [base(path), *(one.part.at for one in self._values.get(path, ()))]
        secrets = [name for name in names if is_secret(name)]
        licences = [name for name in names[:1] if is_licence(name)]
        if facts.secret or secrets:
            return "secret", f"it has {secrets[0]}" if secrets else "a secret was found in it"
        if licences and (needed or facts.marker):
            return "licence", f"it is called {licences[0]}{_without(shows)}"
        return None

    def _needed(self, path: str, facts: _Facts, shows: Shows | None) -> tuple[Kind, str] | None:
        if shows is None or not shows.needed:
            return None
        why = f"without it, the program shows {told(shows)}"
        if self.in_cache(path):
            return "data", f"{why}; can the program make it again? It lies among what it can"
        if self._places_in(path) > 1:
            return "index", f"its values name several places; {why}"
        return ("setting" if self._form(path) else "data"), why

    def _noise(self, path: str, facts: _Facts, shows: Shows | None) -> tuple[Kind, str] | None:
        starts = sum(run.kind == "start" for run in self._trace.runs)
        written = facts.runs.get("start", 0)
        if facts.marker:
            return None
        if self._form(path):  # it may hold what a person chose, also where that is not shown
            return None
        unseen = 0 if self._trace.machine else 1  # here the first is not known
        if facts.appends and facts.appends >= facts.writes - unseen and written:
            return "log", f"it is only appended to, in {written} of {starts} starts"
        if shows is not None and shows.back:
            return "cache", "it comes back the same after it was taken away, and is not missed"
        if self.in_cache(path):
            return "cache", "it lies where what can be made again lies, and is not missed"
        if starts and written == starts:
            return "cache", "it is written at every start, whatever is done, and is not missed"
        return None

    def _touched(self, path: str, facts: _Facts, shows: Shows | None) -> tuple[Kind, str] | None:
        if facts.marker:
            kind: Kind = "setting" if self._form(path) else "data"
            return kind, f"what was typed is found in it: {facts.marker}"
        rate = self._rates.get(path)
        if rate is not None and rate.hits == rate.runs and not rate.other_hits:
            kind = "setting" if self._form(path) else "data"
            sure = "" if rate.is_sure else f"; {rate.would_do} runs would tell for sure"
            return kind, f"it changed in {rate.hits} of {rate.runs} runs of one act only{sure}"
        return None

    def in_cache(self, path: str) -> bool:
        """Return whether a path lies where what can be made again lies."""
        cache, platform = self._machine.root("cache"), self._machine.platform
        apart = cache != self._machine.root("data")  # Windows keeps both in one folder
        roots = [self._machine.root("temp"), *([cache] if apart else [])]
        named = any(_CACHE.search(name) for name in split(path)[1])
        return named or any(is_within(path, root, platform) for root in roots)

    def _form(self, path: str) -> bool:
        """Return whether a file holds settings."""
        return path in self._settings or (
            self._machine.look(path) is None and path in self._written_values
        )

    @cached_property
    def _settings(self) -> set[str]:
        return settings_among(self._machine, dict.fromkeys((*self._facts, *self._shows)))

    @cached_property
    def _written_values(self) -> set[str]:
        touched = (touch for run in self._trace.runs for touch in run.touched)
        return {touch.path for touch in touched if touch.values}

    def _places_in(self, path: str) -> int:
        return len(
            {t.place for t in self._trace.tells if t.value.path == path and t.proved != "no"}
        )

    @cached_property
    def groups(self) -> tuple[Group, ...]:
        """The paths by class, those that differ in one name as one."""
        by_kind = defaultdict[Kind, dict[str, Classed]](dict)
        temp, platform = self._machine.root("temp"), self._machine.platform
        for one in self.all:
            by_kind[one.kind][one.path] = one
        found = []
        for kind, mine in by_kind.items():
            passing = [path for path in mine if is_within(path, temp, platform)]
            told = {join(temp, "**"): passing} if len(passing) > 1 else {}
            told |= patterns(path for path in mine if not (told and path in passing))
            for pattern, paths in told.items():
                size = sum(mine[path].size for path in paths)
                found.append(Group(pattern, kind, mine[paths[0]].why, tuple(paths), size))
        return tuple(sorted(found, key=lambda group: (_ORDER.index(group.kind), group.pattern)))


def _name(run: Run) -> str:
    return run.did if run.kind == "act" else run.kind


def _told(ways: set[Way]) -> str:
    return ", ".join(sorted(ways - {"listed", "looked", "missed"})) or "listed"


class _Otherwise(Protocol):
    @property
    def usual(self) -> str: ...
    @property
    def without(self) -> str: ...


def told(shows: _Otherwise) -> str:
    """Return what the program shows without a part, in words."""
    if not shows.without:
        return f'nothing for "{shows.usual}"'
    return f'"{shows.without}"' + (f' for "{shows.usual}"' if shows.usual else "")


def _without(shows: Shows | None) -> str:
    return f"; without it, the program shows {told(shows)}" if shows and shows.needed else ""
