"""A move's end on a machine: undone, or accepted with its backups deleted."""

from __future__ import annotations

from collections.abc import Callable, Collection
from datetime import UTC, datetime
from pathlib import Path

from widetrail.errors import Halted, WentWrong
from widetrail.formats.outside import bytes_below
from widetrail.lazily import dataclass
from widetrail.library.recipes import Where
from widetrail.machine import Effects, LiveMachine, Machine, own_cache
from widetrail.parcel import Parcel
from widetrail.walking import (
    Company,
    ItemReport,
    Kept,
    Run,
    UndoPlan,
    clear_own_state,
    clear_settled,
    forget_kept,
    kept_on,
    make_report,
)


def open_run(machine: Machine, run: str = "", company: Company | None = None) -> Run:
    """Open what a machine's journal says of a run, to see what undoing or settling it would do.

    ``run`` may be left out where there is only one.

    Raises:
        InputUnusable: There is no such run, or several.

    Example:
        >>> len(open_run(new).undo_plan().acts) > 0
        True
    """
    return Run(machine, run, company)


def undo(machine: Machine, run: str = "", *, take_back: Collection[str] = ()) -> UndoPlan:
    """Undo on a machine what a run did there, from the machine's own journal.

    ``run`` may be left out where there is only one. ``take_back`` are the steps of which nobody
    knows whether they were done, and which were.

    Raises:
        Halted: It cannot be undone now.
        WentWrong: Not everything could be undone.

    Example:
        >>> undo(new).cannot
        ()
    """
    found = open_run(machine, run, Company())
    taken = found.undo(datetime.now(UTC), set(take_back))
    if found.went_wrong:
        raise WentWrong("not everything could be undone", why="; ".join(found.went_wrong))
    return taken


@dataclass(frozen=True)
class Settling:
    """What settling a run deletes on a machine, for good.

    ``folders`` are paths with their sizes in bytes. ``names`` are what stood in the places when the
    run was undone, ``changed`` those of them that were changed after the walk; ``warnings`` say
    what is not known here and should be. ``was_cut_off`` where only the end of an earlier settling
    was left to do.
    """

    run: str
    machine: str
    folders: tuple[tuple[str, int], ...] = ()
    names: tuple[str, ...] = ()
    changed: tuple[str, ...] = ()
    warnings: tuple[str, ...] = ()
    was_cut_off: bool = False


def settle(machine: Machine, run: str, consent: Callable[[Settling], bool]) -> Settling:
    """Accept what a run did on a machine: delete its backups and its journal there.

    ``consent`` is shown what goes; nothing can be undone after it. ``run`` may be empty where there
    is only one.

    Raises:
        Halted: The run is not at its end, or consent was not given.
        InputUnusable: There is no such run, or several.

    Example:
        >>> settle(new, "", lambda settling: not settling.warnings).machine
        'glass-office'
    """
    if clear_settled(machine):
        return Settling(run, machine.name, was_cut_off=True)
    found = open_run(machine, run)
    found.insist_finished()
    away, kept = found.put_away(), tuple(found.kept())
    due = Settling(
        found.name, machine.name, kept, tuple(away.names), tuple(away.changed), found.warnings()
    )
    _insist(consent(due))
    found.settle()
    return due


@dataclass(frozen=True)
class ParcelSettling:
    """What settling a parcel deletes: its cargo, of ``size`` bytes.

    ``not_transferred`` are the items of it that did not arrive.
    """

    run: str
    size: int
    not_transferred: tuple[ItemReport, ...]


def settle_parcel(parcel: Where, consent: Callable[[ParcelSettling], bool]) -> ParcelSettling:
    """Delete a parcel's cargo, once the move is accepted; its plan and its logbook stay.

    Raises:
        Halted: The move is not at its end, or consent was not given.
        ParcelUnusable: It is not a parcel, or is damaged.

    Example:
        >>> settle_parcel("media/usb-stick/first", lambda due: not due.not_transferred).size > 0
        True
    """
    opened = Parcel(Path(parcel), Effects())
    missing = tuple(item for item in make_report(opened).items if item.state != "carried")
    due = ParcelSettling(opened.run, opened.cargo_size(), missing)
    _insist(consent(due))
    opened.settle(datetime.now(UTC))
    return due


@dataclass(frozen=True)
class Forgetting:
    """What forgetting removes on a machine, for good, and what stays since it is needed still."""

    machine: str
    away: tuple[Kept, ...]
    stays: tuple[Kept, ...]


def forget(
    machine: Machine, consent: Callable[[Forgetting], bool], *, needed_too: bool = False
) -> Forgetting:
    """Remove all that the tool keeps on a machine; of this computer also what makes it quicker.

    ``consent`` is shown what goes. What is needed still (a move that can be undone, a seat that is
    on its way) stays, but with ``needed_too``.

    Raises:
        Halted: Consent was not given, or something is at work on it.

    Example:
        >>> forget(new, lambda forgetting: True).stays
        ()
    """
    kept = (*kept_on(machine), *_cached(machine))
    stays = tuple(one for one in kept if one.needed and not needed_too)
    due = Forgetting(machine.name, tuple(one for one in kept if one not in stays), stays)
    if due.away:
        _insist(consent(due))
    for one in due.away:
        forget_kept(machine, one)
    clear_own_state(machine)
    return due


def _cached(machine: Machine) -> tuple[Kept, ...]:
    """Return what is kept on this computer to be quicker."""
    path = own_cache()
    if not isinstance(machine, LiveMachine) or not path.is_dir():
        return ()
    return (Kept("cache", path.as_posix(), bytes_below(path)),)


def _insist(consented: bool) -> None:
    if not consented:
        raise Halted("consent was not given", why="nothing was changed")
