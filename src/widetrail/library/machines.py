"""Machines, and the facts of one that is out of reach."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from widetrail.errors import InputUnusable, not_written
from widetrail.finding import CardFacts, make_card, read_card
from widetrail.library.recipes import Where
from widetrail.machine import Effects, FolderMachine, Machine, this_machine
from widetrail.machine.accounts import become
from widetrail.recipe import Loaded


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
        todo = "Name a file that is not there yet, in a folder that is."
        raise not_written(to, error, todo) from error
    return read_card(Path(to))
