"""Recipe mutations: one rule changed at a time, to see whether any rehearsal would notice.

A mutant is the recipe with one rule dropped, widened, narrowed, negated or swapped with another.
It is judged only by the rehearsals that went by that rule, the quickest first, until one fails.
A mutant that lint refuses is none; one that no rehearsal notices survives, and says which
rehearsal is missing.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import asdict, dataclass, replace
from functools import cache
from itertools import pairwise
from typing import Any, NamedTuple

import yaml

from widetrail.formats.documents import mark_at
from widetrail.formats.quantities import show_count, show_size
from widetrail.machine.platforms import PLATFORMS
from widetrail.recipe import Loaded
from widetrail.recipe.coverage_events import Where
from widetrail.recipe.loader import examine
from widetrail.rehearsing.batch import Job, run_job, workers
from widetrail.rehearsing.coverage import Explained, arms_of, show_where
from widetrail.rehearsing.rehearsal import Rehearsal
from widetrail.rehearsing.runner import Rehearsed
from widetrail.rehearsing.stage import as_plain
from widetrail.steps import KINDS


@dataclass(frozen=True, slots=True)
class Mutant:
    """A changed recipe: where the rule stands that was changed, how, and its whole text.

    ``missing`` is the rehearsal that would notice it, in words.
    """

    recipe: str
    file: str
    line: int
    where: Where
    mutation: str
    change: str
    missing: str
    text: str


@dataclass(frozen=True, slots=True)
class Judged:
    """What became of a mutant: the rehearsal that noticed it, and how many it was shown to.

    ``explained`` is the reason that is written down for its surviving.
    """

    mutant: Mutant
    killed_by: str = ""
    shown_to: int = 0
    explained: str = ""

    @property
    def unreached(self) -> bool:
        """Whether no rehearsal goes by the rule at all."""
        return not self.shown_to and not self.killed_by

    @property
    def survived(self) -> bool:
        """Whether nobody noticed it, and no reason is written down."""
        return not self.killed_by and not self.explained

    def as_json(self) -> dict[str, object]:
        """Return it as plain JSON values, without the whole text."""
        told = {k: v for k, v in asdict(self.mutant).items() if k != "text"}
        told |= {"at": show_where(self.mutant.where), "survived": self.survived}
        return {
            **told,
            "killed_by": self.killed_by,
            "shown_to": self.shown_to,
            "explained": self.explained,
        }


def show_mutant(judged: Judged) -> Iterator[str]:
    """Give the lines that tell of a mutant that survived."""
    mutant = judged.mutant
    where = show_where(mutant.where)
    yield f"{mutant.file}:{mutant.line}: {where}: {mutant.mutation}: {mutant.change}"
    shown = "no rehearsal goes by it"
    if not judged.unreached:
        shown = f"{show_count(judged.shown_to, 'rehearsal')} did not notice"
    yield f"{shown}. Missing: {mutant.missing}"


Run = tuple[Job, Rehearsal, Rehearsed]


def judge_mutants(
    loaded: Loaded,
    runs: Sequence[Run],
    jobs: int = 1,
    explained: Sequence[Explained] = (),
    tick: Callable[[int, int], None] = lambda done, total: None,
    every: int = 1,
) -> list[Judged]:
    """Return what became of each mutant of a recipe, or of one in ``every``.

    ``runs`` are rehearsals of it with what they came to unchanged; those that failed are left out.
    """
    known = [e for e in explained if e.mutation]
    mine = [run for run in runs if loaded.id in run[2].recipes and run[2].passed]
    mutants = list(mutants_of(loaded))[::every]
    found: list[Judged] = []
    with workers(jobs) as each:
        for judged in each(_judge, [(mutant, _going_by(mutant, mine)) for mutant in mutants]):
            why = next((e.why for e in known if _is_for(e, judged.mutant)), "")
            found.append(replace(judged, explained="" if judged.killed_by else why))
            tick(len(found), len(mutants))
    return found


def _is_for(explained: Explained, mutant: Mutant) -> bool:
    where = show_where(mutant.where)
    return explained.at == where and mutant.mutation.startswith(explained.mutation)


def unneeded(explained: Sequence[Explained], judged: Sequence[Judged]) -> list[Explained]:
    """Return the reasons for mutants that nobody needs: each was noticed, or there is none."""
    mutants = [one.mutant for one in judged if one.explained]
    return [e for e in explained if e.mutation and not any(_is_for(e, m) for m in mutants)]


_Going = tuple[tuple[Job, str, tuple[tuple[str, str], ...]], ...]


def _going_by(mutant: Mutant, runs: Sequence[Run]) -> _Going:
    """Return the rehearsals that go by the mutant's rule, quickest first."""
    chosen = [run for run in runs if _goes_by(mutant, run[2])]
    chosen.sort(key=lambda run: run[2].seconds)
    found = []
    for job, rehearsal, result in chosen:
        texts = []
        for path in rehearsal.recipe_files:
            own = str(path) == mutant.file
            text = mutant.text if own else path.read_text(encoding="utf-8")
            texts.append((str(path), text))
        found.append((job, result.short, tuple(texts)))
    return tuple(found)


def _goes_by(mutant: Mutant, result: Rehearsed) -> bool:
    """Return whether a rehearsal reached an arm of the rule's item, place or reading.

    What belongs to the recipe as a whole is gone by by all.
    """
    section = mutant.where[:2]
    if len(section) < 2 or section[0] not in ("places", "readings", "items"):
        return True
    mine = {arm.where for arm in result.arms if arm.recipe == mutant.recipe}
    if section[0] == "items" and len(mutant.where) > 3 and mutant.where[2] == "routes":
        section = mutant.where[:4]
        if mutant.mutation.startswith("swapped"):
            section = mutant.where[:2]
    if section[0] == "items":
        return any(where[: len(section)] == section for where in mine)
    return any(where[:2] == section for where in mine)


def _judge(task: tuple[Mutant, _Going]) -> Judged:
    mutant, going = task
    for number, (job, name, texts) in enumerate(going, start=1):
        try:
            result = run_job(replace(job, texts=texts, keep=None))
        except Exception as error:  # a mutant that breaks the walk was noticed, however it did
            return Judged(mutant, f"{name} ({type(error).__name__})", number)
        if not result.passed:
            return Judged(mutant, name, number)
    return Judged(mutant, "", len(going))


# Making them


def mutants_of(loaded: Loaded) -> Iterator[Mutant]:
    """Give every mutant of a recipe that lint does not refuse, in the order of its lines."""
    tree = as_plain(loaded.tree)
    known = {yaml.safe_dump(tree)}
    found = []
    beyond = {(*arm.where, arm.name) for arm in arms_of(loaded) if arm.unreachable}
    for where, mutation, told, missing, changed in _changes(tree):
        text = yaml.safe_dump(changed, allow_unicode=True, sort_keys=False, width=10_000)
        if text in known or any(where[: len(arm)] == arm for arm in beyond):
            continue
        known.add(text)
        accepted, _ = examine(text, loaded.file, KINDS)
        if accepted is not None and accepted.recipe != loaded.recipe:
            mark, _ = mark_at(loaded.tree, where)
            found.append(
                Mutant(loaded.id, loaded.file, mark.line, where, mutation, told, missing, text)
            )
    yield from sorted(found, key=lambda m: (m.line, show_where(m.where), m.mutation))


_Change = tuple[Where, str, str, str, Any]
"""Where, the kind of mutation, what was changed, the rehearsal that is missing, and the whole."""

_NEVER = ("recipe", "revision", "name", "maker", "title", "remedy", "what", "before", "id")
"""Keys whose values are words for people, or say what the document is."""


def _changes(tree: Any) -> Iterator[_Change]:
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
_SETS = ("losses", "take", "leave", "holds", "in", "not", "paths", "lock")
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
    if (holder, key) == ("told_by", "as") or _alone(tree, at):
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
    "leave": "one with something of {value} on old, and files or counts that tell it was left",
    "take": "one with something beside {value} on old",
    "limit": "one where {key} is beyond {value}",
    "needs": "one where {key} alone is not {value}, and another where it is",
    "for": "one where {key} is not {value}",
    "when": "one where {key} is not {value}, so that the loss is none",
    "proof": "one where it is made good, and one where it is not (proved)",
    "losses": "one that expects the losses",
    "checks": "one where {key} differs",
    "paths": "one with a path of old's there, that expects it rewritten",
    "retire": "one whose old is visited after new, with the renamed folder expected",
    "existing": "one with something in its place on new",
    "await": "one where it does not come, and one where it came before",
    "only": "one with something that is left by it, and something that is not",
    "rest": "one with something that only leaves",
    "holds": "one with a folder that does not hold it",
    "pair": "one with another name, or another one in use, on new",
    "told_by": "one where the program tells another place",
    "in_use": "one where the one in use is not the first",
    "releases": "one of a release beyond {value}, that expects the notice",
    "edition": "one of another edition",
    "release": "one of another release",
    "lock": "one with the program open, that waits",
    "recognise": "one on a machine that only this case recognises",
    "screen": "one that expects the same print-out",
    "compare": "one where new has more than old",
    "title": "none: it is words",
    "kind": "one whose settings still name a path of old's, so that it fails",
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
    "same": "at least",
    "at least": "same",
    "first": "last",
    "last": "first",
    "put aside": "overwrite",
    "overwrite": "put aside",
    "alongside": "put aside",
    "pass by": "overwrite",
    "stop": "put aside",
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
