"""The recipes that were used on this computer, so that what may do more than before is told."""

from __future__ import annotations

from collections.abc import Iterable
from contextlib import suppress
from pathlib import Path

from widetrail.errors import WideTrailError
from widetrail.formats.documents import read_document
from widetrail.lazily import dataclass
from widetrail.machine.own_folders import own_state
from widetrail.recipe import SUFFIX, Loaded, load_recipe_text
from widetrail.steps import KINDS
from widetrail.trust import Permission, more_than_before, permissions_of

FOLDER = "recipes"
"""The folder of the texts of those recipes, below our own state folder."""


@dataclass(frozen=True)
class Grown:
    """A recipe that may do more than the one of its id that was used here last."""

    name: str
    before: int
    more: tuple[Permission, ...]


def grown(recipes: Iterable[Loaded]) -> tuple[Grown, ...]:
    """Return which recipes may do more than when they were used on this computer last.

    One that was never used here has not grown. Where what was used can be read no more, all that a
    recipe may do is more.
    """
    found = []
    for loaded in recipes:
        path = _kept(loaded)
        if not path.exists():
            continue
        before = _used(path)
        if before is not None and before.digest == loaded.digest:
            continue
        more = more_than_before(before, loaded) if before else permissions_of(loaded)
        if more:
            revision = before.recipe.revision if before else 0
            found.append(Grown(loaded.recipe.application.name, revision, more))
    return tuple(found)


def remember_used(recipes: Iterable[Loaded]) -> None:
    """Remember which recipes are used on this computer from now on, where that can be written."""
    for loaded in recipes:
        path, data = _kept(loaded), loaded.text.encode()
        with suppress(OSError):  # then nothing is compared the next time, which is no loss of data
            if not path.exists() or path.read_bytes() != data:
                path.parent.mkdir(parents=True, exist_ok=True)
                path.write_bytes(data)


def _kept(loaded: Loaded) -> Path:
    return own_state() / FOLDER / f"{loaded.id}{SUFFIX}"


def _used(path: Path) -> Loaded | None:
    """Return the recipe that was used, or ``None`` where it can be read no more."""
    try:
        text = read_document(path, named=False).decode()
        return load_recipe_text(text, str(path), KINDS)
    except (WideTrailError, UnicodeDecodeError):
        return None
