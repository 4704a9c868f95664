"""Loading recipes: text in, a frozen recipe or findings out."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from widetrail.errors import DocumentUnusable
from widetrail.findings import Finding, errors_of
from widetrail.formats.canonical import digest
from widetrail.formats.checked import Model, check, mark_at, read_text
from widetrail.formats.marked import Map
from widetrail.recipe.lint import lint
from widetrail.recipe.models import Notation, Recipe

SUFFIX = ".trail.yaml"

Kinds = Mapping[str, type[Model]]


@dataclass(frozen=True, slots=True)
class Loaded:
    """A recipe with its source: the file's name, its text and the SHA-256 of its bytes."""

    file: str
    text: str
    digest: str
    recipe: Recipe
    tree: Map
    findings: tuple[Finding, ...]

    @property
    def id(self) -> str:
        """The application's id."""
        return self.recipe.application.id

    def spot(self, *where: str | int) -> str:
        """Return ``file:line:column`` of the nearest key to ``where``."""
        mark, _ = mark_at(self.tree, where)
        return f"{self.file}:{mark.line}:{mark.column}"


def examine(text: str, file: str, kinds: Kinds) -> tuple[Loaded | None, tuple[Finding, ...]]:
    """Read a recipe from ``text``; return it, unless it has errors, and all findings.

    ``kinds`` are the step kinds with the models of their settings. Nothing is run or read
    beyond ``text``.
    """
    recipe, tree, findings = check(Recipe, text, file, Notation(kinds))
    if recipe is None:
        return None, findings
    findings = tuple(sorted({*findings, *lint(recipe, tree, file)}))
    if errors_of(findings):
        return None, findings
    return Loaded(file, text, digest(text.encode()), recipe, tree, findings), findings


def load_recipe(path: Path, kinds: Kinds) -> Loaded:
    """Load the recipe at ``path``.

    Raises:
        InputUnusable: The file cannot be read as text.
        DocumentUnusable: The recipe has findings that are errors.
    """
    return load_recipe_text(read_text(path), str(path), kinds)


def load_recipe_text(text: str, file: str, kinds: Kinds) -> Loaded:
    """Load a recipe from its text; ``file`` is the name findings carry.

    Raises:
        DocumentUnusable: The recipe has findings that are errors.
    """
    loaded, findings = examine(text, file, kinds)
    if loaded is None:
        raise DocumentUnusable(file, errors_of(findings))
    return loaded
