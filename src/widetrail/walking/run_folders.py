"""The folders of a run's own on a station: where they are, and taking what is in them away."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TypeVar

from widetrail.errors import Halted
from widetrail.formats.outside import SafePath, open_folder
from widetrail.machine import Machine
from widetrail.machine.paths import base, join, parent
from widetrail.steps.journal_events import Record
from widetrail.steps.publish_step import Published, Staged, StagedSoFar
from widetrail.steps.run_storage import OWN
from widetrail.walking.journal import Journal, Line

if sys.platform == "win32":
    from widetrail.formats import digest
    from widetrail.machine.windows_processes import held_name

L = TypeVar("L", bound=Line)


@contextmanager
def at_work(machine: Machine, journal: Journal[L], workroom: str) -> Iterator[list[Path]]:
    """Be the only one at work on a run, and on this machine, as ``alone`` is."""
    with alone(machine, journal, workroom) as made, _only_run(machine, workroom):
        yield made


@contextmanager
def alone(machine: Machine, journal: Journal[L], workroom: str) -> Iterator[list[Path]]:
    """Be the only one at work on a run at a station; the system lets go of it when a process ends.

    Gives the folders that were made for it.

    Raises:
        Halted: Another walk, undoing or settling of the run is at work, or was meanwhile.
    """
    path = machine.host(join(workroom, LOCK))
    made = machine.effects.keep_private(path.parent)
    with machine.effects.append(path) as file:
        if not (_locked(file.handle) and journal.is_current):
            raise Halted(
                "another process is working on this run",
                where=join(workroom, LOCK),
                todo="Wait until it has ended, then run this again.",
            )
        yield made


@contextmanager
def _only_run(machine: Machine, workroom: str) -> Iterator[None]:
    """Be the only one who changes a person's places here, whatever run it is of.

    The folder of all runs is locked; on Windows, where no folder can be, a name made of its path.

    Raises:
        Halted: Another run is walked, undone or settled here now.
    """
    folder = machine.host(parent(workroom))
    if not folder.is_dir():  # the first run here
        yield
        return
    with _held(folder) as held:
        if not held:
            raise Halted(
                "another run is in progress on this machine",
                where=parent(workroom),
                todo="Wait until it has ended, then run this again.",
            )
        yield


@contextmanager
def _held(folder: SafePath) -> Iterator[bool]:
    """Lock a folder, and tell whether that could be done at once."""
    if sys.platform == "win32":
        with held_name(f"widetrail {digest(str(folder).casefold().encode())}") as held:
            yield held
        return
    handle = open_folder(folder)
    try:
        yield _locked(handle)
    finally:
        os.close(handle)


LOCK = "lock"


def _locked(handle: int) -> bool:
    """Lock an open file for this process; return whether that could be done at once."""
    try:
        if sys.platform == "win32":
            import msvcrt

            msvcrt.locking(handle, msvcrt.LK_NBLCK, 1)
        else:
            import fcntl

            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        return False
    return True


def own_homes(machine: Machine, workroom: str, records: Iterable[Record]) -> list[str]:
    """Return the run's folders that are there, on every disk; ``workroom`` is the first."""
    mark = f"/{OWN}/{base(workroom)}/"
    told = [workroom]
    for path in (path for record in records for path in record.paths()):
        head, found, _ = path.partition(mark)
        if found:
            told.append(f"{head}{mark}".rstrip("/"))
    return [home for home in dict.fromkeys(told) if machine.host(home).is_dir()]


def take_away(machine: Machine, path: str, *, only_empty: bool = False) -> None:
    """Remove something of the run's own, if it is there; a folder with all in it, or if empty."""
    host = machine.host(path)
    if not host.exists():
        return
    if not host.is_dir():
        machine.effects.remove_file(host)
    elif not only_empty or _holds_nothing(host):
        machine.effects.remove_tree(host)


def _holds_nothing(folder: SafePath) -> bool:
    """Return whether a folder has nothing in it but folders."""
    return all(path.is_dir() for path in folder.below())


def clear_work(machine: Machine, workroom: str, records: Sequence[Record]) -> None:
    """Remove what only a walk that goes on needs: made and staged files, and empty folders.

    What is staged and not put in place yet stays, for the walk that goes on.
    """
    waiting = {r.step for r in records if isinstance(r, Staged | StagedSoFar)}
    waiting -= {r.step for r in records if isinstance(r, Published)}
    for home in own_homes(machine, workroom, records):
        take_away(machine, join(home, "made"))
        if not waiting:
            take_away(machine, join(home, "staging"))
        for name in ("aside", "saved"):  # what is in them is the person's, be it an empty folder
            host = machine.host(join(home, name))
            if host.is_empty():
                machine.effects.remove_folder(host)
