"""A move: walked and reported."""

from __future__ import annotations

from collections.abc import Callable, Collection
from datetime import UTC, datetime
from pathlib import Path

from widetrail.errors import Halted
from widetrail.lazily import dataclass
from widetrail.library.recipes import Where
from widetrail.machine import Effects, Machine
from widetrail.machine.sensitive import Attention
from widetrail.parcel import Parcel
from widetrail.planning import Plan
from widetrail.recipe import Station
from widetrail.steps import Step
from widetrail.walking import Apart, Company, LegDone, Report, Visit, make_report


@dataclass(frozen=True)
class Due:
    """What a walk will do on a machine, as consent to it is asked for.

    ``steps`` are the steps with their words, in order. ``apart`` needs a consent of its own, since
    a place of the system is changed. ``damaged`` are parts of the parcel that are written anew,
    ``workroom`` is the folder of the machine that keeps backups and the journal.
    """

    title: str
    steps: tuple[tuple[Step, str], ...]
    apart: tuple[Apart, ...]
    damaged: tuple[str, ...]
    workroom: str


Consent = Callable[[Due], bool]
"""Is shown what a walk will do, and returns whether it may."""


def walk(
    parcel: Where,
    machine: Machine,
    consent: Consent,
    company: Company | None = None,
    *,
    station: Station | None = None,
    allow: Collection[Attention] = (),
) -> LegDone:
    """Do what is due of a parcel on a machine; a walk that was cut off is gone on with.

    ``consent`` is asked once, before anything is changed. ``company`` answers what a person is
    asked, is told how it goes, and says whether it waits. ``station`` says which one the machine
    is, where the plan was made without having seen it. ``allow`` is what needs no consent of its
    own.

    Raises:
        Halted: Consent was not given, or the machine is not as it was planned: the parcel then
            holds another plan, to be walked with consent to that.
        WideTrailError: The parcel or the machine cannot be used.

    Example:
        >>> done = walk("media/usb-stick/first", old, lambda due: True)
        >>> done.failed, done.next_machine
        ((), 'glass-office')
        >>> walk("media/usb-stick/first", new, lambda due: True).failed
        ()
    """
    visit = open_visit(parcel, machine, company, station)
    if not visit.due_here:
        return visit.after_done(_now())
    if planned_again(visit) is not None:
        raise Halted(
            f"{machine.name} is no longer as planned",
            why="the plan was made again and is in the parcel",
            todo="Read it, then walk again.",
        )
    due = what_is_due(visit, allow)
    if not consent(due):
        raise Halted("consent was not given", why="nothing was changed")
    return visit.walk(_now())


def open_visit(
    parcel: Where,
    machine: Machine,
    company: Company | None = None,
    station: Station | None = None,
    effects: Effects | None = None,
) -> Visit:
    """Open a parcel on a machine, to see what is due there and to do it.

    Raises:
        ParcelUnusable: It is not a parcel, is damaged, or is not for that machine.

    Example:
        >>> open_visit("media/usb-stick/first", old).title
        'Leg 1 on potting-shed'
    """
    opened = Parcel(Path(parcel), effects or Effects())
    return Visit(opened, machine, station=station, company=company or Company())


def planned_again(visit: Visit) -> Plan | None:
    """Plan anew where the machine is no longer as it was planned; the parcel holds that plan then.

    Returns ``None`` where it is as it was planned.
    """
    moment = _now()
    made = visit.planned_anew(moment)
    if made is not None:
        visit.parcel.check_cargo(begun=False)
        visit.parcel.renew(made, moment)
    return made


def what_is_due(visit: Visit, allow: Collection[Attention] = ()) -> Due:
    """Look whether all is there for what is due, and return it as consent is asked for it.

    Raises:
        Obstructed: Something is not there; each obstacle says what to do.
    """
    moment = _now()
    visit.look_ahead(moment)
    apart = tuple(one for one in visit.apart(moment) if one.why not in allow)
    steps = visit.words(moment)
    return Due(visit.title, tuple(steps), apart, tuple(visit.damaged), visit.workroom)


def report(parcel: Where) -> Report:
    """Return what became of the move that a parcel is for; nothing is changed.

    Raises:
        ParcelUnusable: It is not a parcel, or is damaged.

    Example:
        >>> report("media/usb-stick/first").well
        True
    """
    return make_report(Parcel(Path(parcel), Effects()))


def _now() -> datetime:
    return datetime.now(UTC)
