"""One automaton for many paths with globs, carried down a walk of the disks folder by folder.

Patterns are sequences of segments. They are put together into a tree of nodes; what is live below a
folder is a set of nodes, and each such set is one state, made when a walk first comes to it (the
subset construction of Rabin and Scott, done lazily). A state knows which marks its path carries and
what each further name leads to. States are forgotten once there are too many, so hostile patterns
(``**/a*/**/a*/**``) cost time and not memory.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Sequence
from functools import lru_cache

from widetrail.machine.platforms import PLATFORMS, Platform
from widetrail.recipe.globs import fold, segment_expression

MOST = 200_000
"""Nodes of all states together that are remembered, at most."""

ANYWHERE = "**"


class Segment(str):
    """A segment of a pattern in which ``*``, ``?`` and ``[…]`` stand for other names."""


class _Node:
    """What is the same of all patterns with the same first segments."""

    __slots__ = ("anywhere", "globs", "is_deep", "literals", "marks", "number")

    def __init__(self, number: int, *, is_deep: bool = False) -> None:
        self.number, self.is_deep = number, is_deep
        self.literals: dict[str, _Node] | None = None
        self.globs: dict[str, _Node] | None = None
        self.anywhere: _Node | None = None
        self.marks: tuple[int, ...] = ()


class State:
    """What is live below one path: the marks of the path, and where further names lead.

    ``steady`` tells that every name below leads to this very state.
    """

    __slots__ = (
        "_automaton",
        "_by_hits",
        "_default",
        "_globs",
        "_literals",
        "_moves",
        "_nodes",
        "facts",
        "marks",
        "steady",
    )

    def __init__(self, automaton: Automaton, nodes: tuple[_Node, ...]) -> None:
        self._automaton, self._nodes = automaton, nodes
        self.marks = tuple(sorted({mark for node in nodes for mark in node.marks}))
        self.facts: object = None
        """What whoever walks remembers of the state; it is theirs."""
        self._literals: dict[str, list[_Node]] = {}
        globs: dict[str, list[_Node]] = {}
        for node in nodes:
            for name, inner in (node.literals or {}).items():
                self._literals.setdefault(name, []).append(inner)
            for glob, inner in (node.globs or {}).items():
                globs.setdefault(glob, []).append(inner)
        self._globs = _Globs(globs) if globs else None
        self.forget()
        branches = self._literals or globs
        self.steady = not branches and all(node.is_deep for node in nodes)

    def forget(self) -> None:
        """Forget where names led."""
        self._moves: dict[str, State] = {}
        self._by_hits: dict[tuple[int, ...], State] = {}
        self._default: State | None = None

    def step(self, name: str) -> State:
        """Return the state of ``name``, which must be a key of the volume, below this one."""
        known = self._moves.get(name)
        if known is not None:
            return known
        literal = self._literals.get(name)
        hits = self._globs(name) if self._globs is not None else ()
        if literal is None and not hits:
            if self._default is None:
                self._default = self._next(())
            return self._default
        if literal is None:  # any number of names lead there, so they are not remembered
            key = tuple(node.number for node in hits)
            state = self._by_hits.get(key)
            if state is None:
                state = self._by_hits[key] = self._next(hits)
            return state
        state = self._moves[name] = self._next([*literal, *hits])
        return state

    def _next(self, found: Sequence[_Node]) -> State:
        if self.steady:
            return self
        deep = [node for node in self._nodes if node.is_deep]
        return self._automaton.state([*deep, *found])


class _Globs:
    """The globs that leave one state, sorted by what is quickly looked up in a name."""

    def __init__(self, globs: dict[str, list[_Node]]) -> None:
        self._all: list[_Node] = []
        self._ends: dict[str, list[_Node]] = {}
        self._begins: dict[str, list[_Node]] = {}
        self._others: list[tuple[Callable[[str], object], list[_Node]]] = []
        for glob, nodes in globs.items():
            if glob == "*":
                self._all += nodes
            elif glob[0] == "*" and not _SPECIAL.search(glob[1:]):
                self._ends.setdefault(glob[1:], []).extend(nodes)
            elif glob[-1] == "*" and not _SPECIAL.search(glob[:-1]):
                self._begins.setdefault(glob[:-1], []).extend(nodes)
            else:
                self._others.append((_matcher(glob), nodes))
        self._lengths = sorted({len(end) for end in self._ends})
        self._widths = sorted({len(begin) for begin in self._begins})

    def __call__(self, name: str) -> list[_Node]:
        """Return what a name leads to."""
        found = list(self._all)
        for length in self._lengths:
            found += self._ends.get(name[-length:], ())
        for width in self._widths:
            found += self._begins.get(name[:width], ())
        for match, nodes in self._others:
            if match(name):
                found += nodes
        return found


_SPECIAL = re.compile(r"[*?\[]")


@lru_cache(maxsize=65_536)
def _matcher(glob: str) -> Callable[[str], object]:
    return re.compile(segment_expression(glob)).fullmatch


class Automaton:
    """Patterns and the states that a walk came to so far."""

    def __init__(self) -> None:
        self._count = 1
        self._top = _Node(0)
        self._states: dict[tuple[int, ...], State] = {}
        self._held = 0

    def add(self, segments: Iterable[str], mark: int) -> None:
        """Add a pattern: names, ``Segment`` with globs, and ``**`` as such a one for any folders.

        A path that it matches carries ``mark``. Names and globs must be keys of the volume.
        """
        node = self._top
        for segment in segments:
            if type(segment) is not Segment:
                node = self._literal(node, segment)
            elif segment == ANYWHERE:
                if not node.is_deep:
                    if node.anywhere is None:
                        node.anywhere = self._node(is_deep=True)
                    node = node.anywhere
            elif not _SPECIAL.search(segment):
                node = self._literal(node, str(segment))
            else:
                if node.globs is None:
                    node.globs = {}
                inner = node.globs.get(segment)
                if inner is None:
                    inner = node.globs[str(segment)] = self._node()
                node = inner
        node.marks += (mark,)

    def _literal(self, node: _Node, name: str) -> _Node:
        if node.literals is None:
            node.literals = {}
        inner = node.literals.get(name)
        if inner is None:
            inner = node.literals[name] = self._node()
        return inner

    def _node(self, *, is_deep: bool = False) -> _Node:
        self._count += 1
        return _Node(self._count, is_deep=is_deep)

    @property
    def start(self) -> State:
        """The state before any name."""
        return self.state([self._top])

    def state(self, nodes: Iterable[_Node]) -> State:
        """Return the state in which ``nodes`` are live, and what ``**`` right below them means."""
        live: dict[int, _Node] = {}
        for node in nodes:
            live[node.number] = node
            if node.anywhere is not None:
                live[node.anywhere.number] = node.anywhere
        key = tuple(sorted(live))
        known = self._states.get(key)
        if known is None:
            self._held += len(key) + 1
            if self._held > MOST:
                for state in self._states.values():
                    state.forget()
                self._states.clear()
                self._held = len(key) + 1
            known = self._states[key] = State(self, tuple(live[number] for number in key))
        return known

    @property
    def held(self) -> int:
        """How many nodes the remembered states hold."""
        return self._held


def key_of(platform: Platform) -> Callable[[str], str]:
    """Return what gives the key of a name: the same for all that a volume takes for one name."""
    return fold if PLATFORMS[platform].ignores_case else str
