"""What of a broken recipe is sound, so that one broken part hides nothing wrong in others."""

from __future__ import annotations

import copy
from collections.abc import Callable, Iterator, Mapping
from typing import Any

from widetrail.formats.documents import Where, errors_at
from widetrail.formats.yaml_positions import Map, Seq, read_marked
from widetrail.lazily import dataclass
from widetrail.recipe.models import Recipe
from widetrail.recipe.routes import Notation

ROUNDS = 60
"""How often broken parts are taken out, at most: each time may show more."""

VALUES = 200_000
"""Keys and values that all rounds together look at, about; a large recipe gets fewer, two
at least."""

_STAND_INS: Mapping[Where, str] = {
    ("recipe",): "1",
    ("revision",): "1",
    ("application",): "{id: unknown, name: unknown}",
    ("recognise",): "[{sign: {folder: '{home}/unknown'}}]",
    ("places",): "{}",
    ("places", "*"): "{folder: '{home}/unknown'}",
    ("readings", "*"): "{file: '{home}/unknown'}",
    ("asks", "*"): "{text: unknown}",
}
"""What stands for a part that others name, or that there must be."""

_IN_ITEMS = frozenset({"routes", "paths", "losses", "checks", "parts"})
"""Keys of an item of which one entry can be taken out alone."""


@dataclass(frozen=True)
class SoundParts:
    """The sound parts of a recipe.

    ``gone`` are the parts that were taken out or for which others stand, in that order: each as the
    recipe was then.
    """

    recipe: Recipe
    gone: tuple[Where, ...]

    def stood(self, where: Where) -> Where | None:
        """Return where in the whole recipe something of the sound parts stands; ``None`` where what
        is found there may come of a part that is missing."""
        for end in reversed(self.gone):
            depth = len(end) - 1
            if where == end[: len(where)] and len(where) <= depth:
                return None  # it held that part
            if where[:depth] == end[:depth] and len(where) > depth:
                here, last = where[depth], end[depth]
                if isinstance(here, int) and isinstance(last, int):
                    moved = here + 1 if here >= last else here
                    where = (*where[:depth], moved, *where[depth + 1 :])
                elif here == last:
                    return None
        return where


def sound_parts(tree: Map, context: Callable[[], Notation]) -> SoundParts | None:
    """Take out of a tree what is broken, until a recipe is left; ``None`` where none is.

    ``context`` makes what the models' validators are given.
    """
    left = copy.deepcopy(tree)
    gone: list[Where] = []
    for _ in range(max(2, min(ROUNDS, VALUES // _size(tree)))):
        notation = context()
        notation.respell(left, "")
        recipe, errors = errors_at(Recipe, left, notation)
        if recipe is not None:
            return SoundParts(recipe, tuple(gone))
        ends = {end for where in errors if (end := _part_of(left, where))}
        if not ends:
            return None
        last_first = sorted(ends, key=_latest, reverse=True)  # so that numbers in lists hold
        there = (end for end in last_first if tuple(_walked(left, end)) == end or end in _STAND_INS)
        gone += [_take_out(left, end) for end in there]
    return None


def _size(node: Any) -> int:
    inner = node.values() if isinstance(node, Map) else node if isinstance(node, Seq) else ()
    return 1 + sum(_size(one) for one in inner)


def _latest(where: Where) -> tuple[tuple[int, str], ...]:
    return tuple((part, "") if isinstance(part, int) else (-1, part) for part in where)


def _part_of(tree: Map, where: Where) -> Where:
    """Return the smallest part that holds an error and that a recipe can do without; none where it
    cannot."""
    walked = tuple(_walked(tree, where))
    if not walked:
        return where[:1] if where[:1] in _STAND_INS else ()
    if walked[0] == "items" and len(walked) > 3 and walked[2] in _IN_ITEMS:
        return walked[:4]
    if walked[0] == "application":
        fixed = walked[1:2] in ((), ("id",), ("name",))
        return walked[: 1 if fixed else 3 if walked[1] == "programs" else 2]
    return walked[:2]


def _walked(tree: Any, where: Where) -> Iterator[str | int]:
    """Give what of a path is there, without what a model alone knows."""
    node = tree
    for part in where:
        named = isinstance(node, Map) and part in node
        numbered = isinstance(node, Seq) and isinstance(part, int) and part < len(node)
        if named or numbered:
            node = node[part]
            yield part


def _take_out(tree: Map, where: Where) -> Where:
    """Take a part out, or let something stand for it; return it. What would be left empty goes with
    it."""
    *above, last = where
    holder: Any = tree
    for part in above:
        holder = holder[part]
    stand_in = _STAND_INS.get(where) or _STAND_INS.get((*where[:-1], "*"))
    if isinstance(holder, Map) and stand_in is not None:
        holder[str(last)] = read_marked(stand_in, "")[0]
        holder.keys_at.setdefault(str(last), holder.mark)
    elif above and len(holder) == 1:
        return _take_out(tree, tuple(above))
    elif isinstance(holder, Map):
        del holder[str(last)], holder.keys_at[str(last)]
    else:
        del holder[int(last)]
    return where
