"""Many moves as one round: the fewest trips for one person who carries the media.

A trip is going to a computer; there all legs are walked that are due, which never costs a trip
where the media have room. Each move keeps the order of its legs. The shortest round is found by A*
(Hart, Nilsson and Raphael, 1968) over how many legs of each move are done; what is left costs at
least, for each computer, the visits that it needs if all others were near. Where there are too many
states, a greedy walk answers, with that bound.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from functools import cache
from heapq import heappop, heappush
from itertools import count, groupby, pairwise, product
from typing import NamedTuple

from widetrail.lazily import dataclass
from widetrail.recipe import Station

STATES = 20_000
"""States that the exact search looks at, at most."""


@dataclass(frozen=True)
class OfficeMove:
    """One move of an office: its legs in order (their numbers and stations), which computer plays
    each station, and how many bytes its parcel takes on a medium."""

    name: str
    legs: tuple[tuple[int, Station], ...]
    at: Mapping[Station, str]
    size: int


@dataclass(frozen=True)
class OfficeVisit:
    """A trip to a computer: by move the legs that are walked there, the moves whose parcels begin
    there, and those that end, so that their parcels may leave the medium."""

    computer: str
    legs: Mapping[str, tuple[int, ...]]
    begins: tuple[str, ...]
    ends: tuple[str, ...]


@dataclass(frozen=True)
class OfficeRound:
    """The trips in order, the number of the medium (from 0) that each move's parcel travels on,
    how many trips are needed at least, and whether these are as few as can be."""

    visits: tuple[OfficeVisit, ...]
    media: Mapping[str, int]
    bound: int
    exact: bool


class NoRound(Exception):
    """No round comes to an end: these moves are left, since they wait for each other or no medium
    has room."""

    def __init__(self, moves: Sequence[str]) -> None:
        super().__init__(", ".join(moves))
        self.moves = tuple(moves)


class _State(NamedTuple):
    """How many legs of each move are done, and the medium that its parcel is on, or -1."""

    done: tuple[int, ...]
    media: tuple[int, ...]


def find_round(moves: Sequence[OfficeMove], room: Sequence[int], most: int = STATES) -> OfficeRound:
    """Return the round with the fewest trips; the same moves give the same one.

    ``room`` is how many bytes each medium has free, ``most`` bounds the states of the exact search.

    Raises:
        NoRound: There is none.
    """
    search = _Search(moves, room)
    path, exact = search.shortest(most)
    bound = search.left(search.start.done)
    return OfficeRound(
        tuple(search.visits(path)),
        dict(zip((one.name for one in moves), path[-1].media, strict=True)),
        len(path) - 1 if exact else bound,
        exact or len(path) - 1 == bound,
    )


class _Search:
    """The search for the shortest round of some moves."""

    def __init__(self, moves: Sequence[OfficeMove], room: Sequence[int]) -> None:
        self._moves, self._room = moves, tuple(room)
        self._played = [_Played(move) for move in moves]
        computers = (computer for one in self._played for computer in one.computers)
        self._computers = tuple(dict.fromkeys(computers))
        self.end = tuple(one.whole for one in self._played)
        media = _fitted([one.size for one in moves], room) or (-1,) * len(moves)
        self.start = _State((0,) * len(moves), media)

    def left(self, done: tuple[int, ...]) -> int:
        """Return how many trips are needed at least."""
        needed: dict[str, int] = {}
        for played, mine in zip(self._played, done, strict=True):
            for computer, visits in played.visits_left(mine).items():
                needed[computer] = max(visits, needed.get(computer, 0))
        return sum(needed.values())

    def shortest(self, most: int) -> tuple[list[_State], bool]:
        """Return the states of a round from its start, and whether none is shorter.

        Raises:
            NoRound: There is none.
        """
        number = count()
        front = [(self.left(self.start.done), 0, next(number), self.start)]
        cost, came = {self.start: 0}, {self.start: self.start}
        while front:
            _, less, _, state = heappop(front)
            if state.done == self.end:
                return self._back(state, came), True
            if -less > cost[state]:
                continue
            if len(cost) > most:
                return self._greedy(), False
            for then in self._following(state):
                if then not in cost or -less + 1 < cost[then]:
                    cost[then], came[then] = -less + 1, state
                    total = cost[then] + self.left(then.done)
                    heappush(front, (total, -cost[then], next(number), then))
        raise NoRound([one.name for one in self._moves])

    def visits(self, path: Sequence[_State]) -> Iterator[OfficeVisit]:
        """Give the visits between the states of a path."""
        for before, after in pairwise(path):
            computer = next(c for c in self._computers if after in self._visited(before, c))
            legs, begins, ends = {}, [], []
            for number, move in enumerate(self._moves):
                now, then = before.done[number], after.done[number]
                if now != then:
                    legs[move.name] = self._played[number].numbers[now:then]
                    begins += [move.name] if not now else []
                    ends += [move.name] if then == self.end[number] else []
            yield OfficeVisit(computer, legs, tuple(begins), tuple(ends))

    def _back(self, state: _State, came: Mapping[_State, _State]) -> list[_State]:
        path = [state]
        while came[path[-1]] != path[-1]:
            path.append(came[path[-1]])
        return path[::-1]

    def _greedy(self) -> list[_State]:
        path = [self.start]
        while path[-1].done != self.end:
            following = list(self._following(path[-1]))
            if not following:
                names = [one.name for one in self._moves]
                raise NoRound(
                    [n for n, d, e in zip(names, path[-1].done, self.end, strict=True) if d != e]
                )
            path.append(min(following, key=lambda one: self.left(one.done)))
        return path

    def _following(self, state: _State) -> Iterator[_State]:
        for computer in self._computers:
            yield from self._visited(state, computer)

    def _visited(self, state: _State, computer: str) -> list[_State]:
        """Return the states after a visit: one for each way to put parcels that begin there on
        media."""
        found: dict[_State, None] = {}
        for media in self._begun(state, computer):
            done = list(state.done)
            while True:
                before = tuple(done)
                for number, played in enumerate(self._played):
                    if media[number] >= 0:
                        held = self._held(done, number, computer)
                        done[number] = played.visit(done[number], computer, held=held)
                if tuple(done) == before:
                    break
            then = _State(tuple(done), media)
            if then.done != state.done:
                found[then] = None
        return list(found)

    def _held(self, done: Sequence[int], number: int, computer: str) -> bool:
        """Return whether a computer may not become the new one of a move yet: it is the old one of
        another, and that has still something to do there."""
        if self._moves[number].at.get("new") != computer:
            return False
        return any(
            other != number
            and move.at.get("old") == computer
            and self._played[other].has_left_on_old(done[other])
            for other, move in enumerate(self._moves)
        )

    def _begun(self, state: _State, computer: str) -> Iterator[tuple[int, ...]]:
        """Give the ways to put the parcels of moves that can begin at a computer on media."""
        able = [
            number
            for number, played in enumerate(self._played)
            if state.media[number] < 0 and played.visit(0, computer, held=False)
        ]
        for chosen in product(range(-1, len(self._room)), repeat=len(able)):
            media = list(state.media)
            for number, medium in zip(able, chosen, strict=True):
                media[number] = medium
            if self._fits(state.done, media):
                yield tuple(media)

    def _fits(self, done: Sequence[int], media: Sequence[int]) -> bool:
        if self.start.media[:1] != (-1,):
            return True  # all fit at once
        taken = [0] * len(self._room)
        for number, medium in enumerate(media):
            if medium >= 0 and done[number] != self.end[number]:
                taken[medium] += self._moves[number].size
        return all(size <= room for size, room in zip(taken, self._room, strict=True))


def _fitted(sizes: Sequence[int], room: Sequence[int]) -> tuple[int, ...] | None:
    """Return a medium for each parcel where all fit at once, the largest first; else ``None``."""
    left, found = list(room), [-1] * len(sizes)
    for number in sorted(range(len(sizes)), key=lambda n: (-sizes[n], n)):
        medium = next((m for m, free in enumerate(left) if free >= sizes[number]), None)
        if medium is None:
            return None
        left[medium] -= sizes[number]
        found[number] = medium
    return tuple(found)


class _Played:
    """One move by how many of its legs are done."""

    def __init__(self, move: OfficeMove) -> None:
        self._legs = [(move.at[station], station) for _, station in move.legs]
        self.numbers = tuple(number for number, _ in move.legs)
        self.whole = len(self._legs)
        self.computers = tuple(dict.fromkeys(computer for computer, _ in self._legs))
        self.visits_left = cache(self._visits_left)

    def has_left_on_old(self, done: int) -> bool:
        """Return whether something is left to do on the old computer."""
        return any(station == "old" for _, station in self._legs[done:])

    def visit(self, done: int, computer: str, *, held: bool) -> int:
        """Return how many legs are done after all that is possible was done at a computer; where it
        is ``held``, nothing of what it gets as the new one."""
        while done < self.whole and self._legs[done][0] == computer:
            if held and self._legs[done][1] == "new":
                break
            done += 1
        return done

    def _visits_left(self, done: int) -> Counter[str]:
        """Return for each computer how many visits it needs, if all others were near: one for each
        run of legs there."""
        return Counter(computer for computer, _ in groupby(c for c, _ in self._legs[done:]))
