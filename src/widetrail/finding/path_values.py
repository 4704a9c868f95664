"""The paths that an item's files hold on a machine, one by one."""

from __future__ import annotations

from widetrail.finding.readings import copied_database
from widetrail.formats.forms import FORMS
from widetrail.formats.interface import Spot
from widetrail.formats.parser_process import ask_form
from widetrail.machine import Machine


def values_at(machine: Machine, path: str, form: str, at: str) -> list[Spot]:
    """Return the text values at ``at`` of the file at ``path``; a database is read in a copy.

    Raises:
        Unreadable: It is not of that form.
        MachineUnusable: It cannot be read.
    """
    known = FORMS[form]
    if known.database is not None:
        with copied_database(machine, path) as copy:
            return ask_form(known, known.database.column, copy, at)
    assert known.spots is not None, "a form that holds paths lists its texts"
    return ask_form(known, known.spots, machine.read(path), at)
