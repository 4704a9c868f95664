"""Many recipes at hand: their outlines by the digest of their files, kept between runs.

Each file is read each time, and only the outline of the very same bytes is taken from what is kept;
what is kept is the tool's own, made anew where anything about it does not match, and never needed.
"""

from __future__ import annotations

import json
import os
from collections.abc import Collection, Iterable, Mapping
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
from widetrail.machine import Effects
from widetrail.machine.platforms import PLATFORMS
from widetrail.recipe.loader import Kinds, Loaded, examine, load_recipe_text
from widetrail.recipe.outline import Claim, Outline, OutlinedSign, outline_of
from widetrail.recipe.recipe_files import recipe_files, second_recipe

KEPT = "outlines.json"
"""The file in the cache that keeps outlines."""

OTHERS = 5_000
"""Outlines of other recipes that are kept beside those of the shelf at hand, at most."""


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
        self.fresh = 0
        known = _read(self._kept) if self._kept is not None else {}
        made: dict[str, list[Any]] = {}
        mine: set[str] = set()
        self.recipes: dict[str, Shelved] = {}
        for path, is_named in recipe_files(paths):
            try:
                one, name = self._shelved(path, known)
            except WideTrailError as error:
                if is_named:
                    raise
                self.broken.append(error)
                continue
            mine.add(name)
            if name not in known:
                made[name] = [one.id, one.name, one.uses, one.outlines]
            other = self.recipes.get(one.id)
            if other is not None:
                raise second_recipe(one.id, one.file, other.file)
            self.recipes[one.id] = one
        self.fresh = len(made)
        if made and self._kept is not None:
            with suppress(WideTrailError, OSError):  # it is only made again the next time
                _keep(self._kept, made, mine)

    def _shelved(self, path: Path, known: Mapping[str, Any]) -> tuple[Shelved, str]:
        """Return a recipe, and its digest."""
        data = read_document(path)
        name = digest(data)
        if name in known:
            id, called, uses, outlines = known[name]
            return Shelved(str(path), data, id, called, tuple(uses), outlines), name
        loaded, findings = examine(text_of(data, str(path)), str(path), self._kinds)
        if loaded is None:
            raise DocumentUnusable(str(path), errors_of(findings))
        recipe, application = loaded.recipe, loaded.recipe.application
        told: dict[str, str] = {
            p: json.dumps(outline_of(recipe, p), separators=(",", ":")) for p in PLATFORMS
        }
        uses = tuple(recipe.relies_on)
        return Shelved(str(path), data, loaded.id, application.name, uses, told), name

    def load(self, id: str) -> Loaded:
        """Return a recipe in whole, from the bytes that were read.

        Raises:
            DocumentUnusable: It has findings that are errors.
        """
        one = self.recipes[id]
        return load_recipe_text(text_of(one.data, one.file), one.file, self._kinds)


# What is kept


@cache
def _maker() -> str:
    """Return what tells apart what makes outlines: another one does not take what is kept."""
    told = [__version__.encode()]
    with suppress(OSError):
        told += [path.read_bytes() for path in sorted(Path(__file__).parent.glob("*.py"))]
    return digest(b"\0".join(told))


def _read(path: Path) -> dict[str, Any]:
    """Return the outlines that are kept, by the digests of their recipes; none where anything about
    them is not as it was written."""
    try:
        told, _, body = path.read_bytes().partition(b"\n")
        if told.decode("ascii") != digest(body):
            return {}
        kept = json.loads(body)
    except (OSError, ValueError):
        return {}
    outlines: dict[str, Any] = kept["outlines"] if kept.get("maker") == _maker() else {}
    return outlines


def _keep(path: Path, made: Mapping[str, list[Any]], mine: Collection[str]) -> None:
    """Keep outlines beside those that are kept by now, in one file that appears whole.

    Of those that are not of the shelf at hand (``mine``) the ones that were made last stay.
    """
    effects = Effects()
    effects.make_folders(path.parent, named=True)
    kept = {**_read(path), **made}
    others = [name for name in kept if name not in mine]
    for name in others[: max(0, len(others) - OTHERS)]:
        del kept[name]
    body = json.dumps({"maker": _maker(), "outlines": kept}, ensure_ascii=True).encode()
    part = path.with_name(f"{path.name}.{os.getpid()}.{os.urandom(4).hex()}")
    try:
        with effects.create(part, 0o600) as file:
            file.write(digest(body).encode() + b"\n" + body)
        effects.replace(part, path)
    except BaseException:
        with suppress(WideTrailError):
            effects.remove_file(part)
        raise
