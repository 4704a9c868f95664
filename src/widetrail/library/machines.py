"""Machines, and what is found on one."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from widetrail.errors import InputUnusable
from widetrail.finding import CardFacts, make_card, read_card, survey
from widetrail.library.recipes import Where
from widetrail.machine import Effects, FolderMachine, Machine, this_machine
from widetrail.machine.accounts import become
from widetrail.recipe import Loaded
from widetrail.recipe.recipe_cache import Shelf
from widetrail.reporting.survey import survey_rows
from widetrail.steps import KINDS
from widetrail.survey import Survey, Tick, survey_all

if TYPE_CHECKING:
    import pandas


def open_machine(
    folder: Where | None = None, account: str = "", effects: Effects | None = None
) -> Machine:
    """Open a machine folder, or this machine for an account; nothing is changed.

    ``effects`` is the seam through which it is changed later, where a caller has one of its own.

    Raises:
        InputUnusable: There is no such machine, or whose account is meant is not clear.

    Example:
        >>> open_machine("machines/potting-shed").user
        'ines'
    """
    if folder is None:
        become(account)
        return this_machine(account, effects)
    here = FolderMachine(Path(folder), effects)
    if account and account != here.user:
        why = f"the account of {here.name} is {here.user}"
        raise InputUnusable("account not found", where=account, why=why)
    return here


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
        return Survey.of(survey(machine, loaded, ask_programs=ask_programs))
    return survey_all(machine, shelf, ask_programs=ask_programs, below=below, tick=tick)


def write_card(
    to: Where, recipes: Sequence[Loaded], machine: Machine, *, ask_programs: bool = False
) -> CardFacts:
    """Write the card of a machine to a new file, and return its facts.

    With it a move can be planned where that machine is out of reach.

    Raises:
        InputUnusable: The file is there already, or cannot be written.

    Example:
        >>> recipes = load_recipes(["recipes/sporelog.trail.yaml"])
        >>> write_card("office.card.json", recipes, open_machine("machines/glass-office")).user
        'imarsh'
    """
    data = make_card(machine, recipes, ask_programs=ask_programs)
    try:
        with Path(to).open("xb") as file:
            file.write(data)
    except OSError as error:
        reason = error.strerror or str(error)
        todo = "Name a file that is not there yet, in a folder that is."
        raise InputUnusable("cannot be written", where=str(to), why=reason, todo=todo) from error
    return read_card(Path(to))


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
