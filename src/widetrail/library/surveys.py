"""What is found on a machine: the applications of recipes, and what no recipe covers."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING

from widetrail.finding import survey
from widetrail.library.recipes import Where
from widetrail.machine import Machine
from widetrail.recipe.recipe_cache import Shelf
from widetrail.reporting.survey import survey_rows
from widetrail.steps import KINDS
from widetrail.survey import Survey, Tick, survey_all

if TYPE_CHECKING:
    import pandas


def open_shelf(recipes: Iterable[Where], cache: Where | None = None) -> Shelf:
    """Open many recipes at once, each read only as far as a survey needs it.

    ``recipes`` are files and folders. What was read of them is kept in the folder ``cache``, so
    that it is there at once the next time.

    Raises:
        InputUnusable: A file that is named cannot be read, or two are for one application.
        DocumentUnusable: A file that is named has findings that are errors.

    Example:
        >>> sorted(open_shelf(["recipes"]).recipes)[:2]
        ['brackenwend', 'desk']
    """
    return Shelf([Path(p) for p in recipes], KINDS, None if cache is None else Path(cache))


def survey_machine(
    recipes: Iterable[Where] | Shelf,
    machine: Machine,
    *,
    ask_programs: bool = False,
    below: str = "",
    scan: bool = True,
    tick: Tick = lambda share, names: None,
) -> Survey:
    """Look for the applications of recipes on a machine, and scan its disks once.

    ``recipes`` are files and folders. ``below`` is a folder of the machine; only that is scanned,
    and nothing where ``scan`` is false. ``tick`` is told how far the scan is (0 to 1), and how many
    names it has seen.
    Sizes are bytes, moments nanoseconds since 1970. Programs are started only where
    ``ask_programs`` says so, and nothing is changed.

    Raises:
        InputUnusable: A recipe cannot be read, or ``below`` is not a folder of the machine.
        DocumentUnusable: A recipe has findings that are errors.

    Example:
        >>> found = survey_machine(["recipes"], open_machine("machines/potting-shed"))
        >>> found.here[0].name
        'Desk'
    """
    shelf = recipes if isinstance(recipes, Shelf) else open_shelf(recipes)
    if not scan:
        loaded = [shelf.load(id) for id in shelf.recipes]
        return Survey.of(machine, loaded, survey(machine, loaded, ask_programs=ask_programs))
    return survey_all(machine, shelf, ask_programs=ask_programs, below=below, tick=tick)


def survey_frame(found: Survey) -> pandas.DataFrame:
    """Return a survey as a table: a row for each item and each place that no recipe covers.

    The columns are ``what application item path files bytes newest looks like why``; ``newest`` is
    a day as text. Needs pandas (``pip install "widetrail[pandas]"``).

    Raises:
        ImportError: pandas is not installed.

    Example:
        >>> survey_frame(found).groupby("application")["bytes"].sum()  # doctest: +SKIP
    """
    import pandas

    names = {one.id: one.name for one in found.here} | {id: id for id in found.not_here}
    head, *rows = survey_rows(found, names)
    return pandas.DataFrame(rows, columns=[str(name) for name in head])
