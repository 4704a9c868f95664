"""The ways in which a recipe is changed, to see whether a rehearsal notices."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping
from functools import cache
from itertools import pairwise
from typing import Any, NamedTuple

import yaml

from widetrail.formats.documents import Where
from widetrail.formats.quantities import show_size
from widetrail.machine.platforms import PLATFORMS
from widetrail.rehearsing.coverage import show_where
from widetrail.rehearsing.stage import as_plain
from widetrail.steps import KINDS

_Change = tuple[Where, str, str, str, Any]
"""Where, the kind of mutation, what was changed, the rehearsal that is missing, and the whole."""


_NEVER = ("recipe", "revision", "name", "maker", "title", "remedy", "what", "before", "id")
"""Keys whose values are words for people, or say what the document is."""


def changes_of(tree: Any) -> Iterator[_Change]:
    values = ".plist" in str(tree.get("places"))  # only then a kind says more than words
    for where, key, value in _nodes(tree, ()):
        if (key in _NEVER or (key == "kind" and not values)) and isinstance(value, str):
            continue
        at = (*where, key)
        yield from _dropped(tree, at, value)
        yield from _altered(tree, at, key, value)
        if isinstance(value, list):
            yield from _swapped(tree, at, key, value)
    yield from _cases_swapped(tree)


def _nodes(value: Any, where: Where) -> Iterator[tuple[Where, str | int, Any]]:
    pairs: Any = value.items() if isinstance(value, dict) else ()
    pairs = enumerate(value) if isinstance(value, list) else pairs
    for key, inner in pairs:
        yield where, key, inner
        yield from _nodes(inner, (*where, key))


def _with(tree: Any, where: Where, make: Callable[[Any, str | int], None]) -> Any:
    """Return a copy of a tree in which ``make`` changed what holds ``where``'s last key."""
    copy = as_plain(tree)
    node = copy
    for part in where[:-1]:
        node = node[part]
    make(node, where[-1])
    return copy


def _put(value: Any) -> Callable[[Any, str | int], None]:
    def make(node: Any, key: str | int) -> None:
        node[key] = value

    return make


def _drop(node: Any, key: str | int) -> None:
    del node[key]


_KEPT_WHOLE = (
    "application",
    "recognise",
    "places",
    "readings",
    "items",
    "asks",
    "programs",
    "legs",
)


_SETS = ("losses", "take", "leave", "contains", "in", "not", "paths", "lock")
"""Lists whose order says nothing, beside those of steps."""


_LISTS = ("screen", "output", "open", "close")
"""Lists whose entries belong together, beside those of steps: a command."""


class _OfSteps(NamedTuple):
    """What the kinds of steps say of their keys; see ``recipe.settings``."""

    commands: frozenset[str]
    unordered: frozenset[str]
    not_empty: frozenset[str]
    words: Mapping[str, str]


@cache
def _of_steps() -> _OfSteps:
    kinds = tuple(KINDS.values())
    words = {key: told for kind in kinds for key, told in kind.noticed_by.items()}
    return _OfSteps(
        frozenset(key for kind in kinds for key in kind.commands_at),
        frozenset(key for kind in kinds for key in kind.unordered),
        frozenset(key for kind in kinds for key in kind.not_empty),
        words,
    )


def _commands() -> frozenset[str]:
    return _of_steps().commands | set(_LISTS)


def _dropped(tree: Any, at: Where, value: Any) -> Iterator[_Change]:
    key, holder = at[-1], at[-2] if len(at) > 1 else ""
    if key in _KEPT_WHOLE or (isinstance(key, int) and holder in _commands()):
        return
    if (holder, key) == ("set_in", "as") or _alone(tree, at):
        return
    shown = _shown(value)
    what = f"{key}: {shown}" if isinstance(key, str) else shown
    yield at, "dropped", what, _missing(at, "dropped", value), _with(tree, at, _drop)


def _alone(tree: Any, at: Where) -> bool:
    """Return whether a value is all that a list or condition holds, so that this goes with it."""
    held = tree
    for part in at[:-1]:
        held = held[part]
    return len(held) == 1 and (
        isinstance(held, list) or at[-2] in {"for", "when"} | _of_steps().not_empty
    )


def _missing(at: Where, mutation: str, value: Any) -> str:
    """Return in words which rehearsal would notice."""
    keys = [part for part in at if isinstance(part, str)]
    key = keys[-1] if keys else ""
    words = {**_WORDS, **_of_steps().words}
    named = [key, *(name for name in words if name in keys and name in _INSIDE)]
    for name in (n for n in named if n in words):
        return words[name].format(key=key, value=_shown(value))
    return f"one whose outcome changes with {show_where(at)} ({mutation})"


_INSIDE = (
    "needs",
    "checks",
    "losses",
    "only",
    "limit",
    "paths",
    "await",
    "when",
    "for",
    "recognise",
)


_WORDS = {
    "leave": "one with something of {value} on the old computer, which is seen to be left",
    "take": "one with something beside {value} on the old computer",
    "limit": "one where {key} is beyond {value}",
    "needs": "one where {key} alone is not {value}, and another where it is",
    "for": "one where {key} is not {value}",
    "when": "one where {key} is not {value}, so that the loss is none",
    "proof": "one where it is made good, and one where it is not (proved)",
    "losses": "one that expects the losses",
    "checks": "one where {key} differs",
    "paths": "one with a path of the old computer's there, that expects it rewritten",
    "retire": "one whose old is visited after new, with the renamed folder expected",
    "existing": "one with something in its place on the new computer",
    "await": "one where it does not come, and one where it came before",
    "only": "one with something that is left by it, and something that is not",
    "rest": "one with something that only leaves",
    "contains": "one with a folder that does not hold it",
    "pair": "one with another name, or another one in use, on the new computer",
    "set_in": "one where the program's settings say another place",
    "in_use": "one where the one in use is not the first",
    "releases": "one of a release beyond {value}, that expects the notice",
    "edition": "one of another edition",
    "release": "one of another release",
    "lock": "one with the program open, that waits",
    "recognise": "one on a machine that only this case recognises",
    "screen": "one that expects the same print-out",
    "compare": "one where the new computer has more than the old one",
    "title": "none: it is words",
    "kind": "one whose settings still name a path of the old computer's, so that it fails",
}


def _shown(value: Any) -> str:
    text = (
        value
        if isinstance(value, str)
        else yaml.safe_dump(
            value, default_flow_style=True, width=10_000, allow_unicode=True
        ).strip()
    )
    return text if len(text) <= 70 else f"{text[:67]}…"


_OPPOSITE = {
    "yes": "no",
    "no": "yes",
    "same": "at_least",
    "at_least": "same",
    "first": "last",
    "last": "first",
    "back up": "replace",
    "replace": "back up",
    "alongside": "back up",
    "skip": "replace",
    "refuse": "back up",
    "carry": "leave",
    "leave": "carry",
    "ask": "leave",
    "list": "set",
    "set": "list",
    "safe": "never",
    "never": "safe",
    "real": "empty",
}


_BOUND = re.compile(r"(>=|<=|>|<)")


_WIDER = {">=": ">", "<=": "<", ">": ">=", "<": "<="}


_AGAINST = {">=": "<", "<=": ">", ">": "<=", "<": ">="}


def _altered(tree: Any, at: Where, key: str | int, value: Any) -> Iterator[_Change]:
    """Give what becomes of one text: negated, widened or narrowed."""
    if not isinstance(value, str):
        return

    def change(mutation: str, new: str) -> _Change:
        told = f"{value} became {new}"
        return at, mutation, told, _missing(at, mutation, value), _with(tree, at, _put(new))

    keys = [part for part in at if isinstance(part, str)]
    if value in _OPPOSITE and not _commands() & set(keys):
        yield change("negated", _OPPOSITE[value])
    elif value in PLATFORMS and "platform" in keys:
        names = list(PLATFORMS)
        yield change("negated", names[0] if value == names[-1] else names[-1])
    if value == "same or later":
        yield change("narrowed", "same")
    if value == "same" and "release" in keys:
        yield change("widened", "same or later")
    if _BOUND.match(value):
        terms = [term.strip() for term in value.split(",")]
        for number, term in enumerate(terms):
            sign = _BOUND.match(term)
            if sign is None:
                continue
            rest = term[len(sign[1]) :]
            for mutation, signs in (("moved by its bound", _WIDER), ("negated", _AGAINST)):
                changed = [*terms[:number], signs[sign[1]] + rest, *terms[number + 1 :]]
                yield change(f"{mutation} ({term})", ", ".join(changed))
            if len(terms) > 1:
                yield change(
                    f"widened ({term})", ", ".join([*terms[:number], *terms[number + 1 :]])
                )
    if {"take", "leave"} & set(keys) and "*" in value and value != "**":
        yield change("widened", "**")
    if "limit" in keys and value.split(" ")[0].isdecimal():
        yield change("narrowed", show_size(1) if key != "count" else "1")
    if key in ("at_least", "at_most") and re.fullmatch(r"-?\d+", value):
        step = 1 if key == "at_least" else -1
        yield change("moved by one", str(int(value) + step))


def _swapped(tree: Any, at: Where, key: str | int, value: list[Any]) -> Iterator[_Change]:
    if key in _commands() or key in {*_SETS, *_of_steps().unordered} or "parts" in at:
        return
    for number in range(len(value) - 1):
        one, other = value[number], value[number + 1]
        if len({_platform_of(one), _platform_of(other)} - {""}) == 2:  # they hold nowhere both
            continue
        swapped = [*value[:number], other, one, *value[number + 2 :]]
        spot = (*at, number)
        told = f"{_name_of(one)} and {_name_of(other)}"
        missing = f"one where both {_name_of(one)} and {_name_of(other)} could be taken"
        yield spot, "swapped with the next", told, missing, _with(tree, at, _put(swapped))


def _platform_of(case: Any) -> str:
    condition = case.get("for") if isinstance(case, dict) else None
    return str(condition.get("platform", "")) if isinstance(condition, dict) else ""


def _name_of(value: Any) -> str:
    if isinstance(value, dict) and isinstance(value.get("name"), str):
        return f'"{value["name"]}"'
    return _shown(value)


def _cases_swapped(tree: Any) -> Iterator[_Change]:
    """Give platform maps in which two texts changed places."""
    for where, key, value in _nodes(tree, ()):
        names = (*PLATFORMS, "else")
        mine = [n for n in names if isinstance(value, dict) and n in value]
        if len(mine) < 2 or len(mine) != len(value):
            continue
        for one, other in pairwise(mine):
            swapped = {**value, one: value[other], other: value[one]}
            at = (*where, key)
            missing = f"one on {one}, and one on another platform"
            yield (
                at,
                f"swapped {one} and {other}",
                _shown(value),
                missing,
                _with(tree, at, _put(swapped)),
            )
