"""Recipes: loaded and linted; no machine is looked at."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Iterator, Mapping
from pathlib import Path

from widetrail.errors import DocumentUnusable
from widetrail.findings import Finding, capped
from widetrail.formats.documents import read_text
from widetrail.recipe import SUFFIX, Loaded, examine
from widetrail.recipe import load_recipe as load_one
from widetrail.recipe.recipe_files import no_recipe, recipe_files, second_recipe
from widetrail.steps import KINDS

Where = str | os.PathLike[str]
"""A path of this computer, as Python's own calls take one."""


def load_recipe(path: Where) -> Loaded:
    """Load one recipe.

    Raises:
        InputUnusable: The file cannot be read.
        DocumentUnusable: It has findings that are errors.

    Example:
        >>> load_recipe("recipes/sporelog.trail.yaml").id
        'sporelog'
    """
    return load_one(Path(path), KINDS)


def load_recipes(paths: Iterable[Where]) -> list[Loaded]:
    """Load each recipe that ``paths`` name: files, and folders with the recipes in them.

    Raises:
        InputUnusable: One cannot be read, or two are for one application.
        DocumentUnusable: One has findings that are errors.

    Example:
        >>> [recipe.id for recipe in load_recipes(["recipes/sporelog.trail.yaml"])]
        ['sporelog']
    """
    named = [Path(path) for path in paths]
    recipes: dict[str, Loaded] = {}
    for file, _ in recipe_files(named):
        loaded = load_recipe(file)
        if loaded.id in recipes:
            raise second_recipe(loaded.id, loaded.file, recipes[loaded.id].file)
        recipes[loaded.id] = loaded
    if not recipes:
        raise no_recipe(named)
    return list(recipes.values())


def lint(
    paths: Iterable[Where], *, account: str = "", policy: Where | None = None
) -> dict[Path, tuple[Finding, ...]]:
    """Return the findings of each recipe that ``paths`` name; no machine is looked at.

    ``account`` is the name of who wrote them, which is to stand in no path. What a ``policy`` does
    not allow is found too.
    A file without findings has an empty tuple; lines and columns count from 1.

    Raises:
        InputUnusable: A file cannot be read.
        DocumentUnusable: The policy has findings.

    Example:
        >>> lint(["recipes/sporelog.trail.yaml"])
        {PosixPath('recipes/sporelog.trail.yaml'): ()}
    """
    against = None if policy is None else _against(Path(policy))
    found = {}
    for file in named(paths):
        loaded, findings = examine(read_text(file), str(file), KINDS, account)
        if against is not None and loaded is not None:
            findings = capped((*findings, *against(loaded)))
        found[file] = findings
    return found


def insist_allowed(policy: Where, recipes: Iterable[Loaded]) -> None:
    """Insist that a policy allows all that recipes may do.

    Raises:
        DocumentUnusable: It does not, or has findings.
        InputUnusable: It cannot be read.
    """
    against = _against(Path(policy))
    for loaded in recipes:
        if found := capped(against(loaded)):
            raise DocumentUnusable(loaded.file, found)


def _against(policy: Path) -> Callable[[Loaded], Iterator[Finding]]:
    """Return what gives the findings of a recipe by a policy."""
    from widetrail.rehearsing.history import open_history, text_known_by  # seldom needed
    from widetrail.trust import findings_of, load_policy

    said = load_policy(policy)
    covered: Mapping[str, int] = {}
    if said.coverage:
        with open_history(policy.parent / said.history) as known:
            covered = known.covered()

    def against(loaded: Loaded) -> Iterator[Finding]:
        reached = covered.get(text_known_by(loaded.text.splitlines()))
        return findings_of(said, str(policy), loaded, reached)

    return against


def named(paths: Iterable[Where]) -> list[Path]:
    """Return the file of each recipe that ``paths`` name: files, and folders with those in them."""
    given = [Path(path) for path in paths]
    return [f for p in given for f in (sorted(p.glob(f"*{SUFFIX}")) if p.is_dir() else [p])]
