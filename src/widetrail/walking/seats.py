"""The seats of licences at a station: what is known of them, and writing down what happens.

Every machine has a ledger of its own, ``{state}/widetrail/seats/ledger``, a journal beyond runs:
what happened to a seat here, in whatever move. A parcel's logbook tells what happened elsewhere. A
seat is what both tell together. What an earlier move did here is adopted by a later one, and the
earlier one may do nothing more here then. Which move is the later one is told by its ``turn``: the
first record of a move has one more than any that its station knew, whatever clocks say.
"""

from __future__ import annotations

import shlex
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import asdict, dataclass
from datetime import datetime
from io import BytesIO
from typing import TYPE_CHECKING, Any, cast

from widetrail.errors import Halted, Waiting, WideTrailError
from widetrail.finding import Finder, Known, Unknown
from widetrail.finding.readings import take_reading
from widetrail.formats.outside import read_outside
from widetrail.formats.texts import for_people
from widetrail.licence.exchange import ANSWER, REQUEST, Exchange, wrong_answer
from widetrail.licence.seat import (
    Act,
    Adopted,
    Effect,
    Event,
    Gone,
    Purpose,
    Refuse,
    Seat,
    Told,
    Word,
    event_facts,
    meanwhile_of,
    replay,
    step,
    todo_of,
    words_of,
)
from widetrail.machine import Machine
from widetrail.machine.own import OWN_STATE
from widetrail.machine.paths import join
from widetrail.parcel import Parcel
from widetrail.parcel.parcel import SERIAL
from widetrail.parcel.seal import ENDING, HEADER, KEY, WrongPassphrase, open_seal, read_header
from widetrail.planning import Plan
from widetrail.planning.licences import another_edition
from widetrail.planning.sides import SeenSide
from widetrail.recipe.arms import reach
from widetrail.recipe.models import STATIONS, ActiveReading, Licence
from widetrail.steps import Asked
from widetrail.steps.commands import ANSWER_MADE
from widetrail.steps.running import OF_SEAT
from widetrail.walking.journal import Journal
from widetrail.walking.records import judge_seat

if TYPE_CHECKING:
    from widetrail.walking.doing import WalkDoing

ROOM = "seats"
SEAT = "seat"


class Ledger:
    """What happened to seats on one machine, in whatever move."""

    def __init__(self, machine: Machine) -> None:
        """Open the ledger of ``machine``, which need not be there.

        Raises:
            InputUnusable: It is damaged before its end.
        """
        self.room = join(machine.root("state"), OWN_STATE, ROOM)
        path = join(self.room, "ledger")
        self._machine = machine
        self.journal = Journal(machine.host(path), path, machine.effects, judge_seat)

    def of_run(self, run: str) -> list[dict[str, Any]]:
        """Return what happened here in a run, oldest first."""
        return [r for r in self.journal.records if r["run"] == run]

    def of_item(self, item: str) -> list[dict[str, Any]]:
        """Return what happened here to a seat in all runs, oldest first."""
        return [r for r in self.journal.records if r["item"] == item]

    def add(self, record: Mapping[str, Any]) -> None:
        """Write one record; it is durable then."""
        self._machine.effects.keep_private(self._machine.host(self.room))
        self.journal.add(record)


def record_of(
    parcel: Parcel, item: str, where: Mapping[str, Any], now: datetime, event: Event, after: Seat
) -> dict[str, Any]:
    """Return what a ledger and a logbook keep of something that happened to a seat.

    ``where`` has the title, the station with its machine and partner, the record's number and the
    move's turn.
    """
    act = after.act
    return {
        "event": SEAT,
        "run": parcel.run,
        "item": item,
        **where,
        "time": now.isoformat(timespec="seconds"),
        **event_facts(event),
        "stage": after.stage,
        "act": [act.purpose, act.phase, act.attempt] if act is not None else None,
        "attempts": after.attempts,
        "given up": after.given_up,
    }


def seat_in(facts: Mapping[str, Any]) -> Seat:
    """Return the seat that a record of a ledger tells."""
    act = facts["act"]
    given_up = bool(facts.get("given up"))
    return Seat(facts["stage"], Act(*act) if act else None, facts["attempts"], given_up)


def turn_of(records: Iterable[Mapping[str, Any]]) -> int:
    """Return the turn of the move that ``records`` tell of; 0 where there are none."""
    return max((int(r.get("turn", 0)) for r in records), default=0)


@dataclass(frozen=True, slots=True)
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

    def as_json(self) -> dict[str, Any]:
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
            told_of = replay(told), history
            lines.append(SeatLine(*names, *told_of, parcel=at, planned=planned, undone=undone))
    return tuple(lines)


def _other_way(parcel: Parcel, item: str, walk: str, old: str, new: str) -> str:
    """Return what is to be done next where a seat goes another way than was planned first."""
    done = {s for s, o in parcel.outcomes.items() if not {"failed", "waits"} & o.keys()}
    mine = (s for s in parcel.plan.steps if s.item == item and s.id not in done)
    acts = [(s.text("act"), s.station) for s in mine if s.text("act") in ("renounce", "gone")]
    if not acts:
        return ""
    act, station = acts[0]
    here, other = (old, new) if station == "old" else (new, old)
    if act == "renounce":
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
    for key in dict.fromkeys((r["run"], r["item"]) for r in records):
        mine = [r for r in records if (r["run"], r["item"]) == key]
        last, here = mine[-1], mine[-1]["machine"]
        old, new = (last["partner"], here) if last["station"] == "new" else (here, last["partner"])
        later = any(r["item"] == key[1] and turn_of([r]) > turn_of(mine) for r in records)
        lines.append(
            SeatLine(
                key[0], key[1], last["title"], old, new, seat_in(last),
                tuple(map(_happened, mine)), later,
            )
        )  # fmt: skip
    return tuple(lines)


def seat_as_told(parcel: Parcel, machines: Iterable[Machine], item: str) -> Seat:
    """Return a seat by all that is known: what a parcel tells, and what its stations tell still."""
    told = list(parcel.seats(item))
    known = {(r["station"], r["n"]) for r in told}
    for machine in machines:
        mine = Ledger(machine).of_run(parcel.run)
        told += [r for r in mine if r["item"] == item and (r["station"], r["n"]) not in known]
    return replay(told)


def _happened(record: Mapping[str, Any]) -> tuple[str, str, str]:
    return str(record["time"]), str(record["machine"]), _WORDS[record["what"]](record)


_SAID = {
    "active": "that it is active", "other": "that it is active by another seat",
    "not": "that it is not active", "unknown": "nothing clear",
}  # fmt: skip


_WORDS: Mapping[str, Callable[[Mapping[str, Any]], str]] = {
    "adopted": lambda r: "taken over from an earlier move",
    "noted": lambda r: "its serial was kept",
    "verified": lambda r: "all was seen to be ready",
    "begin": lambda r: f"its {r['purpose']} was begun; the program said {_SAID[r['word']]}",
    "requested": lambda r: "the request was made",
    "answered": lambda r: "the answer was fetched",
    "spoiled": lambda r: "the answer is to be fetched again",
    "broken": lambda r: "the command for it was cut off, or failed",
    "refused": lambda r: "it was refused",
    "shown": lambda r: f"the program said {_SAID[r['word']]}",
    "told": lambda r: f"the maker says that {r['holder']} holds it",
    "renounced": lambda r: "new will not claim it",
    "gone": lambda r: f"a person answers for it that {r['who']} is out",
    "settled": lambda r: "a person accepted it",
    "given up": lambda r: "the seat was given up",
    "taken up": lambda r: "the seat was taken up again",
}


class StationSeats:
    """The seats of a run at a station; see ``steps.interface.Seats``."""

    def __init__(self, doing: WalkDoing) -> None:
        self._doing, self._machine = doing, doing.machine
        self.ledger = Ledger(doing.machine)
        self.again: list[str] = []
        """Steps that are to be done again, though the logbook says that they came out well."""
        self._raised: dict[str, int] = {}

    @property
    def _run(self) -> str:
        return self._doing.parcel.run

    # What is known

    def untold(self) -> list[dict[str, Any]]:
        """Return what happened here in this run and is not in the logbook yet."""
        known = {(told["station"], told["n"]) for told in self._told()}
        mine = self.ledger.of_run(self._run)
        return [record for record in mine if (record["station"], record["n"]) not in known]

    def now(self, item: str) -> Seat:
        return replay(self.events(item))

    def events(self, item: str) -> list[Mapping[str, Any]]:
        """Return what happened to a seat in this run: what the parcel tells, then what is new."""
        fresh = [record for record in self.untold() if record["item"] == item]
        return [*self._doing.parcel.seats(item), *fresh]

    def happens(self, item: str, event: Event) -> tuple[Effect, ...]:
        before = self.now(item)
        after, effects = step(before, event)
        title = self._doing.planned(item).title
        if why := next((e.why for e in effects if isinstance(e, Refuse)), ""):
            seat, stations = self.now(item), map(self._doing.plan.station, STATIONS[:2])
            old, new = (station.machine for station in stations)
            folder = shlex.quote(str(self._doing.parcel.folder))
            raise Halted(
                f"{title}: that may not be done with the seat now", why=why,
                todo=todo_of(seat, old, new, folder, item) or f"See: {self.command('', item)}",
            )  # fmt: skip
        self.insist_newest(item)
        if after == before:
            return effects
        where = {
            "title": title,
            "station": self._doing.station,
            "machine": self._machine.name,
            "partner": self._doing.other(),
            "n": self._next_number(),
            "turn": self._turn(item),
        }
        record = record_of(self._doing.parcel, item, where, self._doing.now, event, after)
        if isinstance(event, Gone | Told):  # first where the parcel goes: nobody fetches an answer
            told = {"seats": [*self.untold(), record], "machine": self._machine.name}
            self._doing.parcel.tell_seats(told)
            self._doing.kept_so_far()
        self.ledger.add(record)
        return effects

    def _next_number(self) -> int:
        """Return a number that nothing that happened here in this run has yet."""
        told = (int(r["n"]) for r in self._told() if r["station"] == self._doing.station)
        return max([len(self.ledger.of_run(self._run)), *told]) + 1

    def _told(self) -> Iterator[Mapping[str, Any]]:
        """Give what the parcel tells of every seat."""
        for item in self._doing.plan.items:
            if item.kind == "licence":
                yield from self._doing.parcel.seats(item.id)

    def _turn(self, item: str) -> int:
        """Return the turn of this move: of its records, or one more than any that is known here."""
        mine = [*self._doing.parcel.seats(item), *self._mine(item)]
        return self._raised.get(item) or turn_of(mine) or turn_of(self.ledger.of_item(item)) + 1

    def _mine(self, item: str) -> list[dict[str, Any]]:
        return [r for r in self.ledger.of_run(self._run) if r["item"] == item]

    def insist_newest(self, item: str) -> None:
        """Raise where a later move of the seat has begun here: this one may do nothing more then.

        On old that is certain. On new it is not, where old was set up anew since and counts from
        one again: a person may know better.

        Raises:
            Halted: It has.
        """
        turn = self._turn(item)
        others = [r for r in self.ledger.of_item(item) if r["run"] != self._run]
        later = [r for r in others if turn_of([r]) >= turn]
        if not later:
            return
        last, title = later[-1], self._doing.planned(item).title
        known = f"a later move of it was begun here on {last['time']} (run {last['run']})"
        todo = (
            "Walk on with the parcel of that move, or plan the move again on "
            f"{self._doing.plan.station('old').machine} (widetrail plan)."
        )
        if self._doing.station == "new":
            todo += (
                " Where this move was planned after it all the same, walk again and answer "
                "this_move_counts: yes."
            )
        halted = Halted(
            f"{title}: this move may do nothing with the seat any more", why=known, todo=todo
        )
        words = f"{title}: {known}. Was this move planned after that one, and is that one over?"
        asked = Asked(self._doing.loaded(item).id, COUNTS, words, item, choices=("yes", "no"))
        if self._doing.station != "new" or self._doing.ask(asked) != "yes":
            raise halted
        self._raised[item] = turn_of(others) + 1

    def earlier(self, item: str) -> tuple[Adopted | None, str]:
        before = [r for r in self.ledger.of_item(item) if r["run"] != self._run]
        if not before or self._mine(item) or before[-1]["station"] == "new":
            return None, ""  # what came here as to the new machine, its program tells
        seat, partner = seat_in(before[-1]), str(before[-1]["partner"])
        if seat.act is not None:
            return Adopted(seat.stage, seat.act.purpose), partner
        if seat.stage not in ("released", "renounced", "claimed"):
            return None, ""
        return Adopted("claimed" if seat.stage == "claimed" else "released"), partner

    def was_left_open(self, item: str) -> bool:
        before = [r for r in self.ledger.of_item(item) if r["run"] != self._run]
        return bool(before) and seat_in(before[-1]).act is not None

    # The program and its serial

    def licence(self, item: str) -> Licence:
        return self._doing.loaded(item).recipe.licences[self._doing.planned(item).item]

    def word(self, item: str) -> tuple[Word, str]:
        finder, active = self._doing.finder(item), self.licence(item).active
        word, says = word_of(active, finder)
        kept = self._doing.secrets_by_scope.get((item, SERIAL))
        if word == "active" and kept is not None and self._serial_here(item) not in (None, kept):
            return "other", f"{says}, by another serial than the one that is moved"
        return word, says

    def is_own(self, item: str) -> bool:
        """Return whether it is certain that what the program here is active by is the seat that
        is moved: its serial is read here. A licence without serial is the only one there is."""
        reading = self.licence(item).serial
        kept = self._doing.secrets_by_scope.get((item, SERIAL))
        return reading is None or (kept is not None and self._serial_here(item) == kept)

    def _serial_here(self, item: str) -> str | None:
        reading = self.licence(item).serial
        found = self._doing.finder(item).take(reading) if reading is not None else None
        return str(found).strip() or None if isinstance(found, Known) else None

    def find_serial(self, item: str) -> str | None:
        return self._serial_here(item) or self._kept_before(item)

    def keep_serial(self, item: str, serial: str) -> None:
        parcel, effects = self._doing.parcel, self._machine.effects
        parcel.keep_serial(item, serial, self._doing.now)
        assert parcel.seal is not None
        folder = self._machine.host(self._doing.seat_room(item))
        effects.keep_private(folder)
        sealed = BytesIO()
        parcel.seal.close(BytesIO(serial.encode()), sealed)
        for name, data in (
            (HEADER, parcel.seal.header()),
            (KEY, read_outside(parcel.folder / KEY)),
            (f"{SERIAL}{ENDING}", sealed.getvalue()),
        ):
            if (folder / name).exists():
                effects.remove_file(folder / name)
            effects.put(folder / name, data, 0o600)
        self._doing.kept_so_far()

    def _kept_before(self, item: str) -> str | None:
        """Return the serial that an earlier move kept here, if there is one that can be opened."""
        runs = dict.fromkeys(str(r["run"]) for r in reversed(self.ledger.of_item(item)))
        for run in runs:
            folder = self._machine.host(self._doing.seat_room(item, run))
            if not (folder / f"{SERIAL}{ENDING}").is_file():
                continue
            words = f"Passphrase of the parcel of the earlier move {run}, which kept the serial"
            answer = self._doing.ask(Asked("parcel", "earlier_seal", words, secret=True))
            if not answer:
                raise Waiting(
                    "the serial is in what an earlier move kept here", why="it is sealed",
                    todo="Walk at a terminal, or give parcel.earlier_seal with --answers.",
                )  # fmt: skip
            return _opened(folder, answer)
        return None

    def knows_serial(self, item: str) -> bool:
        has_none = self.licence(item).serial is None
        return has_none or (item, SERIAL) in self._doing.secrets_by_scope

    def command(self, verb: str, item: str) -> str:
        folder = shlex.quote(str(self._doing.parcel.folder))
        return " ".join(filter(None, ("widetrail seat", verb, folder, item if verb else "")))

    def make_cargo_durable(self) -> None:
        if self._doing.writer is not None:
            self._doing.writer.commit()

    # Requests and answers

    def exchange(self, item: str, purpose: Purpose | None = None) -> Exchange:
        seat = self.now(item)
        act = seat.act if seat.act is not None and purpose in (None, seat.act.purpose) else None
        attempt = act.attempt if act is not None else seat.attempts + 1
        purpose = act.purpose if act is not None else purpose or "release"
        plan, application = self._doing.plan, self._doing.planned(item).recipe
        stations = {"claim": ("new", "old")}.get(purpose, ("old", "new"))
        machine, partner = (plan.station(cast(Any, s)).machine for s in stations)
        return Exchange(application, purpose, machine, partner, attempt)

    def wrong_answer(self, item: str) -> str:
        licence = self.licence(item)
        if licence.exchange is None:
            return ""
        about, folder = self.exchange(item), self._doing.room_for_made(item)
        path = join(folder, about.answer)
        if self._machine.look(path) is None:
            return f"there is no {about.answer} here"
        wanted = self._named_in(item, join(folder, about.request), "request")
        found = self._named_in(item, path, "answer")
        if found is None:
            return f"{about.answer} cannot be read as an answer"
        if wanted is None or found == wanted:
            return ""
        files = [(other.id, name) for other, name in self._exchanged()]
        known: dict[str, dict[str, str]] = {}
        for kind, ending in (("request", REQUEST), ("answer", ANSWER)):
            known[kind] = {
                value: name
                for of, name in files
                if name.endswith(ending)
                and (value := self._named_in(of, join(self._doing.room_for_made(of), name), kind))
            }
        return wrong_answer(about.answer, wanted, found, known["request"], known["answer"])

    def _exchanged(self) -> Iterator[tuple[Any, str]]:
        """Give every request and answer that is here, with the licence that it is of."""
        for item in self._doing.plan.items:
            if item.kind == "licence":
                folder = self._machine.host(self._doing.room_for_made(item.id))
                yield from ((item, path.name) for path in sorted(folder.iterdir()))

    def _named_in(self, item: str, path: str, kind: str) -> str | None:
        exchange = self.licence(item).exchange
        if exchange is None:
            return None
        found = take_reading(self._machine, getattr(exchange, kind), path, {})
        return None if isinstance(found, Unknown) else str(found)

    def have_again(self, item: str, purpose: Purpose) -> None:
        for planned in self._doing.plan.steps:
            if planned.item == item and planned.text(OF_SEAT) == purpose:
                self.again.append(planned.id)
                self._doing.record("to be done again", step=planned.id)

    def lacking(self, item: str) -> list[str]:
        doing, found = self._doing, list[str]()
        planned, finder = doing.planned(item), self._doing.finder(item)
        route = next(r for r in self.licence(item).routes if r.name == planned.route)
        if other := another_edition(route, SeenSide(finder)):
            found.append(f'the way "{route.name}" cannot be gone: {other}')
        for one in doing.plan.steps:
            if (one.item, one.station) == (item, "new") and one.text(OF_SEAT) == "claim":
                try:
                    doing.insist_known(one)
                except Waiting:
                    raise
                except Halted as error:
                    found.append(str(error))
        return list(dict.fromkeys(found))


def answer_steps(plan: Plan, item: str) -> list[str]:
    """Return the steps of a licence that fetch an answer."""
    return [s.id for s in plan.steps if s.item == item and s.writes == (ANSWER_MADE,)]


COUNTS = "this_move_counts"
"""What a person is asked where two moves of a seat met on new."""


def word_of(active: ActiveReading, finder: Finder) -> tuple[Word, str]:
    """Return what a program says of its own licence, with its words or why they are not known."""
    word, says = _word_of(active, finder)
    reach(finder.loaded, active, word)
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


def _opened(folder: Any, passphrase: str) -> str:
    """Return a serial that is kept sealed in ``folder``.

    Raises:
        WrongPassphrase: It is another one.
        Waiting: What is kept cannot be opened.
    """
    try:
        names = (HEADER, KEY, f"{SERIAL}{ENDING}")
        header, key, sealed = (read_outside(folder / name) for name in names)
        seal = open_seal(read_header(header, str(folder)), key, passphrase, str(folder / KEY))
        opened = BytesIO()
        seal.open(BytesIO(sealed), opened, str(folder))
    except WrongPassphrase:
        raise
    except (OSError, WideTrailError) as error:
        raise Waiting("what kept the serial cannot be opened", why=str(error)) from error
    return opened.getvalue().decode()
