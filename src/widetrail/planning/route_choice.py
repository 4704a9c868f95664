"""Choosing the route of an item: the first that applies, and why each earlier one does not."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime

from widetrail.finding import (
    Absent,
    Finder,
    Found,
    Known,
    Several,
    Tally,
    Unknown,
    Where,
    condition_holds,
)
from widetrail.finding.stores import store_kind
from widetrail.lazily import dataclass
from widetrail.planning.needs import Judged, beyond_limit, judge_needs
from widetrail.planning.plan import RejectedRoute
from widetrail.planning.station_facts import Side
from widetrail.recipe import Item, Loss, Route
from widetrail.recipe.conditions import Condition, Needs, SideNeeds
from widetrail.recipe.readings import For
from widetrail.recipe.releases import AS_OLD
from widetrail.recipe.routes import StepRule
from widetrail.recipe.templates import braces
from widetrail.records import Duplicates
from widetrail.steps import RULES, brings_about


@dataclass(frozen=True)
class Case:
    """An item of one recipe as it lies on old, with the sides it goes between."""

    item: Item
    finder: Finder
    old: Side
    new: Side
    place: Found
    new_place: Where
    tally: Tally
    largest: int
    parts: Mapping[str, tuple[str, ...]]
    narrowed: frozenset[str]
    today: datetime
    wanted: str = ""
    """The route that the person chose, if they did."""

    instance: str = ""
    """The program's name for it, where it is one of several."""

    duplicates: Duplicates | None = None
    """What the person chose for records that are there already, if they did."""

    sealed: bool = False
    """Whether the parcel is, without which no secret travels in it."""


@dataclass(frozen=True)
class Chosen:
    """The route taken, with the needs that held and those that are assumed."""

    route: Route
    rejected: tuple[RejectedRoute, ...]
    met: tuple[str, ...]
    assumed: tuple[str, ...]
    parts: Mapping[str, tuple[str, ...]]
    rest: tuple[Loss, ...]


@dataclass(frozen=True)
class NoRoute:
    """No route applies; ``rejected`` says why, one by one."""

    rejected: tuple[RejectedRoute, ...]
    rest: tuple[Loss, ...] = ()


def choose_route(case: Case, skip: frozenset[str] = frozenset()) -> Chosen | NoRoute:
    """Return the first route of the item that applies; ``skip`` leaves routes out by name."""
    passed: list[RejectedRoute] = []
    rest: list[Loss] = []
    routes = [r for r in case.item.routes if r.name not in skip]
    while routes:
        route = routes.pop(0)
        chosen = case.wanted == route.name
        if route.by_choice:
            case.finder.decide(route, "chosen" if chosen else "not chosen")
        if not chosen and (case.wanted or route.by_choice):
            reason = f"{case.wanted} was chosen" if case.wanted else "nobody chose it"
            passed.append(RejectedRoute(route=route.name, code="choice", reason=reason))
            continue
        verdict = _judge(case, route)
        if isinstance(verdict, Chosen):
            return Chosen(
                route,
                tuple(passed),
                verdict.met,
                verdict.assumed,
                verdict.parts,
                (*rest, *verdict.rest),
            )
        passed.append(verdict)
        if verdict.code == "only" and isinstance(route.rest, Loss):
            rest.append(route.rest)
        if verdict.code == "only" and isinstance(route.rest, str):
            routes = [r for r in case.item.routes if r.name == route.rest]
    return NoRoute(tuple(passed), tuple(rest))


def _judge(case: Case, route: Route) -> Chosen | RejectedRoute:
    told = _Telling(case.finder, route)
    if not case.finder.holds(route.for_):
        case.finder.decide(route.for_, "does not hold")
        return not_for(route.name, route.for_, case.old)
    place = case.item.from_
    judged = judge_needs(route.needs, case.old, case.new, place, case.today)
    unmet = [j for j in judged if j.verdict == "unmet"]
    told.needs(judged)
    if unmet:
        return passed_for_needs(route.name, unmet)
    if case.item.kind == "secret" and route.fills_parcel and not case.sealed:
        reason = "it is a secret, and the parcel is not sealed (--seal)"
        return RejectedRoute(route=route.name, code="sealed", reason=reason)
    outside, parts, rest = _narrowed(case, route)
    told.narrowing(case, outside, parts)
    if outside:
        return RejectedRoute(route=route.name, code="only", reason=outside)
    beyond = beyond_limit(route.limit, case.tally.size, case.tally.files, case.largest)
    if beyond:
        told.limit(case)
        return RejectedRoute(route=route.name, code="limit", reason=beyond)
    alone = sorted(part for part in case.narrowed if not route.chooses(part))
    if alone:
        reason = f"it carries all of {', '.join(alone)}, and only some was chosen"
        return RejectedRoute(route=route.name, code="parts", reason=reason)
    if (why := _unplaced(case, route) or _unmergeable(case, route)) is not None:
        return why
    told.taken()
    said = route.needs.new.installed if route.needs.new is not None else None
    met = tuple(
        str(j) for j in judged if j.verdict == "met" and (j.fact != "installed" or said is not None)
    )
    assumed = tuple(str(j) for j in judged if j.verdict == "assumed")
    return Chosen(route, (), met, assumed, parts, rest)


@dataclass(frozen=True)
class _Telling:
    """Tells which branches of a route are reached while it is judged."""

    finder: Finder
    route: Route

    def needs(self, judged: Sequence[Judged]) -> None:
        reach_needs(self.finder, self.route.needs, judged)

    def narrowing(self, case: Case, outside: str, parts: Mapping[str, tuple[str, ...]]) -> None:
        some = any(parts.get(name) != case.parts.get(name) for name in self.route.only)
        if self.route.only:
            branch = "leaves all" if outside else "leaves some" if some else "takes all"
            self.finder.decide(self.route, f"only {branch}")

    def limit(self, case: Case) -> None:
        limit, of = self.route.limit, case.tally
        for name, most, found in (
            ("size", limit.size, of.size),
            ("count", limit.count, of.files),
            ("file", limit.file, case.largest),
        ):
            if most is not None and found > most:
                self.finder.decide(limit, f"{name} rejects")

    def taken(self) -> None:
        self.finder.decide(self.route.for_, "holds")
        self.finder.decide(self.route, "taken")


def reach_needs(finder: Finder, needs: Needs, judged: Sequence[Judged]) -> None:
    """Tell which needs were met, and which one alone was not."""
    unmet = [j for j in judged if j.verdict == "unmet"]
    for one in judged:
        side: SideNeeds | None = getattr(needs, one.station, None)
        if one.verdict == "met" and not unmet:
            finder.decide(side, f"{one.fact} met")
        if side is not None and one.fact in ("release", "system"):
            _reach_releases(finder, side, one)
        if unmet == [one]:
            finder.decide(side, f"{one.fact} alone unmet")


def _reach_releases(finder: Finder, side: SideNeeds, one: Judged) -> None:
    wanted = side.release if one.fact == "release" else side.system
    if wanted == "same or later" and one.verdict == "met":
        finder.decide(side, f"release {'same' if one.wanted.split()[0] == one.found else 'later'}")
    elif wanted is not None and wanted not in AS_OLD:
        finder.decide_bounds(side, one.fact, wanted, one.found)


def passed_for_needs(route: str, unmet: Sequence[Judged]) -> RejectedRoute:
    """Return that a route is passed over for needs that are not met."""
    facts = tuple(dict.fromkeys(j.fact for j in unmet))
    return RejectedRoute(route=route, code="need", reason="; ".join(map(str, unmet)), facts=facts)


def not_for(route: str, case: For | None, old: Side) -> RejectedRoute:
    """Return why a route is passed over whose case does not hold on old."""
    wanted = {k: v for k, v in case.model_dump().items() if v is not None} if case else {}
    found = {name: str(old.fact(name)) for name in wanted}
    asked = ", ".join(f"{k} {v}" for k, v in wanted.items())
    here = ", ".join(f"{k} {v}" for k, v in found.items())
    reason = f"it is for {asked}, and the old computer has {here}"
    return RejectedRoute(route=route, code="for", reason=reason)


def _narrowed(
    case: Case, route: Route
) -> tuple[str, Mapping[str, tuple[str, ...]], tuple[Loss, ...]]:
    """Return why ``only`` leaves the whole case out, or the parts and losses that remain."""
    parts = dict(case.parts)
    rest: list[Loss] = []
    for name, conditions in route.only.items():
        if name not in case.item.parts:
            for reading, condition in conditions.items():
                reason = _fails(case, case.finder, reading, condition)
                if reason:
                    return f"it carries only what is {reading} {condition}, and {reason}", {}, ()
            continue
        kept, left = _split(case, name, parts.get(name, ()), conditions)
        if not kept and parts.get(name):
            return f"no {name} is {_shown(conditions)}", {}, ()
        parts[name] = kept
        if left and isinstance(route.rest, Loss):
            what = f"{route.rest.what}: {', '.join(left)}"
            rest.append(route.rest.model_copy(update={"what": what}))
    return "", parts, tuple(rest)


def _shown(conditions: Mapping[str, Condition]) -> str:
    return " and ".join(f"{name} {condition}" for name, condition in conditions.items())


def _split(
    case: Case, part: str, values: tuple[str, ...], conditions: Mapping[str, Condition]
) -> tuple[tuple[str, ...], tuple[str, ...]]:
    kept = tuple(
        value
        for value in values
        if not any(
            _fails(case, case.finder.with_parts({part: value}), reading, condition)
            for reading, condition in conditions.items()
        )
    )
    return kept, tuple(value for value in values if value not in kept)


def _fails(case: Case, finder: Finder, reading: str, condition: Condition) -> str:
    answer = finder.reading(reading)
    if isinstance(answer, Unknown):
        return f"its {reading} is {answer}"
    assert isinstance(answer, Known)
    holds = condition_holds(condition, answer.value, None, case.today)
    return "" if holds else f"its {reading} is {answer}"


def _unplaced(case: Case, route: Route) -> RejectedRoute | None:
    """Return why a route has no place on new to which it can bring an item."""
    where = case.new_place
    if isinstance(where, Found | Absent) and copies(route):
        one, other = (store_kind(case.item, w.path, w.kind) for w in (case.place, where))
        if one != other:
            kinds = " to ".join(k or "files" for k in (one, other))
            reason = f"values are not transferred from {kinds}"
            return RejectedRoute(route=route.name, code="place", reason=reason)
    made = any(brings_about(step.kind) for step in steps_on_new(route))
    named = bool(case.instance) and names_place(route, case.item.from_) and not made
    placed = isinstance(where, Found | Absent) or case.new.source == "assumed"
    if (copies(route) or named) and not placed:
        reason = f"there is no place for it on the new computer: {where}"
        return RejectedRoute(route=route.name, code="place", reason=reason)
    return None


def _unmergeable(case: Case, route: Route) -> RejectedRoute | None:
    """Return why a route cannot bring an item together with what is on new, as far as it says."""
    if route.beside and (why := _called_so(case)):
        case.finder.decide(route, "name taken")
        return RejectedRoute(route=route.name, code="place", reason=why)
    word = case.duplicates or next(iter(route.duplicates), None)
    if not route.duplicates or word is None:
        return None
    if word not in route.duplicates:
        reason = f"its program cannot {word} existing records, but {', '.join(route.duplicates)}"
        return RejectedRoute(route=route.name, code="choice", reason=reason)
    case.finder.decide(route, f"duplicates {word}")
    return None


def _called_so(case: Case) -> str:
    """Return which one of several on new has the name of the one that would come beside it."""
    there = case.new.place(case.item.from_)
    listed = there.instances if isinstance(there, Several) else ()
    named = [one.name for one in listed if one.name.casefold() == case.instance.casefold()]
    return f"new has one that is called {named[0]}" if named else ""


def names_place(route: Route, place: str) -> bool:
    """Return whether a step on new names an item's place."""
    rules = [step.rule for step in steps_on_new(route)]
    texts = (text.text for rule in rules for text in rule.templates())
    named = {b.name.partition(".")[0] for text in texts for b in braces(text)}
    return place in named or any(name == place for rule in rules for _, name in rule.places())


def steps_on_new(route: Route) -> list[StepRule]:
    """Return what a route does on new."""
    return [step for leg in route.legs for step in leg.steps if leg.station == "new"]


def copies(route: Route) -> bool:
    """Return whether a route copies files to the item's place."""
    return any(RULES[step.kind].carries for leg in route.legs for step in leg.steps)
