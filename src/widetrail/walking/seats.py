"""The seats of licences at a station: what is known of them, and writing down what happens.

Every machine has a ledger of its own, ``{state}/widetrail/seats/ledger``, a journal beyond runs:
what happened to a seat here, in whatever move. A parcel's logbook tells what happened elsewhere. A
seat is what both tell together. What an earlier move did here is adopted by a later one, and the
earlier one may do nothing more here then. Which move is the later one is told by its ``turn``: the
first record of a move has one more than any that its station knew, whatever clocks say.
"""

from __future__ import annotations

import shlex
from collections.abc import Iterable, Mapping
from dataclasses import asdict

from widetrail.finding import Finder, Unknown
from widetrail.formats.texts import for_people
from widetrail.lazily import dataclass
from widetrail.licence import seat_events as events
from widetrail.licence.seat import replay
from widetrail.licence.seat_events import Event, Seat
from widetrail.licence.seat_words import meanwhile_of, todo_of, words_of
from widetrail.licence.terms import Word
from widetrail.machine import Machine
from widetrail.machine.own_folders import own_on
from widetrail.machine.paths import join
from widetrail.parcel import Parcel
from widetrail.parcel.seat_record import SeatRecord, turn_of
from widetrail.planning import Plan
from widetrail.recipe.licence_models import ActiveReading
from widetrail.recipe.routes import STATIONS
from widetrail.steps.commands import ANSWER_MADE
from widetrail.steps.seat_step import other_way
from widetrail.walking.journal import Journal
from widetrail.walking.walk_events import read_seat

ROOM = "seats"


class Ledger:
    """What happened to seats on one machine, in whatever move."""

    def __init__(self, machine: Machine) -> None:
        """Open the ledger of ``machine``, which need not be there.

        Raises:
            InputUnusable: It is damaged before its end.
        """
        self.room = join(own_on(machine), ROOM)
        path = join(self.room, "ledger")
        self._machine = machine
        self.journal = Journal(machine.host(path), path, machine.effects, read_seat)

    def of_run(self, run: str) -> list[SeatRecord]:
        """Return what happened here in a run, oldest first."""
        return [r for r in self.journal.records if r.run == run]

    def of_item(self, item: str) -> list[SeatRecord]:
        """Return what happened here to a seat in all runs, oldest first."""
        return [r for r in self.journal.records if r.item == item]

    def add(self, record: SeatRecord) -> None:
        """Write one record; it is durable then."""
        self._machine.effects.keep_private(self._machine.host(self.room))
        self.journal.add(record)


@dataclass(frozen=True)
class SeatLine:
    """What is known of one seat: where it goes, how it stands, what happened, what to do next.

    ``history`` has the time, machine and words of each thing that happened, oldest first;
    ``parcel`` is what commands call the parcel. ``planned`` is what is to be done next by a plan
    that takes another way; where the move is ``undone`` at a station, it cannot be walked on there.
    """

    run: str
    item: str
    title: str
    old: str
    new: str
    seat: Seat
    history: tuple[tuple[str, str, str], ...]
    at_end: bool = False
    parcel: str = "PARCEL"
    planned: str = ""
    undone: bool = False

    @property
    def words(self) -> str:
        """How it stands."""
        return words_of(self.seat)

    @property
    def todo(self) -> str:
        """What to do next, with the command, or an empty text."""
        if self.at_end or self.seat.at_end:
            return ""
        if self.undone:
            return undone_todo(self)
        return self.planned or todo_of(self.seat, self.old, self.new, self.parcel, self.item)

    @property
    def meanwhile(self) -> str:
        """Who can use the licence until that is done, or an empty text."""
        return "" if self.at_end else meanwhile_of(self.seat, self.old, self.new)

    def as_json(self) -> dict[str, object]:
        """Return the line as plain JSON values."""
        told = {"run": self.run, "item": self.item, "title": self.title, "old": self.old}
        act = asdict(self.seat.act) if self.seat.act is not None else None
        seat = {"stage": self.seat.stage, "act": act, "in_doubt": self.seat.in_doubt}
        seat |= {"given_up": self.seat.given_up}
        words = {"words": self.words, "todo": self.todo or None}
        words |= {"meanwhile": self.meanwhile or None}
        return {
            **told,
            "new": self.new,
            **seat,
            **words,
            "history": [list(h) for h in self.history],
        }


def ledger_of_parcel(parcel: Parcel) -> tuple[SeatLine, ...]:
    """Return every seat that a parcel's plan moves, as its logbook tells it."""
    plan = parcel.plan
    old, new = (plan.station(s).machine for s in STATIONS[:2])
    lines = []
    for item in plan.items:
        if item.kind == "licence":
            told = parcel.seats(item.id)
            history = tuple(map(_happened, told))
            names = parcel.run, item.id, item.title, old, new
            at = shlex.quote(str(parcel.folder))
            planned = _other_way(parcel, item.id, f"widetrail walk {at}", old, new)
            undone = bool(parcel.undone_at)
            told_of = replay(record.happened for record in told), history
            lines.append(SeatLine(*names, *told_of, parcel=at, planned=planned, undone=undone))
    return tuple(lines)


def _other_way(parcel: Parcel, item: str, walk: str, old: str, new: str) -> str:
    """Return what is to be done next where a seat goes another way than was planned first."""
    done = {s for s, outcome in parcel.outcomes.items() if outcome.well}
    mine = (s for s in parcel.plan.steps if s.item == item and s.id not in done)
    way = next(filter(None, map(other_way, mine)), None)
    if way is None:
        return ""
    here, other = (old, new) if way.station == "old" else (new, old)
    if way.act == "renounce":
        return f"Walk on {here}: {walk}. It promises there not to claim the seat in this move."
    return f"Walk on {here}: {walk}. You are asked there to answer for {other}, which is gone."


def undone_todo(line: SeatLine) -> str:
    """Return what is to be done with a seat whose move was undone, or is to be, at a station."""
    seat = line.seat
    if seat.act is None and seat.stage in ("known", "noted"):
        return ""
    released = "may have been" if seat.stage == "verified" else "was"
    return (
        f"The seat {released} released on {line.old}, and undoing does not take it back: until "
        f"more is done no computer may have the licence. Plan the move again on {line.old} "
        "(widetrail plan), which takes the seat over; where it was undone on "
        f"{line.new} alone, this has it back too: widetrail seat return {line.parcel} {line.item} "
        "--new-is-gone."
    )


def ledger_of_machine(machine: Machine) -> tuple[SeatLine, ...]:
    """Return every seat that something happened to on a machine, as its ledger tells it.

    A seat that a later move took over is at its end for the earlier one.
    """
    records = Ledger(machine).journal.records
    lines = []
    for key in dict.fromkeys((r.run, r.item) for r in records):
        mine = [r for r in records if (r.run, r.item) == key]
        last = mine[-1]
        ends = last.machine, last.partner
        old, new = reversed(ends) if last.station == "new" else ends
        later = any(r.item == last.item and r.turn > turn_of(mine) for r in records)
        lines.append(
            SeatLine(
                last.run,
                last.item,
                last.title,
                old,
                new,
                last.seat,
                tuple(map(_happened, mine)),
                later,
            )
        )
    return tuple(lines)


def seat_as_told(parcel: Parcel, machines: Iterable[Machine], item: str) -> Seat:
    """Return a seat by all that is known: what a parcel tells, and what its stations tell still."""
    told = list(parcel.seats(item))
    known = {record.key for record in told}
    for machine in machines:
        mine = Ledger(machine).of_run(parcel.run)
        told += [r for r in mine if r.item == item and r.key not in known]
    return replay(record.happened for record in told)


def _happened(record: SeatRecord) -> tuple[str, str, str]:
    return record.time, record.machine, _words(record.happened)


_SAID = {
    "active": "that it is active",
    "other": "that it is active by another seat",
    "not": "that it is not active",
    "unknown": "nothing clear",
}


def _words(event: Event) -> str:
    """Return in words what happened to a seat."""
    match event:
        case events.Begin():
            return f"its {event.purpose} was begun; the program said {_SAID[event.word]}"
        case events.Shown():
            return f"the program said {_SAID[event.word]}"
        case events.Told():
            return f"the maker says that {event.holder} holds it"
        case events.Gone():
            return f"a person answers for it that {event.who} is out"
    return _WORDS[type(event)]


_WORDS: Mapping[type[Event], str] = {
    events.Adopted: "taken over from an earlier move",
    events.Noted: "its serial was kept",
    events.Verified: "all was seen to be ready",
    events.Requested: "the request was made",
    events.Answered: "the answer was fetched",
    events.Spoiled: "the answer is to be fetched again",
    events.Broken: "the command for it was cut off, or failed",
    events.Refused: "it was refused",
    events.Renounced: "new will not claim it",
    events.Settled: "a person accepted it",
    events.GivenUp: "the seat was given up",
    events.TakenUp: "the seat was taken up again",
}


def answer_steps(plan: Plan, item: str) -> list[str]:
    """Return the steps of a licence that fetch an answer."""
    return [s.id for s in plan.steps if s.item == item and s.writes == (ANSWER_MADE,)]


def word_of(active: ActiveReading, finder: Finder) -> tuple[Word, str]:
    """Return what a program says of its own licence, with its words or why they are not known."""
    word, says = _word_of(active, finder)
    finder.decide(active, word)
    return word, says


def _word_of(active: ActiveReading, finder: Finder) -> tuple[Word, str]:
    found = finder.take(active)
    if isinstance(found, Unknown):
        return "unknown", found.reason
    says = str(found)
    if says == active.is_:
        return "active", says
    known = not active.not_ or says in active.not_
    return ("not" if known else "unknown"), for_people(says)
