"""Two revisions of a recipe compared: what is otherwise for safety, for a person, and else.

Parts are compared as documents have them, named parts by their names, routes too; so nothing that
is otherwise goes untold, whatever it is.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence
from difflib import SequenceMatcher
from typing import Any, Literal, get_args

import yaml

from widetrail.lazily import dataclass

How = Literal["added", "gone", "changed", "moved"]
Weight = Literal["safety", "person", "else"]

WEIGHTS: tuple[Weight, ...] = get_args(Weight)


@dataclass(frozen=True)
class Difference:
    """One difference: where, what it is by its code, how it differs, and what it weighs.

    ``was`` and ``now`` are the part as a document has it, in one line; empty where it is not there.
    """

    at: str
    what: str
    how: How
    weight: Weight
    was: str
    now: str


@dataclass(frozen=True)
class _Kind:
    """What a part of a recipe is: its code, and what it weighs where it is added, gone, changed."""

    what: str
    added: Weight
    gone: Weight
    changed: Weight


_KINDS: Mapping[tuple[str, ...], _Kind] = {
    ("revision",): _Kind("revision", "else", "else", "else"),
    ("recipe",): _Kind("language", "else", "else", "else"),
    ("application", "programs", "*"): _Kind("program", "safety", "else", "safety"),
    ("application", "releases"): _Kind("releases", "person", "person", "person"),
    ("application", "lock"): _Kind("lock", "else", "safety", "safety"),
    ("application", "close"): _Kind("command", "safety", "safety", "safety"),
    ("application", "open"): _Kind("command", "safety", "else", "safety"),
    ("application", "screen"): _Kind("screen", "else", "person", "else"),
    ("recognise",): _Kind("sign", "else", "else", "else"),
    ("places", "*"): _Kind("place", "safety", "person", "safety"),
    ("readings", "*"): _Kind("reading", "else", "else", "else"),
    ("relies_on", "*"): _Kind("other-recipe", "person", "person", "person"),
    ("asks", "*"): _Kind("question", "person", "person", "person"),
    ("excuses",): _Kind("excuse", "safety", "else", "safety"),
    ("items", "*"): _Kind("item", "person", "person", "person"),
    ("items", "*", "take"): _Kind("taken", "person", "person", "person"),
    ("items", "*", "leave"): _Kind("left", "person", "person", "person"),
    ("items", "*", "kind"): _Kind("kind", "safety", "safety", "safety"),
    ("items", "*", "from"): _Kind("from", "safety", "safety", "safety"),
    ("items", "*", "checks", "*"): _Kind("check", "else", "safety", "safety"),
    ("items", "*", "losses", "*"): _Kind("loss", "person", "person", "person"),
    ("items", "*", "paths"): _Kind("paths", "else", "safety", "safety"),
    ("items", "*", "retire"): _Kind("retire", "person", "person", "person"),
    ("items", "*", "serial"): _Kind("licence", "safety", "safety", "safety"),
    ("items", "*", "active"): _Kind("licence", "safety", "safety", "safety"),
    ("items", "*", "files"): _Kind("licence", "else", "safety", "safety"),
    ("items", "*", "exchange"): _Kind("licence", "else", "safety", "safety"),
    ("items", "*", "routes"): _Kind("order-of-routes", "else", "else", "person"),
    ("items", "*", "routes", "*"): _Kind("route", "person", "person", "person"),
    ("items", "*", "routes", "*", "needs"): _Kind("needs", "person", "safety", "person"),
    ("items", "*", "routes", "*", "limit"): _Kind("needs", "person", "safety", "person"),
    ("items", "*", "routes", "*", "for"): _Kind("needs", "person", "person", "person"),
    ("items", "*", "routes", "*", "only"): _Kind("needs", "person", "person", "person"),
    ("items", "*", "routes", "*", "existing"): _Kind("existing", "safety", "safety", "safety"),
    ("items", "*", "routes", "*", "by_choice"): _Kind("choice", "person", "person", "person"),
    ("items", "*", "routes", "*", "losses", "*"): _Kind("loss", "person", "person", "person"),
    ("items", "*", "routes", "*", "checks", "*"): _Kind("check", "else", "safety", "safety"),
    ("items", "*", "routes", "*", "legs"): _Kind("step", "safety", "safety", "safety"),
    ("items", "*", "routes", "*", "ready"): _Kind("step", "safety", "safety", "safety"),
    ("items", "*", "routes", "*", "free"): _Kind("step", "safety", "safety", "safety"),
    ("items", "*", "routes", "*", "claim"): _Kind("step", "safety", "safety", "safety"),
}
"""What the parts of a recipe are, by the keys that lead there; ``*`` is any name. ``words`` is all
that is none of them, ``same-revision`` that something differs and the number of the revision does
not."""

_NAMED = {"routes": "name", "losses": "what"}
"""Lists whose entries have names, by the key that holds them, with the key of the name."""


def compare(old: Mapping[str, Any], new: Mapping[str, Any]) -> list[Difference]:
    """Return what differs between two recipes, each the document that it was read from, the
    gravest first.

    Example:
        >>> [d.at for d in compare({"asks": {"a": "b"}}, {"asks": {}})]
        ['asks.a']
    """
    found = list(_differences(old, new, ()))
    before, after = old.get("revision"), new.get("revision")
    if found and before == after and before is not None:
        found.append(
            Difference("revision", "same-revision", "changed", "person", before, str(after))
        )
    return sorted(found, key=lambda one: WEIGHTS.index(one.weight))


def _differences(old: Any, new: Any, at: tuple[str, ...]) -> Iterator[Difference]:
    if old == new and not (isinstance(old, Mapping) and list(old) != list(new) and _ordered(at)):
        return
    if isinstance(old, Mapping) and isinstance(new, Mapping) and not _is_whole(at):
        for key in dict.fromkeys((*old, *new)):
            where = (*at, key)
            was, now = _part(old, key), _part(new, key)
            if was is None or now is None:
                yield from _one_sided(was, now, where)
            else:
                yield from _differences(was, now, where)
        kept = [key for key in old if key in new]
        if _ordered(at) and kept != [key for key in new if key in old]:
            yield _told(list(old), list(new), at, "moved")
        return
    if (kind := _kind(at)) is not None and kind.what == "step":
        yield from _steps(old, new, at)
        return
    yield _told(old, new, at, "changed")


def _steps(old: Any, new: Any, at: tuple[str, ...]) -> Iterator[Difference]:
    """Give the steps that are added or gone: one that changed is both."""
    was, now = list(_in_legs(old)), list(_in_legs(new))
    matcher = SequenceMatcher(None, was, now, autojunk=False)
    for tag, i1, i2, j1, j2 in matcher.get_opcodes():
        if tag != "equal":
            yield from (_told(step, None, at, "gone") for step in was[i1:i2])
            yield from (_told(None, step, at, "added") for step in now[j1:j2])


def _in_legs(legs: Any) -> Iterator[str]:
    """Give the steps of legs as lines, each with its station."""
    for leg in legs if isinstance(legs, Sequence) and not isinstance(legs, str) else ():
        for station, steps in leg.items():
            yield from (f"{station}: {_line(step)}" for step in steps)


def _part(holder: Mapping[str, Any], key: str) -> Any:
    """Return a part, with lists of named entries as mappings."""
    part = holder.get(key)
    name = _NAMED.get(key)
    if name is not None and isinstance(part, Sequence) and not isinstance(part, str):
        return {
            str(one.get(name, n)) if isinstance(one, Mapping) else str(n): one
            for n, one in enumerate(part)
        }
    return part


def _ordered(at: tuple[str, ...]) -> bool:
    return at[-1:] == ("routes",)


def _one_sided(was: Any, now: Any, at: tuple[str, ...]) -> Iterator[Difference]:
    """Give what is there on one side alone: each named part of it, where what holds them says
    nothing itself."""
    there = was if now is None else now
    if isinstance(there, Mapping) and _kind(at) is None and _kind((*at, "")) is not None:
        for key in there:
            part = _part(there, key)
            yield from _one_sided(
                part if now is None else None, part if was is None else None, (*at, key)
            )
        return
    yield _told(was, now, at, "gone" if now is None else "added")


def _is_whole(at: tuple[str, ...]) -> bool:
    """Return whether a part is told as one: nothing below it is known apart."""
    if _kind(at) is None:
        return len(at) > 0 and not any(_leads(at, pattern) for pattern in _KINDS)
    return not any(_leads(at, pattern) for pattern in _KINDS)


def _leads(at: tuple[str, ...], pattern: tuple[str, ...]) -> bool:
    return len(pattern) > len(at) and _fits(at, pattern[: len(at)])


def _fits(at: tuple[str, ...], pattern: tuple[str, ...]) -> bool:
    return len(at) == len(pattern) and all(p in ("*", a) for a, p in zip(at, pattern, strict=True))


def _kind(at: tuple[str, ...]) -> _Kind | None:
    return next((kind for pattern, kind in _KINDS.items() if _fits(at, pattern)), None)


def _told(was: Any, now: Any, at: tuple[str, ...], how: How) -> Difference:
    kind = _kind(at) or _Kind("words", "else", "else", "else")
    weight: Weight = {"added": kind.added, "gone": kind.gone}.get(how, kind.changed)
    return Difference(".".join(at), kind.what, how, weight, _line(was), _line(now))


def _line(part: Any) -> str:
    """Return a part as a recipe may have it in one line."""
    if part is None:
        return ""
    if isinstance(part, str):
        return part
    told = yaml.safe_dump(
        _plain(part),
        default_flow_style=True,
        sort_keys=False,
        allow_unicode=True,
        width=math.inf,
    )
    return str(told).strip()


def _plain(part: Any) -> Any:
    if isinstance(part, Mapping):
        return {str(key): _plain(value) for key, value in part.items()}
    if isinstance(part, Sequence) and not isinstance(part, str):
        return [_plain(value) for value in part]
    return str(part)
