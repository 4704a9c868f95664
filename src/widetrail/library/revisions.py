"""Recipes as they change: compared, put right, and brought into one layout."""

from __future__ import annotations

import shutil
import subprocess
from collections.abc import Iterable
from pathlib import Path
from typing import NamedTuple

from widetrail.errors import InputUnusable
from widetrail.formats.documents import read_text, text_of
from widetrail.library.recipes import Where, load_recipe, named
from widetrail.recipe import Loaded, load_recipe_text
from widetrail.recipe.comparing import Difference, compare
from widetrail.recipe.fixing import Fixed
from widetrail.recipe.fixing import fix as fix_one
from widetrail.recipe.layout import formatted
from widetrail.recipe.upgrading import Upgraded, upgraded
from widetrail.steps import KINDS
from widetrail.trust import Permission, more_than_before


class Compared(NamedTuple):
    """What a recipe has otherwise than another, the gravest first, and what it may do that the
    other may not: that is to be consented to anew."""

    differences: list[Difference]
    permissions: tuple[Permission, ...]


def compare_files(old: Where, new: Where) -> Compared:
    """Return what one recipe has otherwise than another.

    Raises:
        InputUnusable: A file cannot be read.
        DocumentUnusable: One of them has findings that are errors.

    Example:
        >>> compare_files("recipes/sporelog.trail.yaml", "recipes/sporelog.trail.yaml")
        Compared(differences=[], permissions=())
    """
    return _compared(load_recipe(old), load_recipe(new))


def compare_with_revision(path: Where, revision: str) -> Compared:
    """Return what a recipe has otherwise than it had in a revision of its Git repository.

    Raises:
        InputUnusable: It cannot be read, or Git does not have it there.
        DocumentUnusable: One of them has findings that are errors.
    """
    recipe = Path(path)
    new = load_recipe(recipe)
    old = load_recipe_text(_in_git(recipe, revision), f"{recipe} ({revision})", KINDS)
    return _compared(old, new)


def _compared(old: Loaded, new: Loaded) -> Compared:
    return Compared(compare(old.tree, new.tree), more_than_before(old, new))


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
    found = (fix_one(read_text(file), str(file), KINDS) for file in named(paths))
    return [one for one in found if one.findings]


def upgrade(paths: Iterable[Where]) -> list[Upgraded]:
    """Return each recipe that ``paths`` name as this version of the language has it, where that is
    another text; nothing is written.

    Raises:
        InputUnusable: A file cannot be read.

    Example:
        >>> upgrade(["recipes/sporelog.trail.yaml"])
        []
    """
    texts = ((file, read_text(file)) for file in named(paths))
    found = (Upgraded(str(file), text, upgraded(text, KINDS)) for file, text in texts)
    return [one for one in found if one.before != one.after]


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
    for file in named(paths):
        text = read_text(file)
        found[file] = text, formatted(text, str(file))
    return found
