"""Loading recipes: text in, a frozen recipe or findings out."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import replace
from functools import lru_cache
from pathlib import Path

from widetrail.errors import DocumentUnusable
from widetrail.findings import MOST, Finding, capped, errors_of
from widetrail.formats import digest
from widetrail.formats.documents import check, mark_at, read_text
from widetrail.formats.yaml_positions import Map
from widetrail.lazily import dataclass
from widetrail.recipe.addresses import below
from widetrail.recipe.lint import excused, lint
from widetrail.recipe.models import Recipe
from widetrail.recipe.routes import Notation
from widetrail.recipe.settings import Settings
from widetrail.recipe.sound_parts import sound_parts
from widetrail.recipe.upgrading import is_older, upgraded

SUFFIX = ".trail.yaml"

Kinds = Mapping[str, type[Settings]]


@dataclass(frozen=True)
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


def examine(
    text: str, file: str, kinds: Kinds, account: str = ""
) -> tuple[Loaded | None, tuple[Finding, ...]]:
    """Read a recipe from ``text``; return it, unless it has errors, and all findings.

    ``kinds`` are the step kinds with the models of their settings, ``account`` is the name of who
    wrote it, or nothing. Nothing is run or read beyond ``text``. One of an older version of the
    language is read as ``upgraded`` has it.
    """
    if is_older(text):
        loaded, findings = examine(upgraded(text, kinds), file, kinds, account)
        older = Finding(file, 1, 1, "older-language", "recipe", _OLDER, _UPGRADE, "warning")
        findings = (older, *findings)
        if loaded is not None:
            known_by = digest(text.encode())
            loaded = replace(loaded, text=text, digest=known_by, findings=findings)
        return loaded, findings
    recipe, tree, findings = check(Recipe, text, file, Notation(kinds))
    if recipe is None and len(findings) > MOST:
        return None, findings  # nobody reads more of them
    if recipe is None:
        return None, capped([*findings, *_elsewhere(tree, file, kinds, account)])
    findings = tuple(sorted({*findings, *lint(recipe, tree, file, kinds, account=account)}))
    findings = tuple(sorted(excused(recipe, tree, file, findings)))
    if errors_of(findings):
        return None, findings
    for where, value in below(recipe):
        value.tell_where(where)
    return Loaded(file, text, digest(text.encode()), recipe, tree, findings), findings


_OLDER = "it is of an older version of the language, and read as this one has it"
_UPGRADE = "widetrail format --upgrade writes it so"


def _elsewhere(tree: Map, file: str, kinds: Kinds, account: str) -> Iterator[Finding]:
    """Give what lint finds in the sound parts of a broken recipe."""
    sound = sound_parts(tree, lambda: Notation(kinds)) if tree else None
    if sound is not None:
        yield from lint(sound.recipe, tree, file, kinds, sound.stood, account)


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
    loaded = _loaded(text, _Held(kinds))
    if loaded is None:
        raise DocumentUnusable(file, errors_of(examine(text, file, kinds)[1]))
    findings = tuple(replace(finding, file=file) for finding in loaded.findings)
    return replace(loaded, file=file, findings=findings)


class _Held:
    """Step kinds as the key of what was loaded with them: the same ones are the same key."""

    def __init__(self, kinds: Kinds) -> None:
        self.kinds = kinds

    def __hash__(self) -> int:
        return id(self.kinds)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _Held) and other.kinds is self.kinds


@lru_cache(maxsize=64)
def _loaded(text: str, held: _Held) -> Loaded | None:
    """Return a recipe by its text, which a walk loads again at each visit."""
    return examine(text, "", held.kinds)[0]
