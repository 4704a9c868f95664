"""Taking stock of a machine's disks in one walk: what each claim holds, and what nobody claims.

Nothing is changed, links and other file systems are not crossed. Claims are patterns in one
automaton; its states are carried down the walk, so a file costs a look-up or less.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress

from widetrail.finding import Tally
from widetrail.formats.outside import open_regular
from widetrail.lazily import dataclass
from widetrail.machine import Machine
from widetrail.machine.paths import base, upwards
from widetrail.survey.claims import Claimed, Claims
from widetrail.survey.disk_walk import Bunch, DiskWalk, Tick
from widetrail.survey.file_classes import BEGINNING, Likeness, likeness
from widetrail.survey.scope import Grounds

LOOKED_INSIDE = 200
"""Groups whose largest file is looked into, at most: the largest groups."""


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


def take_stock(
    machine: Machine,
    claims: Sequence[Claimed],
    grounds: Grounds,
    tick: Tick = lambda share, names: None,
) -> Stock:
    """Walk the grounds, and what claims name outside of them, and return what is there: the largest
    and newest first."""
    known = Claims(claims, machine.platform)
    walk = DiskWalk(machine, known, grounds, tick)
    walk.all_of_it()
    walk.groups.sort(key=lambda group: (-group[2].size, -group[2].newest, group[0]))
    cache = known.fold(machine.root("cache"))
    groups = []
    for number, (path, whole, bunch) in enumerate(walk.groups):
        names = list(_below_edge(path, grounds, known.fold, cache))
        looks = _looks(names, bunch, look_inside=number < LOOKED_INSIDE)
        groups.append(Group(path, whole, bunch.told(), looks, tuple(sorted(bunch.known))))
    shared = [
        Shared(tuple(known.name(n) for n in numbers), total.told(), path)
        for numbers, (total, path) in known.shared.items()
    ]
    return Stock(
        tuple(one.told() for one in known.taken),
        tuple(one.told() for one in known.left),
        tuple(groups),
        tuple(sorted(shared, key=lambda s: (-s.tally.size, s.claims))),
        tuple(sorted(walk.passed.items())),
        walk.names,
        walk.links,
    )


def _looks(names: Sequence[str], bunch: Bunch, *, look_inside: bool) -> Likeness:
    endings: dict[str, tuple[int, int]] = {}
    for ending, (files, size) in bunch.endings.items():
        mine = endings.get(ending.lower(), (0, 0))
        endings[ending.lower()] = mine[0] + files, mine[1] + size
    beginning = b""
    if look_inside and bunch.odd:
        with suppress(OSError), os.fdopen(open_regular(bunch.odd), "rb", 0) as file:
            beginning = file.read(BEGINNING)
    return likeness(names, endings, beginning)


def _below_edge(
    path: str, grounds: Grounds, fold: Callable[[str], str], cache: str
) -> Iterator[str]:
    """Give the names of the folders from the nearest edge down to ``path``; that of the cache's
    root is one."""
    names: list[str] = []
    for above in upwards(path):
        if fold(above) in grounds.edges:
            names += [base(above)] if fold(above) == cache else []
            break
        names.append(base(above))
    yield from reversed(names)
