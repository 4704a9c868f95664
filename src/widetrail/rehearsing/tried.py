"""What rehearsals try, without what they expect: read once, and kept by the digests of their files.

Thousands of rehearsals are known by it in the time that reading their bytes takes.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any, NamedTuple

from widetrail.errors import WideTrailError
from widetrail.formats import digest
from widetrail.formats.documents import read_document
from widetrail.machine.kept import keep, read_kept
from widetrail.recipe import SUFFIX as RECIPE_SUFFIX
from widetrail.rehearsing.rehearsal import Rehearsal, load_rehearsals
from widetrail.workers import readers, workers

KEPT = "rehearsals.json"
"""The file in the cache that keeps what rehearsals try."""


class Tried(NamedTuple):
    """What one case of a rehearsal tries: the names of its recipes and machines, and of the folder
    of its licence service, empty where it has none; ``number`` counts its cases from 0.

    ``looks`` tells that it expects something of what the program prints, ``arrives`` that all is
    expected to arrive.
    """

    path: Path
    number: int
    case: str
    recipes: tuple[str, ...]
    machines: tuple[str, ...]
    maker: str
    looks: bool
    arrives: bool

    @property
    def name(self) -> str:
        """Where it lies, with its case in brackets."""
        return f"{self.path}[{self.case}]" if self.case else str(self.path)

    @property
    def recipe_files(self) -> tuple[Path, ...]:
        """Where its recipes lie, the one that is rehearsed first."""
        return tuple(self.path.parent / f"{name}{RECIPE_SUFFIX}" for name in self.recipes)


def tried_by(rehearsal: Rehearsal, number: int = 0) -> Tried:
    """Return what a rehearsal tries; it is case ``number`` of its file."""
    file = rehearsal.file
    sides = (file.old, file.new, file.between)
    machines = tuple(side.machine for side in sides if side is not None)
    maker = file.maker.folder if file.maker is not None else ""
    looks = file.expect.screen is not None
    told = (tuple(file.recipe), machines, maker, looks, rehearsal.arrives)
    return Tried(rehearsal.path, number, rehearsal.case, *told)


def all_tried(
    paths: Sequence[Path],
    cache: Path | None = None,
    engine: str = "",
    known_by: Callable[[Path, str], None] = lambda path, digest: None,
) -> tuple[list[Tried], list[WideTrailError]]:
    """Return what the rehearsals at ``paths`` try, and the errors of those that cannot be read.

    ``known_by`` is told the digest of each file. What was read is kept in the folder ``cache``, by
    the digest of the ``engine`` that reads it.
    """
    kept_at = cache / KEPT if cache is not None else None
    kept = read_kept(kept_at, engine) if kept_at is not None else {}
    broken: list[WideTrailError] = []
    names: dict[Path, str] = {}
    for path in paths:
        try:
            names[path] = digest(read_document(path))
            known_by(path, names[path])
        except WideTrailError as error:
            broken.append(error)
    new = {name: path for path, name in names.items() if name not in kept}
    made: dict[str, list[Any]] = {}
    with workers(readers(len(new)), at_once=50) as each:
        for name, told in zip(new, each(_told_of, list(new.values())), strict=True):
            if isinstance(told, WideTrailError):
                broken.append(told)
            else:
                made[name] = told
    if made and kept_at is not None:
        keep(kept_at, engine, made, names.values())
    known = {**kept, **made}
    found = (_untold(path, known[name]) for path, name in names.items() if name in known)
    return [one for cases in found for one in cases], broken


def _told_of(path: Path) -> list[Any] | WideTrailError:
    try:
        cases = [tried_by(one) for one in load_rehearsals(path)]
    except WideTrailError as error:
        return error
    return [list(one[2:]) for one in cases]


def _untold(path: Path, told: Iterable[Sequence[Any]]) -> list[Tried]:
    return [
        Tried(path, number, case, tuple(recipes), tuple(machines), *more)
        for number, (case, recipes, machines, *more) in enumerate(told)
    ]


def by_recipe(tried: Iterable[Tried]) -> Mapping[Path, list[Tried]]:
    """Return by the file of each recipe the rehearsals that try it first of all."""
    found: dict[Path, list[Tried]] = {}
    for one in tried:
        found.setdefault(one.recipe_files[0], []).append(one)
    return found
