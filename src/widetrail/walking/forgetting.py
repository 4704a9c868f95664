"""Forgetting: all that the tool keeps on a machine, listed, and removed for good."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Literal

from widetrail.errors import Halted, WideTrailError
from widetrail.formats.outside import bytes_below
from widetrail.lazily import dataclass
from widetrail.machine import Machine
from widetrail.machine.own_folders import own_on
from widetrail.machine.paths import join
from widetrail.walking.overlaps import runs_on
from widetrail.walking.run_folders import take_away
from widetrail.walking.seats import ROOM, ledger_of_machine
from widetrail.walking.undoing import Run

KeptKind = Literal[
    "run", "seats", "recipes", "revisions", "names", "sealed", "machines", "cache", "other"
]
"""What is kept: the journal and backups of a move, what is known of seats, recipes that were used,
their signed revisions, names that were made up for reports, which parcels were sealed, what is
known of machine folders on which nothing may be written, what makes commands quicker; what another
release kept."""

WHAT: Mapping[KeptKind, str] = {
    "run": "the journal and the backups of a move",
    "seats": "where the seats of licences are",
    "recipes": "the recipes that were used here last",
    "revisions": "which revisions of signed recipes were accepted",
    "names": "which names were made up for reports to maintainers",
    "sealed": "which parcels were sealed",
    "machines": "what was done on machine folders that may not be written to",
    "cache": "what makes commands quicker",
    "other": "kept by another release",
}
"""What is kept, for people."""

_NAMES: Mapping[str, KeptKind] = {
    ROOM: "seats",
    "recipes": "recipes",
    "accepted-revisions.json": "revisions",
    "made-up-names.json": "names",
    "sealed": "sealed",
    "machines": "machines",
}


@dataclass(frozen=True)
class Kept:
    """Something that is kept on a machine, of ``size`` bytes.

    ``needed`` says for what it is needed still, and is empty where nothing is lost without it.
    ``run`` is the name of the run that it is of.
    """

    kind: KeptKind
    path: str
    size: int
    needed: str = ""
    run: str = ""


def kept_on(machine: Machine) -> tuple[Kept, ...]:
    """Return all that the tool keeps on a machine, wherever on it; nothing is changed.

    What a run keeps on another disk is known by its journal.
    """
    top = own_on(machine)
    host = machine.host(top)
    names = sorted(path.name for path in host.iterdir()) if host.is_dir() else ()
    runs = runs_on(machine)
    found = [kept for run in runs for kept in _of_run(machine, run)]
    found += [_other(machine, join(top, name), name) for name in names if name not in runs]
    return tuple(found)


def forget_kept(machine: Machine, kept: Kept) -> None:
    """Remove something that is kept on a machine, for good.

    Raises:
        Halted: A walk, undoing or settling of that run is at work.
        EffectFailed: The system refuses.
    """
    if kept.run:
        try:
            Run(machine, kept.run).forget()
            return
        except Halted:
            raise
        except WideTrailError:  # its journal cannot be read, and is forgotten all the same
            pass
    take_away(machine, kept.path)


def clear_own_state(machine: Machine) -> None:
    """Remove the folder of what was kept, where nothing is in it."""
    take_away(machine, own_on(machine), only_empty=True)


def _of_run(machine: Machine, name: str) -> Iterator[Kept]:
    """Give the folders of a run, on every disk."""
    try:
        run = Run(machine, name)
        needed, homes = run.unfinished or "it can still be undone", run.kept()
    except WideTrailError as error:
        workroom = join(own_on(machine), name)
        needed, homes = error.what, ((workroom, bytes_below(machine.host(workroom))),)
    for path, size in homes:
        yield Kept("run", path, size, needed, name)


def _other(machine: Machine, path: str, name: str) -> Kept:
    kind, host = _NAMES.get(name, "other"), machine.host(path)
    size = bytes_below(host) if host.is_dir() else host.stat().st_size
    return Kept(kind, path, size, _needed_seats(machine) if kind == "seats" else "")


def _needed_seats(machine: Machine) -> str:
    """Return what is to be done with seats still, by the ledger of a machine."""
    try:
        todo = [f"{line.title}: {line.todo}" for line in ledger_of_machine(machine) if line.todo]
    except WideTrailError as error:
        return error.what
    return "; ".join(todo)
