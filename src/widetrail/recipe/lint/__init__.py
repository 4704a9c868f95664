"""What can be said about a recipe as a whole without looking at a machine: the rules of lint.

Other distributions add rules by entry points of the group ``widetrail.lint``, each a ``LintRule``.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping

from widetrail.findings import Finding
from widetrail.formats.added import Added
from widetrail.formats.documents import Where, mark_at
from widetrail.formats.yaml_positions import Map
from widetrail.recipe.lint import items, licences, moves, names, programs, steps
from widetrail.recipe.lint.rule import LintRule, Struck
from widetrail.recipe.lint.whole import Whole
from widetrail.recipe.models import Recipe
from widetrail.recipe.settings import Settings

__all__ = ["RULES", "LintRule", "Struck", "Whole", "excused", "lint"]

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
        "shadowed": LintRule(moves.shadowed),
        "overlaps": LintRule(moves.overlaps),
        "may be open": LintRule(moves.may_be_open),
        "paths left": LintRule(moves.paths_left, of_absence=True),
        "checks elsewhere": LintRule(moves.checks_elsewhere, of_absence=True),
        "secrets left": LintRule(moves.secrets_left, of_absence=True),
        "fixed paths": LintRule(moves.fixed_paths),
        "named accounts": LintRule(moves.named_accounts),
        "unsaid changes": LintRule(moves.unsaid_changes),
        "needless administrator": LintRule(moves.needless_administrator),
        "start-up": LintRule(moves.start_up),
        "one-way licences": LintRule(moves.one_way, of_absence=True),
        "unused": LintRule(names.unused, of_absence=True),
    },
    "widetrail.lint",
    "lint rule",
)
"""The rules of lint by their names."""


def lint(
    recipe: Recipe,
    tree: Map,
    file: str,
    kinds: Mapping[str, type[Settings]],
    stood: Callable[[Where], Where | None] | None = None,
    account: str = "",
) -> Iterator[Finding]:
    """Give the findings of a recipe that is sound in its parts; ``kinds`` are those of steps,
    ``account`` is the name of who wrote it, or nothing.

    Where parts are missing, ``stood`` returns where the others stand in ``tree``, or ``None`` where
    something may come of what is missing.
    """
    whole = Whole(recipe, kinds, account)
    for rule in RULES.values():
        if stood is not None and rule.of_absence:
            continue
        for struck in rule.find(whole):
            where = stood(struck.where) if stood is not None else struck.where
            if where is None:
                continue
            mark, walked = mark_at(tree, where)
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


def excused(recipe: Recipe, tree: Map, file: str, findings: Iterable[Finding]) -> Iterator[Finding]:
    """Give findings but for the warnings that the recipe excuses, and one for each excuse that
    excuses none. An error has no excuse."""
    needed = set[int]()
    for finding in findings:
        reasons = [
            number
            for number, excuse in enumerate(recipe.excuses)
            if finding.severity == "warning" and excuse.holds_for(finding.rule, finding.where)
        ]
        needed |= set(reasons)
        if not reasons:
            yield finding
    for number, excuse in enumerate(recipe.excuses):
        if number not in needed:
            mark, walked = mark_at(tree, ("excuses", number))
            message = f'there is no warning "{excuse.finding}" at {excuse.at} to excuse'
            where = ".".join(walked)
            spot = (file, mark.line, mark.column, "needless-excuse", where)
            yield Finding(*spot, message, "Take the excuse out", "warning")
