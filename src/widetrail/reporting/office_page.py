"""The page of the day's route through an office: a trip after the other, to be printed."""

from __future__ import annotations

from typing import NamedTuple

from widetrail.planning.office import OfficeVisit
from widetrail.planning.office_moves import Office
from widetrail.reporting.html import make_page
from widetrail.steps import act_of, words_of

_ROLES = {"old": "the old computer", "new": "the new computer", "between": "the errand"}


class _Stop(NamedTuple):
    """What is done at one computer for one move: what it is of it, the calls to be made, what a
    person does, and how many steps there are in all."""

    who: str
    role: str
    calls: tuple[str, ...]
    asks: tuple[str, ...]
    steps: int


class _Trip(NamedTuple):
    """One trip: what is done there, the media to be in hand, and the parcels that are done."""

    computer: str
    stops: tuple[_Stop, ...]
    media: tuple[str, ...]
    ends: tuple[tuple[str, str], ...]


def render_office(office: Office) -> str:
    """Return the page of the day's route."""
    return make_page(
        "office.html",
        "The day's route",
        office=office,
        trips=[_trip(office, visit) for visit in office.round.visits],
    )


def _trip(office: Office, visit: OfficeVisit) -> _Trip:
    media = (str(office.media[office.round.media[name]]) for name in visit.legs)
    ends = tuple((name, str(office.move(name).parcel)) for name in visit.ends)
    stops = tuple(_stop(office, name, legs) for name, legs in visit.legs.items())
    return _Trip(visit.computer, stops, tuple(dict.fromkeys(media)), ends)


def _stop(office: Office, name: str, legs: tuple[int, ...]) -> _Stop:
    move = office.move(name)
    steps = list(move.steps(legs))
    asks = dict.fromkeys(words_of(step) for step in steps if act_of(step).effect == "asks")
    roles = dict.fromkeys(_ROLES[leg.station] for leg in move.legs(legs))
    return _Stop(name, " and ".join(roles), tuple(move.calls(legs)), tuple(asks), len(steps))
