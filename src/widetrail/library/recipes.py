"""Recipes: loaded and linted; no machine is looked at."""

from __future__ import annotations

import os
import shutil
import subprocess
from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING

from widetrail.errors import InputUnusable
from widetrail.findings import Finding
from widetrail.formats.documents import read_text, text_of
from widetrail.recipe import SUFFIX, Loaded, examine, load_recipe_text
from widetrail.recipe import load_recipe as load_one
from widetrail.recipe.comparing import Difference, compare
from widetrail.recipe.fixing import Fixed
from widetrail.recipe.fixing import fix as fix_one
from widetrail.recipe.layout import formatted
from widetrail.recipe.recipe_files import no_recipe, recipe_files, second_recipe
from widetrail.steps import KINDS

if TYPE_CHECKING:
    pass

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


def compare_files(old: Where, new: Where) -> list[Difference]:
    """Return what one recipe has otherwise than another, the gravest first.

    Raises:
        InputUnusable: A file cannot be read.
        DocumentUnusable: One of them has findings that are errors.

    Example:
        >>> compare_files("recipes/sporelog.trail.yaml", "recipes/sporelog.trail.yaml")
        []
    """
    return compare(load_recipe(old).tree, load_recipe(new).tree)


def compare_with_revision(path: Where, revision: str) -> list[Difference]:
    """Return what a recipe has otherwise than it had in a revision of its Git repository.

    Raises:
        InputUnusable: It cannot be read, or Git does not have it there.
        DocumentUnusable: One of them has findings that are errors.
    """
    recipe = Path(path)
    new = load_recipe(recipe)
    old = load_recipe_text(_in_git(recipe, revision), f"{recipe} ({revision})", KINDS)
    return compare(old.tree, new.tree)


def _in_git(path: Path, revision: str) -> str:
    """Return a file as it is in a revision."""
    git = shutil.which("git")
    if git is None or revision.startswith("-"):
        what = "git is not installed" if git is None else "is no revision"
        raise InputUnusable(what, where=revision)
    command = [git, "-C", str(path.parent), "show", f"{revision}:./{path.name}"]
    done = subprocess.run(command, capture_output=True, timeout=60, check=False)
    if done.returncode:
        why = (done.stderr.decode("utf-8", "replace").splitlines() or [""])[0]
        raise InputUnusable("is not in that revision", where=str(path), why=why)
    return text_of(done.stdout, str(path))


def fix(paths: Iterable[Where]) -> list[Fixed]:
    """Return each recipe that ``paths`` name with what is certain put right, where anything is;
    nothing is written.

    Raises:
        InputUnusable: A file cannot be read.

    Example:
        >>> fix(["recipes/sporelog.trail.yaml"])
        []
    """
    found = (fix_one(read_text(file), str(file), KINDS) for file in _named(paths))
    return [one for one in found if one.findings]


def laid_out(paths: Iterable[Where]) -> dict[Path, tuple[str, str]]:
    """Return the text of each recipe that ``paths`` name, as it is and in the one layout; nothing
    is written.

    Raises:
        InputUnusable: A file cannot be read, or is not laid out: it is no YAML, or its notation is
            none that has a layout.

    Example:
        >>> before, after = laid_out(["recipes/huemoss.trail.yaml"]).popitem()[1]
        >>> after.startswith("recipe: 1\\nrevision: 2\\napplication:")
        True
    """
    found = {}
    for file in _named(paths):
        text = read_text(file)
        found[file] = text, formatted(text, str(file))
    return found


def lint(paths: Iterable[Where], *, account: str = "") -> dict[Path, tuple[Finding, ...]]:
    """Return the findings of each recipe that ``paths`` name; no machine is looked at.

    ``account`` is the name of who wrote them, which is to stand in no path.
    A file without findings has an empty tuple; lines and columns count from 1.

    Raises:
        InputUnusable: A file cannot be read.

    Example:
        >>> lint(["recipes/sporelog.trail.yaml"])
        {PosixPath('recipes/sporelog.trail.yaml'): ()}
    """
    return {file: examine(read_text(file), str(file), KINDS, account)[1] for file in _named(paths)}


def _named(paths: Iterable[Where]) -> list[Path]:
    named = [Path(path) for path in paths]
    return [f for p in named for f in (sorted(p.glob(f"*{SUFFIX}")) if p.is_dir() else [p])]
