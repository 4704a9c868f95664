"""The recipes of a plan in the order in which they use each other, each on both machines."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from widetrail.errors import Halted, Obstructed
from widetrail.finding import (
    CardFacts,
    Finder,
    Known,
    Said,
    find_application,
    why_not_here,
)
from widetrail.machine import Machine
from widetrail.machine.path_notation import variables_of_paths
from widetrail.planning.draft import Draft, RecipeSides
from widetrail.planning.plan import (
    PlannedRecipe,
    PlannedStation,
    RejectedRoute,
)
from widetrail.planning.station_facts import CardSide, LaterSide, New, SeenSide
from widetrail.recipe import Loaded, Station
from widetrail.recipe.decisions import Decisions
from widetrail.recipe.releases import parse_releases
from widetrail.recipe.templates import ROOTS


def in_order_of_use(recipes: Sequence[Loaded], draft: Draft) -> list[Loaded]:
    """Return the recipes so that each comes after those it uses, ties by their ids."""
    by_id = {loaded.id: loaded for loaded in sorted(recipes, key=lambda r: r.id)}
    for loaded in by_id.values():
        for used in loaded.recipe.relies_on:
            if used not in by_id:
                where = loaded.spot("relies_on", used)
                todo = f"Specify the recipe for {used} too."
                what = f"{loaded.id} relies on {used}, and its recipe was not found"
                draft.obstacles.append(Halted(what, where=where, todo=todo, codes=["relies_on"]))
    ordered: list[Loaded] = []
    while len(ordered) < len(by_id):
        done = {loaded.id for loaded in ordered}
        ready = [
            loaded
            for loaded in by_id.values()
            if loaded.id not in done and not (loaded.recipe.relies_on.keys() & by_id.keys() - done)
        ]
        if not ready:
            circle = ", ".join(sorted(by_id.keys() - done))
            why = "each waits for another of them"
            todo = "Remove one of the dependencies."
            raise Obstructed(
                "the plan cannot be made",
                [
                    Halted(
                        f"{circle} depend on each other in a circle",
                        why=why,
                        todo=todo,
                        codes=["circle"],
                    )
                ],
            )
        ordered.extend(ready)
    return ordered


def unmet_uses(side: RecipeSides, by_id: Mapping[str, RecipeSides]) -> tuple[RejectedRoute, ...]:
    """Return why a recipe's items cannot go: a recipe it uses is not on new in its range."""
    unmet = []
    for used, wanted in side.loaded.recipe.relies_on.items():
        host = by_id.get(used)
        if host is None or host.new.installed is None:
            continue
        release, recipe = host.new.release, side.loaded.recipe
        side.finder.decide_bounds(recipe, f"relies on {used}", wanted, str(release or ""))
        if not host.new.installed or release is None or release not in parse_releases(wanted):
            found = str(release or "unknown") if host.new.installed else "not there"
            reason = f"{used} on the new computer must be {wanted}, but is {found}"
            side.finder.decide(recipe, f"relies on {used} unmet")
            unmet.append(
                RejectedRoute(
                    route=f"with {used}", code="need", reason=reason, facts=("relies_on",)
                )
            )
    return tuple(unmet)


def sides_of(
    loaded: Loaded,
    old: Machine,
    new: New,
    before: Sequence[RecipeSides],
    said: tuple[Said, Said],
    *,
    ask: bool,
    decisions: Decisions | None = None,
) -> RecipeSides:
    """Return a recipe with both sides; ``said`` is what a person said of the places of each."""

    def find(machine: Machine, lenders: Mapping[str, Finder], told: Said) -> Finder:
        return find_application(
            machine,
            loaded,
            ask_programs=ask,
            lenders=lenders,
            decisions=decisions,
            said=told,
        )

    finder = find(old, {side.loaded.id: side.finder for side in before}, said[0])
    if new is None:
        return RecipeSides(loaded, finder, SeenSide(finder), LaterSide())
    if isinstance(new, CardFacts):
        return RecipeSides(loaded, finder, SeenSide(finder), CardSide(new, loaded, said[1]))
    seen = {s.loaded.id: s.new.finder for s in before if isinstance(s.new, SeenSide)}
    return RecipeSides(loaded, finder, SeenSide(finder), SeenSide(find(new, seen, said[1])))


def planned_recipe(side: RecipeSides) -> PlannedRecipe:
    loaded = side.loaded
    application = loaded.recipe.application
    told = {name: side.old.fact(name) for name in ("release", "edition")}
    return PlannedRecipe(
        id=loaded.id,
        old={name: str(fact.value) for name, fact in told.items() if isinstance(fact, Known)},
        places=side.finder.pinnable(),
        at=dict(side.new.said.at),
        real=dict(side.finder.by_person.real),
        name=application.name,
        revision=loaded.recipe.revision,
        digest=loaded.digest,
    )


def seen_station(station: Station, machine: Machine) -> PlannedStation:
    old = station == "old"
    return PlannedStation(
        station=station,
        machine=machine.name,
        identity=machine.identity,
        facts=dict(machine.facts()),
        roots={name: machine.root(name) for name in sorted(ROOTS)} if old else {},
        variables=variables_of_paths(machine) if old else {},
    )


def station_of_new(new: New) -> PlannedStation:
    if new is None:
        return PlannedStation(
            station="new", machine=LaterSide.machine, identity="", facts={}, source="assumed"
        )
    if isinstance(new, CardFacts):
        facts = {"platform": new.platform, "system": new.system, "user": new.user}
        return PlannedStation(
            station="new",
            machine=new.machine,
            identity=new.identity,
            facts=facts,
            source="card",
        )
    return seen_station("new", new)


def not_here(side: RecipeSides) -> str:
    name = side.loaded.recipe.application.name
    missing = "; ".join(why_not_here(side.finder))
    return f"{name} is not on {side.old.machine}, so there is nothing to move of it ({missing})"


def beyond_checked_releases(side: RecipeSides) -> list[str]:
    application = side.loaded.recipe.application
    if application.releases is None:
        return []
    notices = []
    for one in (side.old, side.new):
        if not one.installed:
            continue
        where = f"{application.name} on {one.machine}"
        checked = f"the recipe was checked for {application.releases}"
        if one.release is None:
            notices.append(f"{where}: its version could not be read; {checked}")
            continue
        side.finder.decide_bounds(application, "releases", application.releases, str(one.release))
        if one.release not in parse_releases(application.releases):
            notices.append(f"{where} is {one.release}; {checked}")
    return notices
