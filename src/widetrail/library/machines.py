"""Machines, and what is found on one."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING

from widetrail.errors import InputUnusable
from widetrail.library.recipes import Where
from widetrail.machine import Effects, FolderMachine, Machine, this_machine
from widetrail.machine.accounts import become
from widetrail.recipe.recipe_cache import Shelf
from widetrail.reporting.survey import survey_rows
from widetrail.steps import KINDS
from widetrail.survey import Survey, survey_all

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


def survey_machine(
    recipes: Iterable[Where], machine: Machine, *, ask_programs: bool = False, below: str = ""
) -> Survey:
    """Look for the applications of recipes on a machine, and walk its disks once.

    ``recipes`` are files and folders. ``below`` is a folder of the machine; only that is walked.
    Sizes are bytes, moments nanoseconds since 1970. Programs are started only where
    ``ask_programs`` says so, and nothing is changed.

    Raises:
        InputUnusable: A recipe cannot be read, or ``below`` is no folder of the machine.
        DocumentUnusable: A recipe has findings that are errors.

    Example:
        >>> found = survey_machine(["recipes"], open_machine("machines/potting-shed"))
        >>> found.here[0].name
        'Desk'
    """
    shelf = Shelf([Path(path) for path in recipes], KINDS)
    return survey_all(machine, shelf, ask_programs=ask_programs, below=below)


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
