"""Which files of paths that a person names are recipes."""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator
from pathlib import Path

from widetrail.errors import InputUnusable
from widetrail.recipe.loader import SUFFIX


def recipe_files(paths: Iterable[Path]) -> Iterator[tuple[Path, bool]]:
    """Give the file of each recipe that ``paths`` name, and whether it was named itself.

    Raises:
        InputUnusable: A folder cannot be read.
    """
    for path in paths:
        if not path.is_dir():
            yield path, True
            continue
        try:
            names = sorted(name for name in os.listdir(path) if name.endswith(SUFFIX))
        except OSError as error:
            why = error.strerror or str(error)
            raise InputUnusable("cannot be read", where=str(path), why=why) from error
        yield from ((path / name, False) for name in names)


def second_recipe(id: str, file: str, other: str) -> InputUnusable:
    """Return the error for a second recipe of one application."""
    return InputUnusable(f"a second recipe for {id}", where=file, why=f"{other} is one too")


def no_recipe(paths: Iterable[Path]) -> InputUnusable:
    """Return the error where no recipe is in any of ``paths``."""
    where = ", ".join(map(str, paths))
    return InputUnusable("no recipe found", where=where, why=f"it holds no *{SUFFIX}")
