"""The seats of a run at a station; see ``steps.interface.Seats``."""

from __future__ import annotations

import shlex
from collections.abc import Iterator
from io import BytesIO
from typing import TYPE_CHECKING

from widetrail.errors import Halted, Waiting, WideTrailError
from widetrail.finding import Known, Unknown
from widetrail.finding.readings import take_reading
from widetrail.formats.outside import SafePath, read_outside
from widetrail.licence.exchange import ANSWER, REQUEST, Exchange, wrong_answer
from widetrail.licence.seat import Effect, Refuse, replay, step
from widetrail.licence.seat_events import Adopted, Event, Gone, Seat, Told
from widetrail.licence.seat_words import todo_of
from widetrail.licence.terms import Purpose, Word
from widetrail.machine.paths import join
from widetrail.parcel.layout import SERIAL
from widetrail.parcel.seal import ENDING, HEADER, KEY, WrongPassphrase, open_seal, read_header
from widetrail.parcel.seat_record import SeatPlace, SeatRecord, seat_record, turn_of
from widetrail.planning import PlannedItem
from widetrail.planning.licences import another_edition
from widetrail.planning.station_facts import SeenSide
from widetrail.recipe.licence_models import Licence
from widetrail.recipe.routes import STATIONS
from widetrail.steps import Asked
from widetrail.steps.journal_events import ToBeDoneAgain
from widetrail.walking.seats import (
    Ledger,
    word_of,
)

if TYPE_CHECKING:
    from widetrail.walking.step_context import WalkDoing


COUNTS = "this_move_counts"
"""What a person is asked where two moves of a seat met on new."""


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

    @property
    def _at(self) -> str:
        """What commands call the parcel."""
        return shlex.quote(str(self._doing.parcel.folder))

    # What is known

    def untold(self) -> list[SeatRecord]:
        """Return what happened here in this run and is not in the logbook yet."""
        known = {told.key for told in self._told()}
        mine = self.ledger.of_run(self._run)
        return [record for record in mine if record.key not in known]

    def now(self, item: str) -> Seat:
        """Return a seat by what the parcel tells, then by what is new here."""
        fresh = [record for record in self.untold() if record.item == item]
        told = *self._doing.parcel.seats(item), *fresh
        return replay(record.happened for record in told)

    def happens(self, item: str, event: Event) -> tuple[Effect, ...]:
        before = self.now(item)
        after, effects = step(before, event)
        title = self._doing.planned(item).title
        if why := next((e.why for e in effects if isinstance(e, Refuse)), ""):
            stations = map(self._doing.plan.station, STATIONS[:2])
            old, new = (station.machine for station in stations)
            raise Halted(
                f"{title}: that may not be done with the seat now",
                why=why,
                todo=todo_of(before, old, new, self._at, item) or f"See: {self.command('', item)}",
            )
        self.insist_newest(item)
        if after == before:
            return effects
        where = SeatPlace(
            title,
            self._doing.station,
            self._machine.name,
            self._doing.other(),
            self._next_number(),
            self._turn(item),
        )
        time = self._doing.now.isoformat(timespec="seconds")
        record = seat_record(self._run, item, where, time, event, after)
        if isinstance(event, Gone | Told):  # first where the parcel goes: nobody fetches an answer
            self._doing.parcel.tell_seats([*self.untold(), record], self._machine.name)
            self._doing.kept_so_far()
        self.ledger.add(record)
        return effects

    def _next_number(self) -> int:
        """Return a number that nothing that happened here in this run has yet."""
        told = (r.n for r in self._told() if r.station == self._doing.station)
        return max([len(self.ledger.of_run(self._run)), *told]) + 1

    def _told(self) -> Iterator[SeatRecord]:
        """Give what the parcel tells of every seat."""
        for item in self._doing.plan.items:
            if item.kind == "licence":
                yield from self._doing.parcel.seats(item.id)

    def _turn(self, item: str) -> int:
        """Return the turn of this move: of its records, or one more than any that is known here."""
        mine = [*self._doing.parcel.seats(item), *self._mine(item)]
        return self._raised.get(item) or turn_of(mine) or turn_of(self.ledger.of_item(item)) + 1

    def _mine(self, item: str) -> list[SeatRecord]:
        return [r for r in self.ledger.of_run(self._run) if r.item == item]

    def insist_newest(self, item: str) -> None:
        """Raise where a later move of the seat has begun here: this one may do nothing more then.

        On old that is certain. On new it is not, where old was set up anew since and counts from
        one again: a person may know better.

        Raises:
            Halted: It has.
        """
        turn = self._turn(item)
        others = [r for r in self.ledger.of_item(item) if r.run != self._run]
        later = [r for r in others if r.turn >= turn]
        if not later:
            return
        last, title = later[-1], self._doing.planned(item).title
        known = f"a later move of it was begun here on {last.time} (run {last.run})"
        todo = (
            "Walk on with the parcel of that move, or plan the move again on "
            f"{self._doing.plan.station('old').machine} (widetrail plan)."
        )
        if self._doing.station == "new":
            todo += (
                " Where this move was planned after it all the same, walk again "
                f"({self.walk()}) and answer this_move_counts: yes."
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
        before = [r for r in self.ledger.of_item(item) if r.run != self._run]
        if not before or self._mine(item) or before[-1].station == "new":
            return None, ""  # what came here as to the new machine, its program tells
        seat, partner = before[-1].seat, before[-1].partner
        if seat.act is not None:
            return Adopted(seat.stage, seat.act.purpose), partner
        if seat.stage not in ("released", "renounced", "claimed"):
            return None, ""
        return Adopted("claimed" if seat.stage == "claimed" else "released"), partner

    def was_left_open(self, item: str) -> bool:
        before = [r for r in self.ledger.of_item(item) if r.run != self._run]
        return bool(before) and before[-1].seat.act is not None

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
        runs = dict.fromkeys(r.run for r in reversed(self.ledger.of_item(item)))
        for run in runs:
            folder = self._machine.host(self._doing.seat_room(item, run))
            if not (folder / f"{SERIAL}{ENDING}").is_file():
                continue
            words = f"Passphrase of the parcel of the earlier move {run}, which kept the serial"
            answer = self._doing.ask(Asked("parcel", "earlier_seal", words, secret=True))
            if not answer:
                raise Waiting(
                    "the serial is in what an earlier move kept here",
                    why="it is sealed",
                    todo="Walk at a terminal, or give parcel.earlier_seal with --answers.",
                )
            return _opened(folder, answer)
        return None

    def knows_serial(self, item: str) -> bool:
        has_none = self.licence(item).serial is None
        return has_none or (item, SERIAL) in self._doing.secrets_by_scope

    def walk(self) -> str:
        return f"widetrail walk {self._at}{self._doing.plan.said_as(self._doing.station)}"

    def command(self, verb: str, item: str) -> str:
        return " ".join(filter(None, ("widetrail seat", verb, self._at, item if verb else "")))

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
        old, new = (plan.station(station).machine for station in STATIONS[:2])
        machine, partner = (new, old) if purpose == "claim" else (old, new)
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

    def _exchanged(self) -> Iterator[tuple[PlannedItem, str]]:
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
            if planned.item == item and planned.purpose_is(purpose):
                self.again.append(planned.id)
                self._doing.record(ToBeDoneAgain(step=planned.id))

    def lacking(self, item: str) -> list[str]:
        doing, found = self._doing, list[str]()
        planned, finder = doing.planned(item), self._doing.finder(item)
        route = next(r for r in self.licence(item).routes if r.name == planned.route)
        if other := another_edition(route, SeenSide(finder)):
            found.append(f'the route "{route.name}" cannot be taken: {other}')
        for one in doing.plan.steps:
            if (one.item, one.station) == (item, "new") and one.purpose_is("claim"):
                try:
                    doing.insist_known(one)
                except Waiting:
                    raise
                except Halted as error:
                    found.append(str(error))
        return list(dict.fromkeys(found))


def _opened(folder: SafePath, passphrase: str) -> str:
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
