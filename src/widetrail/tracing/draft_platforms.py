"""One recipe from traces of the same program on several platforms.

Each draft is written for its own platform; places that hold the same kind of files are one place.
What is the same everywhere is said once, what is not becomes cases, each for its platform.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import yaml

from widetrail.errors import InputUnusable
from widetrail.machine.paths import base
from widetrail.tracing.drafting import Draft
from widetrail.tracing.places import DraftPlace
from widetrail.tracing.shapes import patterns

_Document = dict[str, Any]


def as_one(drafts: Sequence[Draft]) -> str:
    """Return the recipe that drafts make together; that of one alone is as it was written.

    Raises:
        InputUnusable: Two are of one platform, their programs are shown by different commands, or
            nothing is to be taken.
    """
    if len(drafts) == 1:
        return drafts[0].recipe()
    _insist(drafts)
    for other in drafts[1:]:
        _name_alike(drafts[0].places, other.places)
    told = {d.machine.platform: yaml.load(d.recipe(), yaml.CBaseLoader) for d in drafts}
    titles = [
        f"{' '.join(d.trace.title.split())} ({d.machine.name}, {d.machine.platform})"
        for d in drafts
    ]
    lines = ["# Drafted from traces:", *(f"# - {title}" for title in titles)]
    questions = dict.fromkeys(question for draft in drafts for question in draft.questions)
    if questions:
        lines += ["", "# Questions that the traces leave open:", *(f"# - {q}" for q in questions)]
    merged = _merged(told)
    return "\n".join((*lines, "", *(_written(name, merged[name]) for name in _ORDER)))


def _written(name: str, value: Any) -> str:
    """Return a part of a recipe as text, with an empty line after one of several lines."""
    if name in ("recipe", "revision"):
        return f"{name}: {value}"
    told = {name: value}
    return yaml.dump(told, Dumper=_Dumper, sort_keys=False, allow_unicode=True, width=1000)


class _Dumper(yaml.SafeDumper):
    """Writes small mappings and lists in one line."""


def _in_one_line(dumper: yaml.SafeDumper, value: dict[str, Any]) -> yaml.Node:
    node = dumper.represent_dict(value)
    node.flow_style = all(isinstance(inner, str) for inner in value.values()) and len(value) < 5
    return node


def _list_in_one_line(dumper: yaml.SafeDumper, value: list[Any]) -> yaml.Node:
    node = dumper.represent_list(value)
    node.flow_style = all(isinstance(inner, str) for inner in value) and len(value) < 5
    return node


_Dumper.add_representer(dict, _in_one_line)
_Dumper.add_representer(list, _list_in_one_line)


def _insist(drafts: Sequence[Draft]) -> None:
    platforms = [draft.machine.platform for draft in drafts]
    if len(set(platforms)) < len(platforms):
        raise InputUnusable(
            "several traces are of one platform",
            where=", ".join(platforms),
            todo="Name one trace for each platform.",
        )
    screens = {_screen(draft) for draft in drafts}
    if len(screens) > 1:
        raise InputUnusable(
            "is shown by different commands",
            where=" and ".join(sorted(" ".join(screen) for screen in screens)),
            todo="Trace the program with one screen on each platform.",
        )


def _screen(draft: Draft) -> tuple[str, ...]:
    return draft.trace.screen


# Places

CALLED_ALIKE = 0.1
"""How much alike two places are of which nothing is, but what they are called."""


def _name_alike(places: Sequence[DraftPlace], others: Sequence[DraftPlace]) -> None:
    """Give places of another platform the names of those that hold the same kind of files."""
    scored = [(_alike(a, b), a.name, n) for a in places for n, b in enumerate(others)]
    named: dict[int, str] = {}
    for score, name, number in sorted(scored, key=lambda s: (-s[0], s[2])):
        if score > 0 and number not in named and name not in named.values():
            named[number] = name
    taken = {place.name for place in places}
    for number, other in enumerate(others):
        if number in named:
            other.name = named[number]
        elif other.name in taken:
            other.name = f"{other.name}_too"
        taken.add(other.name)


def _alike(one: DraftPlace, other: DraftPlace) -> float:
    """Return how much of what two places hold is called alike, from 0 to 1; 2 where they are one
    below the same root."""
    if one.folder != other.folder:
        return 0
    if one.template and one.template == other.template:
        return 2
    mine, theirs = _names(one), _names(other)
    called = one.name == other.name or base(one.path).casefold() == base(other.path).casefold()
    return max(len(mine & theirs) / max(len(mine | theirs), 1), CALLED_ALIKE if called else 0)


def _names(place: DraftPlace) -> set[str]:
    if not place.folder:
        return {base(place.path).casefold()}
    return {base(pattern).casefold() for pattern in patterns(one.path for one in place.taken)}


# Merging

_ORDER = ("recipe", "revision", "application", "recognise", "places", "readings", "items")


def _merged(told: dict[str, _Document]) -> _Document:
    first = next(iter(told.values()))
    merged = {name: first[name] for name in ("recipe", "revision")}
    merged["application"] = _per_platform({p: d["application"] for p, d in told.items()})
    merged["recognise"] = [
        {"for": {"platform": platform}, **case}
        for platform, document in told.items()
        for case in document["recognise"]
    ]
    merged["places"] = _cases({p: d["places"] for p, d in told.items()})
    merged["readings"] = {}
    merged["items"] = _items({p: d["items"] for p, d in told.items()})
    for name, item in merged["items"].items():
        having = [d["readings"] for d in told.values() if name in d["items"]]
        kept = {r: rule for r in item["checks"] if (rule := _shared(r, having)) is not None}
        if not kept:
            kept = {f"{name}_there": {"file": f"{{{item['from']}}}"}}
        item["checks"] = {r: {"compare": "same"} for r in kept}
        merged["readings"] |= kept
    return merged


def _shared(name: str, having: Sequence[_Document]) -> _Document | None:
    """Return a reading that tells something on every platform that has its item; one of a file that
    only one of them has, such as a person's own, is none."""
    rules = [readings[name] for readings in having if name in readings]
    same = all(rule == rules[0] for rule in rules)
    return rules[0] if same and (len(rules) == len(having) or "files" in rules[0]) else None


def _per_platform(values: dict[str, Any]) -> Any:
    """Return values as one: the same everywhere, mapping by mapping, or each by its platform."""
    first = next(iter(values.values()))
    if all(value == first for value in values.values()):
        return first
    if all(isinstance(value, dict) for value in values.values()):
        names = dict.fromkeys(name for value in values.values() for name in value)
        return {
            name: _per_platform({p: value[name] for p, value in values.items() if name in value})
            for name in names
        }
    return dict(values)


def _cases(values: dict[str, _Document]) -> _Document:
    """Return named rules as one: a rule that is not the same everywhere becomes cases."""
    found: _Document = {}
    for name in dict.fromkeys(name for value in values.values() for name in value):
        rules = {p: value[name] for p, value in values.items() if name in value}
        first = next(iter(rules.values()))
        if all(rule == first for rule in rules.values()):
            found[name] = first
        else:
            found[name] = [{"for": {"platform": p}, **rule} for p, rule in rules.items()]
    return found


def _items(values: dict[str, _Document]) -> _Document:
    found: _Document = {}
    for name in dict.fromkeys(name for value in values.values() for name in value):
        mine = {p: value[name] for p, value in values.items() if name in value}
        item = {k: v for one in reversed(mine.values()) for k, v in one.items()}
        ordered = {key: item[key] for key in next(iter(mine.values())) if key in item}
        item = ordered | item
        for key in ("leave", "losses"):
            if told := [rule for one in mine.values() for rule in one.get(key, ())]:
                item[key] = [rule for number, rule in enumerate(told) if rule not in told[:number]]
        if "leave" in item:
            item["leave"] = list(patterns(item["leave"]))
        if any("paths" in one for one in mine.values()):
            item["paths"] = _paths({p: one.get("paths", []) for p, one in mine.items()})
        item["checks"] = {k: v for one in mine.values() for k, v in one["checks"].items()}
        found[name] = item
    return found


def _paths(values: dict[str, list[_Document]]) -> list[_Document]:
    """Return rules for paths: one that holds on some platforms only stands there for each."""
    found: list[_Document] = []
    every = [rule for rules in values.values() for rule in rules]
    for number, rule in enumerate(every):
        if rule in every[:number]:
            continue
        having = [p for p, rules in values.items() if rule in rules]
        if len(having) == len(values):
            found.append(rule)
        else:
            found += [{"for": {"platform": p}, **rule} for p in having]
    return found
