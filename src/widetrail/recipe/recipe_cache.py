"""Many recipes at hand: their outlines by the digest of their files, kept between runs.

Each file is read each time, and only the outline of the very same bytes is taken from what is kept;
what is kept is the tool's own, made anew where anything about it does not match, and never needed.
"""

from __future__ import annotations

import json
import os
from collections.abc import Iterable, Mapping, Sequence
from contextlib import suppress
from functools import cache
from pathlib import Path
from typing import Any

from widetrail import __version__
from widetrail.errors import DocumentUnusable, WideTrailError
from widetrail.findings import errors_of
from widetrail.formats import digest
from widetrail.formats.documents import read_document, text_of
from widetrail.formats.interface import Platform
from widetrail.lazily import dataclass
from widetrail.machine.kept import keep, read_kept
from widetrail.machine.platforms import PLATFORMS
from widetrail.recipe.loader import Kinds, Loaded, examine, load_recipe_text
from widetrail.recipe.outline import Claim, Outline, OutlinedSign, outline_of
from widetrail.recipe.recipe_files import recipe_files, second_recipe
from widetrail.workers import workers

KEPT = "outlines.json"
"""The file in the cache that keeps outlines."""

MANY = 300
"""Recipes that are read by several processes, where none is kept: fewer are quicker in one."""


@dataclass(frozen=True)
class Shelved:
    """One recipe at hand: its file and its bytes, its application's id and name, and the recipes
    that it uses; ``outlines`` are texts by platform."""

    file: str
    data: bytes
    id: str
    name: str
    uses: tuple[str, ...]
    outlines: Mapping[str, str]

    def outline(self, platform: Platform) -> Outline:
        """Return its outline on a platform."""
        signs, claims = json.loads(self.outlines[platform])
        return Outline(
            tuple(OutlinedSign(*sign) for sign in signs),
            tuple(
                Claim(i, r, b, g, tuple(take), tuple(leave)) for i, r, b, g, take, leave in claims
            ),
        )


class Shelf:
    """The recipes of files and folders.

    ``broken`` are those in folders that cannot be used, ``fresh`` counts the outlines that were
    made now.
    """

    def __init__(self, paths: Iterable[Path], kinds: Kinds, cache: Path | None = None) -> None:
        """Read every recipe that ``paths`` name, and its outline from the folder ``cache``.

        Raises:
            InputUnusable: A file that is named cannot be read, or two are for one application.
            DocumentUnusable: A file that is named has findings that are errors.
        """
        self._kinds, self._kept = kinds, cache / KEPT if cache is not None else None
        self.broken: list[WideTrailError] = []
        kept = read_kept(self._kept, _maker()) if self._kept is not None else {}
        made: dict[str, list[Any]] = {}
        self.recipes: dict[str, Shelved] = {}
        files = [_File(path, is_named) for path, is_named in recipe_files(paths)]
        known = {**kept, **_told_by_many(files, kept, kinds)}
        for file in files:
            try:
                told = known.get(file.name) or _told_of(file.path, file.whole(), kinds)
            except WideTrailError as error:
                if file.is_named:
                    raise
                self.broken.append(error)
                continue
            if file.name not in kept:
                made[file.name] = told
            id, called, uses, outlines = told
            other = self.recipes.get(id)
            if other is not None:
                raise second_recipe(id, str(file.path), other.file)
            shelved = Shelved(str(file.path), file.data, id, called, tuple(uses), outlines)
            self.recipes[id] = shelved
        self.fresh = len(made)
        if made and self._kept is not None:
            keep(self._kept, _maker(), made, {file.name for file in files})

    def load(self, id: str) -> Loaded:
        """Return a recipe in whole, from the bytes that were read.

        Raises:
            DocumentUnusable: It has findings that are errors.
        """
        one = self.recipes[id]
        return load_recipe_text(text_of(one.data, one.file), one.file, self._kinds)


class _File:
    """A file of a recipe with what is in it, and the digest of that; or what is wrong with it."""

    def __init__(self, path: Path, is_named: bool) -> None:
        self.path, self.is_named = path, is_named
        self.data, self.name = b"", ""
        self._error: WideTrailError | None = None
        try:
            self.data = read_document(path)
            self.name = digest(self.data)
        except WideTrailError as error:
            self._error = error

    def whole(self) -> bytes:
        """Return what is in it.

        Raises:
            InputUnusable: It cannot be read.
        """
        if self._error is not None:
            raise self._error
        return self.data


def _told_of(path: Path, data: bytes, kinds: Kinds) -> list[Any]:
    """Return what is kept of a recipe.

    Raises:
        DocumentUnusable: It has findings that are errors.
    """
    loaded, findings = examine(text_of(data, str(path)), str(path), kinds)
    if loaded is None:
        raise DocumentUnusable(str(path), errors_of(findings))
    recipe = loaded.recipe
    outlines = {p: json.dumps(outline_of(recipe, p), separators=(",", ":")) for p in PLATFORMS}
    return [loaded.id, recipe.application.name, list(recipe.relies_on), outlines]


def _told_by_many(
    files: Sequence[_File], kept: Mapping[str, Any], kinds: Kinds
) -> dict[str, list[Any]]:
    """Return by digest what is told of recipes of which nothing is kept, where they are many; none
    of those that have errors, which are told where one alone is read."""
    new = {f.name: (str(f.path), f.data, kinds) for f in files if f.name and f.name not in kept}
    if len(new) < MANY:
        return {}
    with workers(os.cpu_count() or 1, at_once=50) as each:
        told = each(_told_if_sound, list(new.values()))
        return {name: one for name, one in zip(new, told, strict=True) if one is not None}


def _told_if_sound(given: tuple[str, bytes, Kinds]) -> list[Any] | None:
    path, data, kinds = given
    try:
        return _told_of(Path(path), data, kinds)
    except WideTrailError:
        return None


# What is kept


@cache
def _maker() -> str:
    """Return what tells apart what makes outlines: another one does not take what is kept."""
    told = [__version__.encode()]
    with suppress(OSError):
        told += [path.read_bytes() for path in sorted(Path(__file__).parent.glob("*.py"))]
    return digest(b"\0".join(told))
