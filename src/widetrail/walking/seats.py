"""The seats of licences at a station: what is known of them, and writing down what happens.

Every machine has a ledger of its own, ``{state}/widetrail/seats/ledger``, a journal beyond runs:
what happened to a seat here, in whatever move. A parcel's logbook tells what happened elsewhere. A
seat is what both tell together. What an earlier move did here is adopted by a later one, and the
earlier one may do nothing more here then.
"""

from __future__ import annotations

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
    Stage,
    Word,
    event_facts,
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
from widetrail.recipe.arms import reach
from widetrail.recipe.models import STATIONS, ActiveReading, Licence
from widetrail.steps import Asked
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


def set_out_of(parcel: Parcel) -> str:
    """Return when a parcel was set out, by which moves of one seat are told apart."""
    return str(parcel.generations[0].body["time"])


def record_of(
    parcel: Parcel, item: str, where: Mapping[str, Any], now: datetime, event: Event, after: Seat
) -> dict[str, Any]:
    """Return what a ledger and a logbook keep of something that happened to a seat.

    ``where`` has the title, the station with its machine and partner, and the record's number.
    """
    act = after.act
    return {
        "event": SEAT,
        "run": parcel.run,
        "set out": set_out_of(parcel),
        "item": item,
        **where,
        "time": now.isoformat(timespec="seconds"),
        **event_facts(event),
        "stage": after.stage,
        "act": [act.purpose, act.phase, act.attempt] if act is not None else None,
        "attempts": after.attempts,
    }


def seat_in(facts: Mapping[str, Any]) -> Seat:
    """Return the seat that a record of a ledger tells."""
    act = facts["act"]
    return Seat(facts["stage"], Act(*act) if act else None, facts["attempts"])


@dataclass(frozen=True, slots=True)
class SeatLine:
    """What is known of one seat: where it goes, how it stands, what happened, what to do next.

    ``history`` has the time, machine and words of each thing that happened, oldest first.
    """

    run: str
    item: str
    title: str
    old: str
    new: str
    seat: Seat
    history: tuple[tuple[str, str, str], ...]
    at_end: bool = False

    @property
    def words(self) -> str:
        """How it stands."""
        return words_of(self.seat)

    @property
    def todo(self) -> str:
        """What to do next, or an empty text."""
        return "" if self.at_end else todo_of(self.seat, self.old, self.new)

    def as_json(self) -> dict[str, Any]:
        """Return the line as plain JSON values."""
        told = {"run": self.run, "item": self.item, "title": self.title, "old": self.old}
        act = asdict(self.seat.act) if self.seat.act is not None else None
        seat = {"stage": self.seat.stage, "act": act, "in_doubt": self.seat.in_doubt}
        words = {"words": self.words, "todo": self.todo or None}
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
            line = SeatLine(parcel.run, item.id, item.title, old, new, replay(told), history)
            lines.append(line)
    return tuple(lines)


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
        later = any(r["item"] == key[1] and r["set out"] > last["set out"] for r in records)
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


_SAID = {"active": "that it is active", "not": "that it is not active", "unknown": "nothing clear"}


_WORDS: Mapping[str, Callable[[Mapping[str, Any]], str]] = {
    "adopted": lambda r: "taken over from an earlier move",
    "noted": lambda r: "its serial was kept",
    "verified": lambda r: "all was seen to be ready",
    "begin": lambda r: f"its {r['purpose']} was begun; the program said {_SAID[r['word']]}",
    "requested": lambda r: "the request was made",
    "answered": lambda r: "the answer was fetched",
    "broken": lambda r: "the command for it was cut off, or failed",
    "refused": lambda r: "it was refused",
    "shown": lambda r: f"the program said {_SAID[r['word']]}",
    "told": lambda r: f"the maker says that {r['holder']} holds it",
    "renounced": lambda r: "new will not claim it",
    "gone": lambda r: f"a person answers for it that {r['who']} is out",
    "settled": lambda r: "a person accepted it",
    "given up": lambda r: "a person gave it up",
}


class StationSeats:
    """The seats of a run at a station; see ``steps.interface.Seats``."""

    def __init__(self, doing: WalkDoing) -> None:
        self._doing, self._machine = doing, doing.machine
        self.ledger = Ledger(doing.machine)
        self.again: list[str] = []
        """Steps that are to be done again, though the logbook says that they came out well."""

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
        why = next((e.why for e in effects if isinstance(e, Refuse)), "") or self._overtaken(item)
        title = self._doing.planned(item).title
        if why:
            raise Halted(
                f"{title}: that may not be done with the seat now", why=why,
                todo=f"See: widetrail seat {self._doing.parcel.folder}",
            )  # fmt: skip
        if after == before:
            return effects
        where = {
            "title": title,
            "station": self._doing.station,
            "machine": self._machine.name,
            "partner": self._doing.other(),
            "n": self._next_number(),
        }
        record = record_of(self._doing.parcel, item, where, self._doing.now, event, after)
        record = self._doing.masker.mask_all(record)
        if isinstance(event, Gone):  # first where the parcel goes, so that nobody fetches an answer
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

    def _overtaken(self, item: str) -> str:
        """Return why this run may do nothing with a seat: a later move of it has begun here."""
        later = [r for r in self.ledger.of_item(item) if r["run"] != self._run]
        later = [r for r in later if r["set out"] > set_out_of(self._doing.parcel)]
        return f"a later move of it was begun here on {later[-1]['time']}" if later else ""

    def earlier(self, item: str) -> tuple[Adopted | None, str]:
        before = [r for r in self.ledger.of_item(item) if r["run"] != self._run]
        if not before or self.ledger.of_run(self._run):
            return None, ""
        seat, partner = seat_in(before[-1]), str(before[-1]["partner"])
        if seat.act is not None:  # on old that is a release or a return
            return Adopted(seat.stage, seat.act.purpose), partner
        adopted: Mapping[Stage, Stage] = {
            "released": "released", "renounced": "released", "claimed": "claimed",
        }  # fmt: skip
        if seat.stage not in adopted:
            return None, ""
        return Adopted(adopted[seat.stage]), partner

    # The program and its serial

    def licence(self, item: str) -> Licence:
        return self._doing.loaded(item).recipe.licences[self._doing.planned(item).item]

    def word(self, item: str) -> tuple[Word, str]:
        finder, active = self._asking(item), self.licence(item).active
        return word_of(active, finder)

    def _asking(self, item: str) -> Finder:
        """Return a finder that may start the program to hear what it says."""
        finder = self._doing.finder(item)
        finder.ask_programs = True
        return finder

    def find_serial(self, item: str) -> str | None:
        found = self._asking(item).take(self.licence(item).serial)
        if isinstance(found, Known) and str(found).strip():
            return str(found).strip()
        return self._kept_before(item)

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
        return (item, SERIAL) in self._doing.secrets_by_scope

    def make_cargo_durable(self) -> None:
        if self._doing.writer is not None:
            self._doing.writer.commit()

    # Requests and answers

    def exchange(self, item: str) -> Exchange:
        act = self.now(item).act
        purpose: Purpose = act.purpose if act is not None else "release"
        attempt = act.attempt if act is not None else 1
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
