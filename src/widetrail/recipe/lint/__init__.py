"""What can be said about a recipe as a whole without looking at a machine: the rules of lint.

Other distributions add rules by entry points of the group ``widetrail.lint``, each a ``LintRule``.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from widetrail.findings import Finding
from widetrail.formats.added import Added
from widetrail.formats.documents import mark_at
from widetrail.formats.yaml_positions import Map
from widetrail.recipe.lint import items, licences, names, programs, steps
from widetrail.recipe.lint.rule import LintRule, Struck
from widetrail.recipe.lint.whole import Whole
from widetrail.recipe.models import Recipe
from widetrail.recipe.settings import Settings

__all__ = ["RULES", "LintRule", "Struck", "Whole", "lint"]

RULES: Mapping[str, LintRule] = Added(
    LintRule,
    {
        "braces": LintRule(names.known_braces),
        "names": LintRule(names.free_names),
        "circles": LintRule(names.circles),
        "checks": LintRule(items.checks),
        "stores": LintRule(items.stores),
        "placeless": LintRule(items.placeless),
        "programs": LintRule(programs.programs),
        "steps": LintRule(steps.steps),
        "licences": LintRule(licences.licences),
        "routes": LintRule(items.routes),
        "asked": LintRule(items.asked),
        "secrets": LintRule(items.secrets),
        "unused": LintRule(names.unused),
    },
    "widetrail.lint",
    "lint rule",
)
"""The rules of lint by their names."""


def lint(
    recipe: Recipe, tree: Map, file: str, kinds: Mapping[str, type[Settings]]
) -> Iterator[Finding]:
    """Give the findings of a recipe that is sound in its parts; ``kinds`` are those of steps."""
    whole = Whole(recipe, kinds)
    for rule in RULES.values():
        for struck in rule.find(whole):
            mark, walked = mark_at(tree, struck.where)
            yield Finding(
                file,
                mark.line,
                mark.column,
                struck.code,
                ".".join(walked),
                struck.message,
                struck.hint,
                struck.severity,
            )
