"""What recipes claim of a machine's disks, as one automaton; and what it means to be at a path."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from widetrail.finding import Tally
from widetrail.formats.interface import Platform
from widetrail.lazily import dataclass
from widetrail.machine.paths import split
from widetrail.survey.automaton import ANYWHERE, Automaton, Segment, State, key_of


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
        plain: list[str] = [fold(name) for name in _names(self.path[:end])]
        return plain + [Segment(fold(s)) for s in self.path[end:].split("/") if s]


def _names(path: str) -> list[str]:
    """Return the names of a whole path, its drive first where it has one."""
    anchor, names = split(path)
    return [anchor, *names] if anchor else names


class Sum:
    """A tally that grows."""

    __slots__ = ("files", "newest", "size")

    def __init__(self) -> None:
        self.files = self.size = self.newest = 0

    def add(self, size: int, newest: int, files: int = 1) -> None:
        """Add files of ``size`` bytes in all, of which the newest changed then (ns since 1970)."""
        self.files += files
        self.size += size
        if newest > self.newest:
            self.newest = newest

    def told(self) -> Tally:
        """Return it as it is now."""
        return Tally(self.files, self.size, self.newest)


class Facts:
    """What it means to be in one state: whose sums grow, or that nobody claims it."""

    __slots__ = ("inside", "is_shared", "sums", "taken")

    def __init__(self, sums: list[Sum], taken: tuple[int, ...], inside: str) -> None:
        self.sums, self.taken, self.inside = sums, taken, inside
        self.is_shared = False


_BASE, _TAKE, _LEAVE, _KNOWN = range(4)
"""What a mark says of a path: it lies in the claim's place, is taken, is left, or is only known."""


class Claims:
    """Claims with what each takes and leaves so far; of several at a path those decide whose place
    is the innermost."""

    def __init__(self, claims: Sequence[Claimed], platform: Platform) -> None:
        self.fold = key_of(platform)
        self._claims = claims
        self.taken = [Sum() for _ in claims]
        self.left = [Sum() for _ in claims]
        self.shared: dict[tuple[int, ...], tuple[Sum, str]] = {}
        """What several recipes take, by the numbers of the claims, and one path of it."""

        self._automaton = Automaton()
        for number, claim in enumerate(claims):
            self._add(number, claim)

    def state_of(self, path: str) -> State:
        """Return the state of a whole path."""
        state = self._automaton.start
        for name in _names(path):
            state = state.step(self.fold(name))
        return state

    def elsewhere(self) -> list[str]:
        """Return the places of items of applications that are here, which may lie anywhere."""
        return sorted({claim.path for claim in self._claims if claim.here and claim.item})

    def name(self, number: int) -> str:
        """Return whose a claim is: ``recipe.item``."""
        return f"{self._claims[number].recipe}.{self._claims[number].item}"

    def count(self, facts: Facts, path: str, size: int, newest: int) -> None:
        """Count a file that is claimed."""
        for one in facts.sums:
            one.add(size, newest)
        if facts.is_shared:
            known = self.shared.setdefault(facts.taken, (Sum(), path))
            known[0].add(size, newest)

    def _add(self, number: int, claim: Claimed) -> None:
        above, mark, add = claim.segments(self.fold), 4 * number, self._automaton.add
        if not claim.item:
            add([*above, Segment(ANYWHERE)], mark + _KNOWN)
            return
        add([*above, Segment(ANYWHERE)], mark + _BASE)
        for glob in claim.take or (ANYWHERE,):
            add([*above, *self._glob(glob)], mark + _TAKE)
        for glob in claim.leave:
            add([*above, *self._glob(glob)], mark + _LEAVE)

    def _glob(self, glob: str) -> list[Segment]:
        return [Segment(self.fold(segment)) for segment in glob.split("/")]

    def facts(self, state: State) -> Facts:
        """Return what it means to be at a path of that state: the claims whose place is the
        innermost decide."""
        if isinstance(state.facts, Facts):
            return state.facts
        kinds: dict[int, set[int]] = {}
        for mark in state.marks:
            kinds.setdefault(mark // 4, set()).add(mark % 4)
        held = [number for number, found in kinds.items() if _BASE in found]
        depth = max((self._claims[n].path.count("/") for n in held), default=0)
        mine = [n for n in held if self._claims[n].path.count("/") == depth]
        taken = tuple(n for n in mine if _TAKE in kinds[n] and _LEAVE not in kinds[n])
        left = [n for n in mine if _LEAVE in kinds[n]] if not taken else []
        sums = [self.taken[n] for n in taken] + [self.left[n] for n in left]
        known = mine or [n for n, found in kinds.items() if _KNOWN in found]
        inside = self._claims[known[0]].recipe if known and not sums else ""
        facts = Facts(sums, taken, inside)
        facts.is_shared = len({self._claims[n].recipe for n in taken}) > 1
        state.facts = facts
        return facts
