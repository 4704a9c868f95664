"""The itinerary: steps grouped into legs so that a person walks as seldom as possible.

At each visit everything that can be done is done, which never costs a trip: doing a step early
only enables more. So an itinerary is a word of stations, and the shortest is found breadth first
over what is done after each visit. Where there are too many states, a greedy walk answers with a
lower bound: the longest chain of steps that must change stations.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from heapq import heappop, heappush

from widetrail.lazily import dataclass
from widetrail.recipe import Station
from widetrail.recipe.routes import STATIONS
from widetrail.steps import Step

STATES = 20_000
"""States that the exact search looks at, at most."""


@dataclass(frozen=True)
class Itinerary:
    """Legs in order, each a station with the steps done there, and the bound on their number.

    ``bound`` legs are needed at least; ``exact`` tells that the legs are as few as can be.
    """

    legs: tuple[tuple[Station, tuple[str, ...]], ...]
    bound: int
    exact: bool


class Circle(Exception):
    """Steps that wait for each other; ``steps`` names them."""

    def __init__(self, steps: Sequence[str]) -> None:
        super().__init__(", ".join(steps))
        self.steps = tuple(steps)


def find_itinerary(steps: Sequence[Step], most: int = STATES) -> Itinerary:
    """Return the itinerary with the fewest legs; the same steps give the same one.

    ``most`` bounds the states of the exact search.

    Raises:
        Circle: Steps wait for each other, or for one that is not there.
    """
    station = {step.id: step.station for step in steps}
    after = {step.id: frozenset(step.after) for step in steps}
    order = _in_order(steps)
    bound = _longest_chain(order, station, after)
    words = _exact(order, station, after, most)
    exact = words is not None
    word = words if words is not None else _greedy(order, station, after)
    legs = _play(word, order, station, after)
    return Itinerary(legs, len(legs) if exact else bound, exact)


def _in_order(steps: Sequence[Step]) -> tuple[str, ...]:
    """Return the ids so that each comes after those it waits for, ties as they were given."""
    waiting = {step.id: set(step.after) for step in steps}
    followers: dict[str, list[int]] = {}
    for number, step in enumerate(steps):
        for before in waiting[step.id]:
            followers.setdefault(before, []).append(number)
    ready = [number for number, step in enumerate(steps) if not waiting[step.id]]
    order: list[str] = []
    while ready:
        done = steps[heappop(ready)].id
        order.append(done)
        for number in followers.get(done, ()):
            waiting[steps[number].id].discard(done)
            if not waiting[steps[number].id]:
                heappush(ready, number)
    if len(order) < len(steps):
        raise Circle([step.id for step in steps if waiting[step.id]])
    return tuple(order)


def _visit(
    done: frozenset[str],
    at: Station,
    order: Sequence[str],
    station: Mapping[str, Station],
    after: Mapping[str, frozenset[str]],
) -> frozenset[str]:
    """Return all that is done after everything possible was done at a station."""
    now = set(done)
    for step in order:
        if station[step] == at and step not in now and after[step] <= now:
            now.add(step)
    return frozenset(now)


def _exact(
    order: Sequence[str],
    station: Mapping[str, Station],
    after: Mapping[str, frozenset[str]],
    most: int,
) -> tuple[Station, ...] | None:
    everything = frozenset(order)
    front: dict[frozenset[str], tuple[Station, ...]] = {frozenset(): ()}
    seen = set(front)
    while everything not in front:
        following: dict[frozenset[str], tuple[Station, ...]] = {}
        for done, word in front.items():
            for at in STATIONS:
                then = _visit(done, at, order, station, after)
                if then != done and then not in seen:
                    seen.add(then)
                    following[then] = (*word, at)
        if len(seen) > most:
            return None
        front = following
    return front[everything]


def _greedy(
    order: Sequence[str], station: Mapping[str, Station], after: Mapping[str, frozenset[str]]
) -> tuple[Station, ...]:
    done: frozenset[str] = frozenset()
    word: list[Station] = []
    while len(done) < len(order):
        reached = {at: _visit(done, at, order, station, after) for at in STATIONS}
        best = max(STATIONS, key=lambda at: len(reached[at]))
        done = reached[best]
        word.append(best)
    return tuple(word)


def _play(
    word: Sequence[Station],
    order: Sequence[str],
    station: Mapping[str, Station],
    after: Mapping[str, frozenset[str]],
) -> tuple[tuple[Station, tuple[str, ...]], ...]:
    done: frozenset[str] = frozenset()
    legs = []
    for at in word:
        then = _visit(done, at, order, station, after)
        legs.append((at, tuple(step for step in order if step in then and step not in done)))
        done = then
    return tuple(legs)


def _longest_chain(
    order: Sequence[str], station: Mapping[str, Station], after: Mapping[str, frozenset[str]]
) -> int:
    legs: dict[str, int] = {}
    for step in order:
        before = (legs[b] + (station[b] != station[step]) for b in after[step])
        legs[step] = max(before, default=1)
    visited = len(set(station.values()))
    return max([visited, *legs.values()], default=0)
