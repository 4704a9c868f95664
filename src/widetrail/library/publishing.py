"""What is handed out of recipes: sheets that people read, and bundles of a folder of them."""

from __future__ import annotations

from collections.abc import Iterable
from contextlib import nullcontext
from pathlib import Path
from tempfile import TemporaryDirectory

from widetrail import __version__
from widetrail.errors import InputUnusable, not_written
from widetrail.formats.quantities import show_size
from widetrail.library.recipes import Where, load_recipes
from widetrail.library.schemas import SCHEMAS, schema_text
from widetrail.publishing import (
    LARGEST,
    Bundle,
    Sheet,
    make_sheet,
    pack_bundle,
    read_bundle,
)
from widetrail.recipe import Loaded
from widetrail.rehearsing import Rehearsal, rehearsals_in
from widetrail.rehearsing.history import open_history
from widetrail.rehearsing.inputs import InputDigests
from widetrail.rehearsing.tried import tried_by
from widetrail.reporting.sheet_page import Listed, render_sheet, render_sheets

SHEETS_INDEX = "index.html"
"""The page that lists sheets."""


def sheet(recipe: Where, *, history: Where | None = None) -> Sheet:
    """Return what there is to read of a recipe; the rehearsals beside it are told, and when they
    last passed by a ``history``.

    Raises:
        InputUnusable: The recipe or the history cannot be read.
        DocumentUnusable: The recipe or a rehearsal beside it has findings that are errors.

    Example:
        >>> sheet("recipes/sporelog.trail.yaml").platforms
        ('Windows', 'macOS', 'Linux')
    """
    [made] = sheets([recipe], history=history)
    return made


def sheets(paths: Iterable[Where], *, history: Where | None = None) -> list[Sheet]:
    """As ``sheet``, of each recipe that ``paths`` name, in the order of their programs' names."""
    return [one.sheet for one in _listed(load_recipes(paths), history)]


def sheet_pages(paths: Iterable[Where], *, history: Where | None = None) -> dict[str, str]:
    """Return the page of each recipe that ``paths`` name, by the name of its file; of several
    there is one more that lists them (``index.html``).

    Raises:
        InputUnusable: A recipe or the history cannot be read.
        DocumentUnusable: A recipe or a rehearsal beside one has findings that are errors.

    Example:
        >>> list(sheet_pages(["recipes/sporelog.trail.yaml"]))
        ['sporelog.html']
    """
    pages = _pages(load_recipes(paths), history)
    if len(pages) == 2:
        del pages[SHEETS_INDEX]
    return pages


def _pages(recipes: Iterable[Loaded], history: Where | None) -> dict[str, str]:
    """Return the page that lists the sheets of recipes, and that of each."""
    listed = _listed(recipes, history)
    return {
        SHEETS_INDEX: render_sheets(listed),
        **{one.page: render_sheet(one.sheet) for one in listed},
    }


def _listed(recipes: Iterable[Loaded], history: Where | None) -> list[Listed]:
    """Return the sheets of recipes in the order of their names."""
    loaded = sorted(recipes, key=lambda one: (one.recipe.application.name.casefold(), one.id))
    of_recipe: dict[Path, list[Rehearsal]] = {}
    for rehearsal in rehearsals_in(Path(one.file).parent for one in loaded):
        for path in rehearsal.recipe_files:
            of_recipe.setdefault(path, []).append(rehearsal)
    opened = nullcontext() if history is None else open_history(Path(history))
    with opened as known:
        digests = InputDigests()
        last = None if known is None else lambda one: known.last_passed(digests.of(tried_by(one)))
        return [
            Listed(
                make_sheet(one, of_recipe.get(Path(one.file), ()), last),
                f"{one.id}.html",
                len(one.findings),
            )
            for one in loaded
        ]


def bundle(paths: Iterable[Where], *, history: Where | None = None) -> bytes:
    """Return the recipes that ``paths`` name as one archive (ZIP) with index, schemas, sheets and
    digests. The same recipes, machines and history give the same bytes.

    Raises:
        InputUnusable: A recipe or the history cannot be read.
        DocumentUnusable: A recipe or a rehearsal beside one has findings that are errors.

    Example:
        >>> bundle(["recipes/sporelog.trail.yaml"])[:2]
        b'PK'
    """
    recipes = load_recipes(paths)
    files = {f"sheets/{name}": page for name, page in _pages(recipes, history).items()}
    files |= {f"schemas/{name}.json": schema_text(name) for name in SCHEMAS}
    return pack_bundle(recipes, files, made_by=__version__)


def read_archive(archive: Where) -> Bundle:
    """Return what a bundle holds, once each of its digests was compared.

    Raises:
        InputUnusable: It cannot be read, is no bundle, or was changed.
    """
    path = Path(archive)
    try:
        size = path.stat().st_size
        if size > LARGEST:
            why = f"it is larger than {show_size(LARGEST)}"
            raise InputUnusable("is no bundle", where=str(path), why=why)
        return read_bundle(path.read_bytes(), str(path))
    except OSError as error:
        why = error.strerror or str(error)
        raise InputUnusable("cannot be read", where=str(path), why=why) from error


def unpack_archive(archive: Where, folder: Where) -> Bundle:
    """Write what a bundle holds into a new folder, whole or not at all; return it.

    Raises:
        InputUnusable: It cannot be read, is no bundle, was changed, or the folder is there already
            or cannot be written.
    """
    read = read_archive(archive)
    unpack_bundle(read, folder)
    return read


def unpack_bundle(read: Bundle, folder: Where) -> None:
    """Write a bundle that was read into a new folder, whole or not at all.

    Raises:
        InputUnusable: The folder is there already or cannot be written.
    """
    to = Path(folder)
    if to.exists() or to.is_symlink():
        raise InputUnusable("is there already", where=str(to), todo="Name a new folder.")
    try:
        with TemporaryDirectory(prefix=f".{to.name}-", dir=to.absolute().parent) as made:
            for name, data in read.files.items():
                file = Path(made, "whole", *name.split("/"))
                file.parent.mkdir(parents=True, exist_ok=True)
                file.write_bytes(data)
            Path(made, "whole").rename(to)
    except OSError as error:
        raise not_written(to, error) from error
