"""What was decided by the rules of a recipe: each decision is a value, kept with who decided.

A recipe's rules have branches: a case that was taken, a need that was met or decided alone against
a route, a check that failed. Who goes by a rule keeps which branch it was; a rehearsal's coverage
is computed from what was kept. Nothing is decided by it.
"""

from __future__ import annotations

from dataclasses import field

from widetrail.formats.documents import Model, Where
from widetrail.lazily import dataclass
from widetrail.recipe.loader import Loaded
from widetrail.recipe.releases import parse_release, parse_releases

MET = "met contents"
"""The branch of a route that found something of the item in place on new."""

NONE = "nothing there"
"""The branch of an optional item of which there is nothing on old."""


@dataclass(frozen=True, order=True)
class Decision:
    """One branch that was taken: the recipe's id, where its rule stands, and which branch of it."""

    recipe: str
    where: Where
    branch: str


@dataclass
class Decisions:
    """The decisions of finders, plans and walks that were made with it."""

    taken: set[Decision] = field(default_factory=set)

    def keep(self, loaded: Loaded, rule: Model | None, branch: str) -> None:
        """Keep that ``branch`` of a rule was taken; a rule that no recipe holds is passed by."""
        if rule is not None and rule.stands_at is not None:
            self.taken.add(Decision(loaded.id, rule.stands_at, branch))

    def keep_bounds(
        self, loaded: Loaded, rule: Model | None, fact: str, wanted: str, found: str
    ) -> None:
        """Keep which bounds of a range of releases were met exactly by what was found."""
        for bound in parse_releases(wanted).at(parse_release(found)):
            self.keep(loaded, rule, f"{fact} at {bound}")
