"""The paths that an item's files hold on a machine, one by one."""

from __future__ import annotations

from widetrail.finding.readings import copied_database
from widetrail.formats.bounded import ask
from widetrail.formats.interface import Spot
from widetrail.machine import Machine


def values_at(machine: Machine, path: str, form: str, at: str) -> list[Spot]:
    """Return the text values at ``at`` of the file at ``path``; a database is read in a copy.

    Raises:
        Unreadable: It is not of that form.
        MachineUnusable: It cannot be read.
    """
    found: list[Spot]
    if form == "sqlite":
        with copied_database(machine, path) as copy:
            found = ask("columns", copy, at)
    else:
        found = ask("spots", form, machine.read(path), at)
    return found
