"""A finder for each recipe of a plan, those that are used first."""

from __future__ import annotations

from collections.abc import Mapping

from widetrail.finding import Finder, Said, find_application
from widetrail.machine import Machine
from widetrail.recipe import Loaded
from widetrail.recipe.decisions import Decisions


def finders_of(
    machine: Machine,
    recipes: Mapping[str, Loaded],
    pinned: Mapping[str, Mapping[str, str]],
    *,
    ask: bool,
    said: Mapping[str, Said] | None = None,
    decisions: Decisions | None = None,
) -> dict[str, Finder]:
    """Return a finder for each recipe; ``recipes`` has those that are used first.

    ``said`` is what a person said of the places of each here.
    """
    finders: dict[str, Finder] = {}
    for name, loaded in recipes.items():
        finders[name] = find_application(
            machine,
            loaded,
            ask_programs=ask,
            lenders=finders,
            pinned=pinned.get(name),
            decisions=decisions,
            said=(said or {}).get(name),
        )
    return finders


def used_first(recipes: dict[str, Loaded]) -> dict[str, Loaded]:
    """Return the recipes so that each comes after those it uses; a plan has no circle."""
    ordered: dict[str, Loaded] = {}

    def put(loaded: Loaded) -> None:
        for used in sorted(loaded.recipe.relies_on.keys() & recipes.keys()):
            if used not in ordered:
                put(recipes[used])
        ordered[loaded.id] = loaded

    for name in sorted(recipes):
        put(recipes[name])
    return ordered
