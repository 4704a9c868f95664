"""What rehearsals reach of a recipe: every branch of its rules, and the rehearsals that got there.

The branches are what can come out one way or another: a case that is taken, a need that is met and
that alone decides against a route, a release that is exactly a bound, a route that arrives and one
that fails, something in its place on new, a check, proof or wait that fails. Some the recipe rules
out; others have a reason in ``<recipe>.unproved.yaml``.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace
from functools import cached_property
from pathlib import Path

from widetrail.errors import DocumentUnusable
from widetrail.findings import Finding, errors_of
from widetrail.formats.documents import Model, Where, check, mark_at, read_text
from widetrail.lazily import dataclass
from widetrail.machine.platforms import PLATFORMS
from widetrail.planning.route_choice import copies
from widetrail.recipe import Item, Loaded, Route
from widetrail.recipe.addresses import below
from widetrail.recipe.by_platform import PerPlatform
from widetrail.recipe.conditions import Needs, SideNeeds
from widetrail.recipe.decisions import MET, NONE
from widetrail.recipe.licence_models import Licence, LicenceRoute
from widetrail.recipe.places import Place, Recognition
from widetrail.recipe.releases import AS_OLD, parse_releases
from widetrail.recipe.routes import StepRule
from widetrail.rehearsing.rehearsed import Rehearsed

UNPROVED = ".unproved.yaml"


@dataclass(frozen=True, order=True)
class Branch:
    """One branch: the line of the recipe it is on (from 1), where its rule stands, and what it is.

    ``unreachable`` says why nothing can reach it; ``unproved`` why it is not, as is written down.
    """

    line: int
    where: Where
    name: str
    unreachable: str = ""
    unproved: str = ""

    @property
    def words(self) -> str:
        """The branch in words, with where it is."""
        where = show_where(self.where)
        return f"{where}: {self.name}" if where else self.name


@dataclass(frozen=True)
class Coverage:
    """A recipe's branches with the rehearsals that reached each, by their names."""

    recipe: str
    file: str
    lines: tuple[str, ...]
    branches: tuple[Branch, ...]
    rehearsals: tuple[str, ...]
    reached: dict[Branch, tuple[str, ...]]
    findings: tuple[Finding, ...] = ()

    @cached_property
    def wanted(self) -> tuple[Branch, ...]:
        """The branches that count: those that can be reached and are not explained."""
        return tuple(
            branch for branch in self.branches if not branch.unreachable and not branch.unproved
        )

    @cached_property
    def missing(self) -> tuple[Branch, ...]:
        """The branches that count and that no rehearsal reached."""
        return tuple(branch for branch in self.wanted if not self.reached.get(branch))

    @property
    def ruled_out(self) -> int:
        """How many branches the recipe itself rules out."""
        return sum(bool(branch.unreachable) for branch in self.branches)

    @property
    def explained(self) -> int:
        """How many branches have a reason written down for not being reached."""
        return sum(bool(branch.unproved and not branch.unreachable) for branch in self.branches)

    @property
    def percent(self) -> float:
        """Of a hundred branches that count, how many were reached."""
        if not self.wanted:
            return 100.0
        return 100.0 * (len(self.wanted) - len(self.missing)) / len(self.wanted)


class Explained(Model):
    """A branch that is not reached, or a mutant that survives, and why that is no fault.

    ``at`` is where its rule stands, as coverage has it; ``branch`` or ``mutation`` which one it is.
    """

    at: str
    branch: str = ""
    mutation: str = ""
    why: str


class UnprovedFile(Model):
    """What is known not to be proved of a recipe."""

    unproved: tuple[Explained, ...]


def load_unproved(recipe: Path) -> tuple[Explained, ...]:
    """Return what is known not to be proved of the recipe at ``recipe``: nothing without a file.

    Raises:
        InputUnusable: The file cannot be read.
        DocumentUnusable: It has findings.
    """
    path = recipe.with_name(f"{recipe.name.partition('.')[0]}{UNPROVED}")
    if not path.is_file():
        return ()
    value, _, findings = check(UnprovedFile, read_text(path), str(path))
    if value is None:
        raise DocumentUnusable(str(path), errors_of(findings))
    return value.unproved


def show_where(where: Sequence[str | int]) -> str:
    """Return where a rule stands, as people read it: ``items.mailbox.routes[export].limit``."""
    text = ""
    for part in where:
        if isinstance(part, int):
            text += f"[{part + 1}]"
        else:
            text += f".{part}" if text else part
    return text


def coverage_of(
    loaded: Loaded, results: Iterable[Rehearsed], explained: Sequence[Explained] = ()
) -> Coverage:
    """Return what ``results`` reached of a recipe; ``explained`` is what needs not be reached."""
    results = [r for r in results if loaded.id in r.recipes]
    reached: dict[tuple[Where, str], list[str]] = {}
    for result in results:
        for one in result.branches:
            if one.recipe == loaded.id:
                reached.setdefault((one.where, one.branch), []).append(result.short)
    whys = {(e.at, e.branch): e.why for e in explained if e.branch}
    by_branch: dict[Branch, tuple[str, ...]] = {}
    for branch in branches_of(loaded):
        named = show_where(branch.where), branch.name
        by = reached.get((branch.where, branch.name), [])
        if named in whys and not by:
            branch = replace(branch, unproved=whys.pop(named))
        by_branch[branch] = tuple(sorted(by))
    known = {(show_where(a.where), a.name) for a in by_branch}
    findings = []
    for (at, name), why in whys.items():
        told = "it is reached" if (at, name) in known else "the recipe does not have this branch"
        message = f'"{at}: {name}" needs no reason ({why}): {told}'
        findings.append(Finding(loaded.file, 1, 1, "unproved", at, message))
    names = tuple(dict.fromkeys(result.short for result in results))
    return Coverage(
        loaded.id,
        loaded.file,
        tuple(loaded.text.splitlines()),
        tuple(by_branch),
        names,
        by_branch,
        tuple(findings),
    )


def branches_of(loaded: Loaded) -> tuple[Branch, ...]:
    """Return every branch of a recipe, by its lines."""
    return tuple(sorted(_Arms(loaded).all()))


class _Arms:
    """Lists the branches of one recipe."""

    def __init__(self, loaded: Loaded) -> None:
        self._loaded, self._recipe = loaded, loaded.recipe
        self._platforms = self._recognised()

    def _recognised(self) -> frozenset[str]:
        """Return the platforms on which the application can be recognised."""
        found: set[str] = set()
        for case in self._recipe.recognise:
            found |= self._of_case(case)
        return frozenset(found)

    def _of_case(self, case: Recognition) -> frozenset[str]:
        own = case.for_.platform if case.for_ is not None else None
        if own is not None:
            return frozenset([own])
        if case.sign.registry is not None:
            return frozenset(p for p, rules in PLATFORMS.items() if "registry" in rules.stores)
        return frozenset(p for p in PLATFORMS if _says(case.sign.where or "", p))

    def all(self) -> Iterator[Branch]:
        """Give every branch."""
        recipe = self._recipe
        for case in recipe.recognise:
            yield self._branch(case, "taken")
            yield from self._maps(case, self._of_case(case))
            yield from self._bounds(case.for_)
        application = recipe.application
        yield from self._ranged(application, "releases", application.releases)
        yield from self._maps(application, self._platforms)
        for used, wanted in recipe.relies_on.items():
            yield from self._ranged(recipe, f"relies on {used}", wanted, ("relies_on", used))
            yield self._branch(recipe, f"relies on {used} unmet", key=("relies_on", used))
        for places in recipe.places.values():
            yield from self._cases(places)
        for readings in recipe.readings.values():
            yield from self._cases(readings)
        for item in recipe.items.values():
            yield from self._item(item)
        for licence in recipe.licences.values():
            yield from self._licence(licence)

    def _branch(self, rule: Model, name: str, unreachable: str = "", key: Where = ()) -> Branch:
        where = rule.stands_at or ()
        mark, _ = mark_at(self._loaded.tree, (*where, *key))
        return Branch(mark.line, where, name, unreachable)

    # Platforms

    def _maps(self, rule: Model, platforms: frozenset[str]) -> Iterator[Branch]:
        """Give the branches of the platform maps below a rule, of which some come there."""
        for _, value in below(rule):
            if isinstance(value, PerPlatform):
                named = [p for p in sorted(PLATFORMS) if value.of(p) is not None]
                for name in named:
                    why = "" if name in platforms else "the application is not recognised there"
                    yield self._branch(value, name, why, (name,))
                if value.otherwise is not None:
                    why = "" if platforms - set(named) else "no other platform is recognised"
                    yield self._branch(value, "else", why, ("else",))

    def _cases(self, cases: Sequence[Model]) -> Iterator[Branch]:
        """Give the branches of a place's or reading's cases; one takes platforms from the next."""
        left = self._platforms
        for case in cases:
            condition = getattr(case, "for_", None)
            own = condition.platform if condition is not None else None
            here = left & {own} if own is not None else left
            why = "" if here else "no platform is left for it"
            yield self._branch(case, "taken", why)
            yield from self._maps(case, here)
            yield from self._bounds(condition, why)
            if isinstance(case, Place):
                yield from self._place(case, why)
            others = {"system", "release", "edition"}
            if condition is None or not any(getattr(condition, name) for name in others):
                left -= here

    def _place(self, place: Place, why: str) -> Iterator[Branch]:
        if place.set_in is not None:
            yield self._branch(place.set_in, "found", why)
            yield self._branch(place.set_in, "is not set", why)
        if place.first_of:
            for number in range(len(place.first_of)):
                key: Where = ("first_of", number)
                yield self._branch(place, f"first_of {number + 1}", why, key)
            if place.follows is None:
                yield self._branch(place, "first_of none", why, ("else",))
        if place.plural:
            yield self._branch(place, "several", why)
            if place.contains:
                yield self._branch(place, "skips", why, ("contains",))
            if place.in_use is not None:
                yield self._branch(place.in_use, "read", why)
            for by in place.pair:
                yield self._branch(place, f"paired by {by}", why, ("pair",))

    # Releases

    def _bounds(self, condition: Model | None, why: str = "") -> Iterator[Branch]:
        for fact in ("release", "system") if condition is not None else ():
            yield from self._ranged(condition, fact, getattr(condition, fact), (fact,), why)

    def _ranged(
        self, rule: Model | None, fact: str, wanted: str | None, key: Where = (), why: str = ""
    ) -> Iterator[Branch]:
        if rule is None or wanted is None:
            return
        for _, bound in parse_releases(wanted).terms:
            yield self._branch(rule, f"{fact} at {bound.text}", why, key or (fact,))

    # Items

    def _item(self, item: Item) -> Iterator[Branch]:
        yield from self._maps(item, self._platforms)
        if item.optional:
            yield self._branch(item, NONE)
        for name, rule in item.checks.items():
            for verdict in ("holds", "differs"):
                yield self._branch(rule, verdict, key=(name,))
        for loss in item.losses:
            yield from self._loss(loss)
        for route in item.routes:
            yield from self._route(route)
            if copies(route):
                yield self._branch(route, MET)

    def _licence(self, licence: Licence) -> Iterator[Branch]:
        for word in ("active", "not", "unknown"):
            yield self._branch(licence.active, word)
        for loss in licence.losses:
            yield from self._loss(loss)
        for route in licence.routes:
            yield from self._route(route)

    def _loss(self, loss: Model) -> Iterator[Branch]:
        if getattr(loss, "when", None):
            yield self._branch(loss, "is one", key=("when",))
            yield self._branch(loss, "is none", key=("when",))
        if getattr(loss, "proof", None):
            yield self._branch(loss, "made good", key=("proof",))
            yield self._branch(loss, "not made good", key=("proof",))

    def _route(self, route: Route | LicenceRoute) -> Iterator[Branch]:
        yield self._branch(route, "arrived")
        yield self._branch(route, "failed")
        if route.for_ is not None:
            yield self._branch(route.for_, "holds")
            yield self._branch(route.for_, "does not hold")
            yield from self._bounds(route.for_)
        yield from self._needs(route.needs)
        if isinstance(route, Route):
            for name, rule in (route.checks or {}).items():
                for verdict in ("holds", "differs"):
                    yield self._branch(rule, verdict, key=(name,))
            if route.beside:
                yield self._branch(route, "name taken", key=("beside",))
            if len(route.duplicates) > 1:
                yield from (self._branch(route, f"duplicates {one}") for one in route.duplicates)
            if route.by_choice:
                yield self._branch(route, "chosen")
                yield self._branch(route, "not chosen")
            yield from self._narrowing(route)
        for loss in route.losses:
            yield from self._loss(loss)
        for leg in route.legs:
            for step in leg.steps:
                yield from self._step(step)

    def _narrowing(self, route: Route) -> Iterator[Branch]:
        for name in ("size", "count", "file"):
            if getattr(route.limit, name) is not None:
                yield self._branch(route.limit, f"{name} rejects", key=(name,))
        if route.only:
            yield self._branch(route, "only takes all", key=("only",))
            yield self._branch(route, "only leaves all", key=("only",))
        if route.wait:
            yield self._branch(route, "came", key=("await",))
            yield self._branch(route, "did not come", key=("await",))

    def _needs(self, needs: Needs) -> Iterator[Branch]:
        for station in ("old", "new", "between"):
            side: SideNeeds | None = getattr(needs, station)
            for fact in _facts_of(side) if side is not None else ():
                assert side is not None
                why = "what the computer between has is not known before it is walked on"
                why = why if station == "between" else ""
                yield self._branch(side, f"{fact} met", why, (fact,))
                yield self._branch(side, f"{fact} alone unmet", why, (fact,))
                wanted = {"release": side.release, "system": side.system}.get(fact)
                if wanted == "same or later":
                    yield self._branch(side, "release same", why, (fact,))
                    yield self._branch(side, "release later", why, (fact,))
                elif wanted is not None and wanted not in AS_OLD:
                    yield from self._ranged(side, fact, wanted, (fact,), why)

    def _step(self, step: StepRule) -> Iterator[Branch]:
        if step.rule.waits:
            yield self._branch(step.rule, "came")
            yield self._branch(step.rule, "did not come")


def _says(choice: str | PerPlatform, platform: str) -> bool:
    if isinstance(choice, str):
        return True
    return choice.of(platform) is not None or choice.otherwise is not None


def _facts_of(side: SideNeeds) -> list[str]:
    plain = [
        name
        for name in type(side).model_fields
        if name != "readings" and getattr(side, name) is not None
    ]
    return [*plain, *side.readings]
