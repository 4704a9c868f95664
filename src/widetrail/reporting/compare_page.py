"""The page of a comparison of recipes."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path

from widetrail.recipe.comparing import WEIGHTS, Difference, Weight
from widetrail.reporting.html import make_page
from widetrail.reporting.sheet_page import may_do, on_which
from widetrail.trust import COMPUTERS, Permission

TITLES: Mapping[Weight, str] = {
    "safety": "For safety",
    "person": "For the person",
    "else": "Else",
}


def in_groups(found: Sequence[Difference]) -> list[tuple[str, list[Difference]]]:
    """Return differences by what they weigh, the gravest first, each group with its title."""
    groups = [(TITLES[w], [one for one in found if one.weight == w]) for w in WEIGHTS]
    return [(title, mine) for title, mine in groups if mine]


def render_comparison(
    told: Mapping[Path, Sequence[Difference]], more: Mapping[Path, Sequence[Permission]]
) -> str:
    """Return the page of what revisions of recipes have otherwise, and what they may do more."""
    recipes = [
        {
            "path": str(path),
            "count": len(found),
            "groups": in_groups(found),
            "more": may_do(more.get(path, ())),
        }
        for path, found in told.items()
    ]
    return make_page(
        "compare.html", "Recipes compared", recipes=recipes, computers=COMPUTERS, on_which=on_which
    )
