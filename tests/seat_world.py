"""A small world around the seat machine, all of whose states can be visited.

It holds what the world is (the service and both programs), what each station and each copy of the
parcel knows, and a walker who may be cut off at any moment. The service grants whatever is asked,
so that nothing but the engine's own discipline keeps a seat from being active twice; a ``strict``
one counts, and keeps no answers, so that what is asked for again is refused. Clocks do not matter:
which of two moves is the later one is told by the turn that it takes on old.
"""

from __future__ import annotations

import os
from collections import deque
from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from typing import Any, Literal, NamedTuple

from widetrail.licence.seat import Do, Refuse, finished, step
from widetrail.licence.seat_events import (
    Act,
    Adopted,
    Answered,
    Begin,
    Broken,
    Event,
    GivenUp,
    Gone,
    Noted,
    Refused,
    Renounced,
    Requested,
    Seat,
    Shown,
    TakenUp,
    Told,
    Verified,
)
from widetrail.licence.seat_words import todo_of
from widetrail.licence.terms import AT, BEGINS, ENDS, Holder, Purpose, Word

Program = Literal["active", "other", "not", "unsure"]
Side = Literal["old", "new"]
Ran = Literal["no", "started", "well"]
SIDES: tuple[Side, ...] = ("old", "new")
HOLDERS: tuple[Holder, ...] = ("old", "new", "nobody")


class Parcel(NamedTuple):
    """One copy of the parcel: what it knows, and the turn of its move, 0 until that was begun.

    ``stale`` are the stations that saw a later state of the parcel than this copy, and refuse it;
    ``answer`` is what the answer in it answers, of those that were ``issued``; ``back`` tells that
    the plan is to return, ``asked`` what the request in it asks for; ``run`` tells moves that were
    not begun from each other.
    """

    seat: Seat
    serial: bool = False
    stale: frozenset[Side] = frozenset()
    move: int = 0
    answer: Purpose | None = None
    issued: frozenset[Purpose] = frozenset()
    asked: Purpose | None = None
    back: bool = False
    run: int = 0


class Station(NamedTuple):
    """A machine: its program, what its ledger knows beyond the parcel, and the move it is in."""

    program: Program
    untold: Seat | None = None
    last: Seat = Seat()
    move: int = 0
    ran: Ran = "no"
    asked: bool = False
    alive: bool = True


class World(NamedTuple):
    """Everything, at one moment; ``luck`` is how many misfortunes there may be still."""

    holders: frozenset[Side] = frozenset({"old"})
    old: Station = Station("active")
    new: Station = Station("not")
    parcels: tuple[Parcel, ...] = (Parcel(Seat()),)
    at: tuple[Side | Literal["between"], int] | None = None
    luck: int = 2
    answered: frozenset[Purpose] = frozenset()
    """What the maker did already of the requests that are carried: it does them once."""

    by_hand: bool = False
    """Whether a person made a machine active alone: what is double then is theirs."""

    lied: bool = False
    """Whether the maker or a person said what is not so, and nothing that can be asked said
    otherwise: what is double then is theirs too."""

    def station(self, side: Side) -> Station:
        return self.old if side == "old" else self.new

    def with_station(self, side: Side, **changes: Any) -> World:
        station = self.station(side)._replace(**changes)
        return self._replace(old=station) if side == "old" else self._replace(new=station)

    def with_parcel(self, number: int, parcel: Parcel) -> World:
        parcels = (*self.parcels[:number], parcel, *self.parcels[number + 1 :])
        return self._replace(parcels=parcels)

    def unlucky(self, **changes: Any) -> World:
        """Return the world after a misfortune."""
        return self._replace(luck=self.luck - 1, **changes)

    def tidy(self, *, odd: bool) -> World:
        """Return the same world without what nothing depends on any more."""
        world = self
        if self.at is None and len(self.parcels) > 1:
            world = self._replace(parcels=tuple(sorted(self.parcels, key=hash)))
        last = world.new.last
        if last != Seat() and (not odd or last.act is None):
            world = world.with_station("new", last=Seat())
        return world

    @property
    def truth(self) -> Holder:
        """What the maker says."""
        return "new" if "new" in self.holders else "old" if "old" in self.holders else "nobody"


class Move(NamedTuple):
    """One thing that happens: in words, what comes of it, and which edge of the seat it walked."""

    words: str
    world: World
    edge: tuple[Seat, Event, Seat] | None = None
    ran: Purpose | None = None


def word_of(station: Station) -> Word:
    return "unknown" if station.program == "unsure" else station.program


def plain(seat: Seat) -> Seat:
    """Return a seat without the number of its attempts, so that there are few of them."""
    act = replace(seat.act, attempt=1) if seat.act is not None else None
    return Seat(seat.stage, act, 0, seat.given_up)


class Explorer:
    """Gives every move of a world; ``errand`` tells that requests and answers are carried."""

    def __init__(
        self, *, errand: bool, packing: bool, odd: bool = False, strict: bool = False
    ) -> None:
        """``odd`` has the misfortunes be those that nobody expects, in the place of the usual."""
        self.errand, self.packing, self.odd, self.strict = errand, packing, odd, strict

    def moves(self, world: World) -> Iterator[Move]:
        if world.at is None:
            yield from self._between_visits(world)
            yield from self._people(world)
            return
        yield Move("cut off", world._replace(at=None))
        side, number = world.at
        if side == "between":
            yield from self._errand(world, number)
        else:
            yield from self._visit(world, side, number)

    # Outside a visit

    def _between_visits(self, world: World) -> Iterator[Move]:
        for number, parcel in enumerate(world.parcels):
            for side in SIDES:
                if self._may_visit(world.station(side), parcel, side):
                    yield Move(f"walk on {side}", self._arrive(world, side, number))
            if self.errand and parcel.asked is not None:
                yield Move("walk between", world._replace(at=("between", number)))
            if world.luck and not self.odd:
                gone = (*world.parcels[:number], *world.parcels[number + 1 :])
                yield Move("the medium is lost", world.unlucky(parcels=gone))
            if world.luck and len(world.parcels) < 2:
                more = (*world.parcels, parcel)
                if not self.odd:
                    yield Move("the medium is copied", world.unlucky(parcels=more))
                more = (*world.parcels, Parcel(Seat(), run=1))
                if self.odd:
                    yield Move("planned a second time at once", world.unlucky(parcels=more))
            yield from self._given_up(world, number)
            if parcel.seat.given_up:
                continue
            if parcel.seat.stage in ("released", "claimed", "renounced"):
                other = "on again" if parcel.back else "back"
                yield Move(other, world.with_parcel(number, parcel._replace(back=not parcel.back)))
            for other in sorted(parcel.issued - {parcel.answer}):
                swapped = world.with_parcel(number, parcel._replace(answer=other))
                act = parcel.seat.act
                if act is not None and act.purpose == other:
                    yield Move("the right answer is put in its place", swapped)
                elif world.luck:
                    yield Move("answers swapped", swapped.unlucky())
        newest = max(world.old.move, world.new.move)
        usable = any(not p.stale and p.move in (0, newest) for p in world.parcels)
        if not usable and world.old.alive:
            yield Move("planned again", world._replace(parcels=(Parcel(Seat()),)))

    def _given_up(self, world: World, number: int) -> Iterator[Move]:
        """Give up a seat and take it up again, as ``seat give-up``, ``claim`` and ``return`` do."""
        parcel = world.parcels[number]
        event = TakenUp() if parcel.seat.given_up else GivenUp()
        known = plain(step(parcel.seat, event)[0])
        then = world.with_parcel(number, parcel._replace(seat=known))
        edge = (plain(parcel.seat), event, known)
        if parcel.seat.given_up:
            yield Move("taken up again", then, edge)
        if parcel.seat.given_up:
            return
        if self.odd and world.luck and parcel.seat.stage != "known" and not parcel.seat.at_end:
            yield Move("given up", then.unlucky(), edge)

    def _may_visit(self, station: Station, parcel: Parcel, side: Side) -> bool:
        if not parcel.move:  # a move begins on old
            return station.alive and side == "old"
        return station.alive and parcel.move >= station.move and side not in parcel.stale

    def _arrive(self, world: World, side: Side, number: int) -> World:
        parcel, station = world.parcels[number], world.station(side)
        if parcel.move > station.move:  # a later move: what this station had begun is over
            world = world.with_station(side, move=parcel.move, untold=None, ran="no", asked=False)
        return world._replace(at=(side, number))

    def _begun(self, world: World, number: int) -> World:
        """Return the world with the turn of a move taken, which its first record on old takes."""
        parcel, turn = world.parcels[number], world.old.move + 1
        if parcel.move:
            return world
        mine = [not p.move and p.run == parcel.run for p in world.parcels]
        parcels = zip(world.parcels, mine, strict=True)
        world = world._replace(
            parcels=tuple(p._replace(move=turn, run=0) if own else p for p, own in parcels)
        )
        return world.with_station("old", move=turn, untold=None, ran="no", asked=False)

    def _people(self, world: World) -> Iterator[Move]:
        for side in SIDES:
            if not world.station(side).alive and side in world.holders:
                taken = world._replace(holders=world.holders - {side})
                yield Move(f"the maker takes the seat from {side}, which is gone", taken)
            there, program = world.station(side).alive, world.station(side).program
            if there and program == "other":
                out = world.with_station(side, program="not")
                yield Move(f"the other licence is taken out on {side}", out)
            if self.odd and there and program == "active" and side not in world.holders:
                out = world.with_station(side, program="not")
                yield Move(f"the licence is taken out of the program on {side}", out)
        active = [s for s in SIDES if world.station(s).program == "active"]
        known = [s.untold for s in (world.old, world.new) if s.untold is not None]
        known += [p.seat for p in world.parcels]
        open_ones = [s for s in known if s.in_doubt or s.stage in ("released", "renounced")]
        asks = open_ones and not any(seat.at_end for seat in known)
        if self.strict and world.holders and not active and asks:
            yield Move(
                "the maker frees the seat, as the letter asks", world._replace(holders=frozenset())
            )
        if world.luck:
            yield from self._odd_people(world) if self.odd else self._usual_people(world)

    def _odd_people(self, world: World) -> Iterator[Move]:
        if world.new.alive and world.new.program == "not":
            other = world.with_station("new", program="other")
            yield Move("new gets another licence", other.unlucky())
        if self.strict and world.old.program == "active" and world.old.alive:
            lost = world.with_station("old", program="not")
            yield Move("old's program forgets its licence", lost.unlucky())

    def _usual_people(self, world: World) -> Iterator[Move]:
        if world.old.alive and world.holders != {"old"}:
            wiped = world.with_station("old", alive=False, program="not")
            yield Move("old is wiped", wiped.unlucky())
        if world.new.alive:
            dead = world.with_station("new", alive=False, program="not")
            yield Move("new breaks", dead.unlucky())
        if world.old.program == "active" and not world.by_hand:
            freed = world.with_station("old", program="not")
            theirs = world.by_hand or world.old.last.stage in ("renounced", "returned")
            freed = freed.unlucky(holders=world.holders - {"old"}, by_hand=theirs)
            yield Move("a person releases alone", freed)
        for side in SIDES:
            free = not world.holders and world.station(side).alive
            if free and world.station(side).program == "not":
                claimed = world.with_station(side, program="active")
                claimed = claimed.unlucky(by_hand=True, holders=frozenset({side}))
                yield Move(f"a person claims alone on {side}", claimed)

    # Within a visit

    def _seat(self, world: World, side: Side, number: int) -> Seat:
        parcel, station = world.parcels[number], world.station(side)
        mine = station.untold if parcel.move == station.move else None
        return parcel.seat if mine is None or parcel.seat.given_up else mine

    def _happens(
        self, world: World, side: Side, number: int, event: Event, words: str
    ) -> Move | None:
        """Give the move by which an event is written down, unless the machine refuses it."""
        seat = self._seat(world, side, number)
        after, effects = step(seat, event)
        if any(isinstance(e, Refuse) for e in effects):
            return None
        after = plain(after)
        if after == plain(seat):
            return Move(words, world, (plain(seat), event, after))
        world = self._begun(world, number)
        then = world.with_station(side, untold=after, last=after)
        return Move(words, then, (plain(seat), event, after))

    def _visit(self, world: World, side: Side, number: int) -> Iterator[Move]:
        parcel, station = world.parcels[number], world.station(side)
        seat, word = self._seat(world, side, number), word_of(station)
        yield self._leave(world, side, number)
        if seat.given_up:  # the plan has nothing to do with it
            return
        events: list[tuple[Event, str]] = []
        if side == "old" and seat.stage == "known":
            adopted = self._adopted(world) if seat == Seat() and word != "active" else None
            if adopted is None and word == "not" and seat == Seat():
                adopted = {
                    "nobody": Adopted("released"),
                    "new": Adopted("released", "claim"),
                    "old": None,
                }[world.truth]
                if adopted is None:  # what the program and the maker say cannot both be so
                    return
            if adopted is not None:
                events.append((adopted, "taken over"))
            else:
                kept = self._with_serial(world, number)
                move = self._happens(kept, side, number, Noted(), "the serial is kept")
                if move is not None:
                    yield move
        if side == "old" and seat.stage != "known" and not parcel.serial:
            yield Move("the serial is kept", self._with_serial(world, number))
            return
        unfit = side == "new" and word in ("active", "other")
        if (
            seat.stage == "noted"
            and (side == "new") != self.packing
            and parcel.serial
            and not unfit
        ):
            events.append((Verified(), "seen to be ready"))
        if seat.in_doubt and seat.act is not None and AT[seat.act.purpose] == side:
            told = Told(world.truth, side, word)
            yield from self._in_parcel_first(world, side, number, told, "the maker tells")
        if world.luck and self.odd:
            yield from self._errs(world, side, number)
        doubted = side == "new" and station.last.act is not None and seat.act is None
        free = (word == "not" and not doubted) or (
            word in ("not", "unknown") and "new" not in world.holders
        )
        if parcel.back and seat.act is None and side == "new" and free:
            # by the program, or by the word of a person, who answers for open requests too
            renounced = self._happens(world, side, number, Renounced("not"), "renounced")
            if renounced is not None:
                others = tuple(
                    p if p.move == parcel.move else _without_claim(p)
                    for p in renounced.world.parcels
                )
                yield renounced._replace(world=renounced.world._replace(parcels=others))
        if parcel.back and side == "old" and not world.new.alive and "new" not in world.holders:
            words = "a person answers for new"
            yield from self._in_parcel_first(world, side, number, Gone("new"), words)
        if side == "new" and not world.old.alive and "old" not in world.holders:
            words = "a person answers for old"
            for gone in self._in_parcel_first(world, side, number, Gone("old"), words):
                known = gone.world.parcels[number]._replace(back=False)
                yield gone._replace(world=gone.world.with_parcel(number, known))
        for event, words in events:
            move = self._happens(world, side, number, event, words)
            if move is not None:
                yield move
        purpose = self._purpose(side, seat, back=parcel.back)
        if purpose is not None:
            yield from self._act(world, side, number, purpose)

    def _in_parcel_first(
        self, world: World, side: Side, number: int, event: Event, words: str
    ) -> Iterator[Move]:
        """Give the move of an event that the parcel tells at once, so that nobody goes on."""
        move = self._happens(world, side, number, event, words)
        if move is not None and move.edge is not None:
            known = move.world.parcels[number]._replace(seat=move.edge[2])
            yield move._replace(world=move.world.with_parcel(number, known))

    def _errs(self, world: World, side: Side, number: int) -> Iterator[Move]:
        """Give what the maker, or a person, says that is not so."""
        parcel, seat = world.parcels[number], self._seat(world, side, number)
        word = word_of(world.station(side))
        for holder in HOLDERS if not seat.given_up else ():
            true = holder == world.truth
            event, words = Told(holder, side, word), f"the maker says, unasked: {holder}"
            for told in self._in_parcel_first(world, side, number, event, words):
                if told.edge is not None and told.edge[0] != told.edge[2]:
                    yield told._replace(world=told.world.unlucky(lied=world.lied or not true))
        for who in SIDES:
            if who != side and world.station(who).alive and parcel.back == (who == "new"):
                words = f"{who} is said to be gone"
                for lie in self._in_parcel_first(world, side, number, Gone(who), words):
                    if lie.edge is not None and lie.edge[0] != lie.edge[2]:
                        then = lie.world.unlucky(lied=True)
                        # what the other had begun is void
                        yield lie._replace(world=then.with_station(who, untold=None))

    def _with_serial(self, world: World, number: int) -> World:
        """Keep the serial: the parcel's logbook tells it at once, so other copies are stale now."""
        world = self._begun(world, number)
        move = world.parcels[number].move
        parcels = tuple(
            p._replace(serial=True)
            if n == number
            else p._replace(stale=p.stale | {"old"} if p.move == move else p.stale)
            for n, p in enumerate(world.parcels)
        )
        return world._replace(parcels=parcels)

    def _purpose(self, side: Side, seat: Seat, *, back: bool) -> Purpose | None:
        if side == "new":
            return None if back and seat.act is None else "claim"
        if seat.stage == "renounced" or (seat.act is not None and seat.act.purpose == "return"):
            return "return" if back else None
        return "release"

    def _adopted(self, world: World) -> Adopted | None:
        last = world.old.last
        if last.act is not None:
            return Adopted(last.stage, last.act.purpose)
        if last.stage in ("released", "renounced"):
            return Adopted("released")
        return Adopted("claimed") if last.stage == "claimed" else None

    def _leave(self, world: World, side: Side, number: int) -> Move:
        """The leg ends: the parcel's logbook tells all that the station knew."""
        untold, move = world.station(side).untold, world.parcels[number].move
        if (
            untold is None
            or move != world.station(side).move
            or world.parcels[number].seat.given_up
        ):
            return Move("nothing to do", world._replace(at=None))
        asked = untold.act.purpose if untold.act and world.station(side).asked else None
        parcels = tuple(
            p._replace(seat=untold, asked=asked)
            if n == number
            else p._replace(stale=p.stale | {side} if p.move == move else p.stale)
            for n, p in enumerate(world.parcels)
        )
        then = world._replace(parcels=parcels, at=None)
        return Move("the leg ends", then.with_station(side, untold=None))

    # An act

    def _act(self, world: World, side: Side, number: int, purpose: Purpose) -> Iterator[Move]:
        station = world.station(side)
        seat, word = self._seat(world, side, number), word_of(station)
        act = seat.act
        if act is None:
            begun = self._happens(world, side, number, Begin(purpose, word), f"{purpose} begins")
            if begun is not None and begun.edge is not None and begun.edge[2] != plain(seat):
                fresh = begun.world._replace(answered=world.answered - {purpose})
                fresh = fresh.with_parcel(number, world.parcels[number]._replace(answer=None))
                began = begun.edge[2]
                if purpose == "claim" and station.last.act is not None and began.act is not None:
                    began = plain(step(began, Broken())[0])  # an earlier move left it in doubt
                    fresh = fresh.with_station(side, untold=began, last=began)
                yield begun._replace(world=fresh.with_station(side, ran="no", asked=False))
            return
        if act.purpose != purpose:
            return
        after, effects = step(seat, Begin(purpose, word))
        may = any(isinstance(effect, Do) for effect in effects)
        if plain(after) != plain(seat) and station.ran == "no":
            yield from self._written(world, side, number, Begin(purpose, word), "done already")
            return
        if station.ran == "started" and not seat.in_doubt:  # it was cut off
            yield from self._written(world, side, number, Broken(), "seen to be cut off")
            return
        if seat.in_doubt and finished(purpose, word):
            yield from self._written(world, side, number, Shown(word), "the program tells")
            return
        if station.ran == "well":
            yield from self._written(world, side, number, Shown(word), "seen in the program")
            return
        if may:
            yield from self._run(world, side, number, purpose, act)

    def _written(
        self, world: World, side: Side, number: int, event: Event, words: str
    ) -> Iterator[Move]:
        move = self._happens(world, side, number, event, words)
        if move is not None:
            yield move._replace(world=move.world.with_station(side, ran="no"))

    def _run(
        self, world: World, side: Side, number: int, purpose: Purpose, act: Act
    ) -> Iterator[Move]:
        """Run the commands of an act, which may end in any way."""
        lacking = act.phase == "unknown" and world.parcels[number].answer != purpose
        if self.errand and (act.phase == "intent" or lacking):
            asked = world.with_station(side, program="unsure", asked=True)
            move = self._happens(asked, side, number, Requested(), "the request is made")
            if move is not None and asked != world:
                yield move
            return
        if self.errand and act.phase == "requested":
            return
        if self.errand:  # an answer lies there: it registers only where it answers this
            if world.parcels[number].answer == purpose and act.phase != "intent":
                yield from self._granted(world, side, number, purpose)
            return
        kept = self._committed(world, purpose)
        started = {"ran": "started"}
        cuts = [("cut before it asked", world.with_station(side, **started))]
        quiet = [("no answer, and nothing done", world.with_station(side, program="unsure"))]
        if self._grants(world, purpose):
            yield from self._granted(kept, side, number, purpose)
            done, unsure = _done(kept, side, purpose), kept.with_station(side, program="unsure")
            cuts += [
                ("cut after the maker did it", unsure.with_station(side, **started)),
                ("cut after all was done", done.with_station(side, **started)),
            ]
            quiet.append(("no answer, but done", unsure))
            if self.odd:
                forgotten = kept.with_station(side, **started)
                cuts.append(("cut after the maker did it, and forgotten", forgotten))
                quiet.append(("no answer, done and forgotten", kept))
        for words, then in cuts:
            yield Move(words, then._replace(at=None), ran=purpose)
        for words, then in quiet:
            move = self._happens(then, side, number, Broken(), words)
            if move is not None:
                yield move._replace(ran=purpose)
        refused = self._happens(world, side, number, Refused(), "refused")
        if self.strict or not (purpose == "release" and "old" not in world.holders):
            yield from [refused] if refused is not None else []

    def _grants(self, world: World, purpose: Purpose) -> bool:
        """Return whether the service does what is asked for; one that is not strict always does."""
        side = AT[purpose]
        if not self.strict:
            return True
        return side in world.holders if purpose == "release" else world.holders <= {side}

    def _granted(self, world: World, side: Side, number: int, purpose: Purpose) -> Iterator[Move]:
        done = _done(world, side, purpose).with_station(side, ran="well")
        yield Move(f"{purpose} is done", done, ran=purpose)

    def _committed(self, world: World, purpose: Purpose) -> World:
        side = AT[purpose]
        assert side != "between"
        if purpose == "release":
            return world._replace(holders=world.holders - {"old"})
        return world._replace(holders=world.holders | {side})

    def _errand(self, world: World, number: int) -> Iterator[Move]:
        """Take the request in the parcel to the maker, who grants it."""
        parcel = world.parcels[number]
        act = parcel.seat.act
        yield Move("the errand ends", world._replace(at=None))
        if act is None or act.purpose != parcel.asked or act.phase == "answered":
            return
        after, effects = step(parcel.seat, Answered())
        if any(isinstance(e, Refuse) for e in effects):
            return
        edge = (plain(parcel.seat), Answered(), plain(after))
        kept = world
        if act.purpose not in world.answered:
            kept = self._committed(world, act.purpose)
            kept = kept._replace(answered=world.answered | {act.purpose})
        issued = parcel.issued | {act.purpose}
        told = parcel._replace(seat=plain(after), answer=act.purpose, issued=issued)
        yield Move("answered", kept.with_parcel(number, told), edge, ran=act.purpose)
        yield Move("answered, but cut off", kept._replace(at=None), ran=act.purpose)


def _without_claim(parcel: Parcel) -> Parcel:
    """Return a parcel whose request and answer of a claim nobody uses any more."""
    asked, answer = (None if of == "claim" else of for of in (parcel.asked, parcel.answer))
    return parcel._replace(asked=asked, answer=answer)


def _done(world: World, side: Side, purpose: Purpose) -> World:
    return world.with_station(side, program="not" if purpose == "release" else "active")


_ENDED: tuple[tuple[Purpose, Side], ...] = (("claim", "new"), ("return", "old"))


def ended(world: World) -> bool:
    """Return whether the seat has come to an end that is known: claimed, returned, or never moved.

    Where both machines are gone, or all that tells of the move, a person can only give it up; where
    a person claimed a seat alone, it is theirs to say where it is to be.
    """
    known = [p.seat for p in world.parcels]
    known += [s.untold for s in (world.old, world.new) if s.alive and s.untold is not None]
    lost = not world.old.alive and (not world.new.alive or not world.parcels)
    moved = [s for s in known if s.act is not None or s.stage not in ("known", "noted", "verified")]
    theirs = world.holders == {"old"} or (not world.holders and not world.new.alive)
    told = world.lied and any(seat.at_end for seat in known)
    if lost or told or world.by_hand or (not moved and theirs):
        return True
    return any(
        seat.act is None and seat.stage == ENDS[purpose] and world.holders == {side}
        for seat in known
        for purpose, side in _ENDED
    )


Edge = tuple[Seat, Event, Seat]


@dataclass
class Explored:
    """What an exploration came to: how much there is, and where an invariant does not hold."""

    states: int = 0
    moves: int = 0
    edges: set[Edge] = field(default_factory=set)
    both: list[str] = field(default_factory=list)
    too_soon: list[str] = field(default_factory=list)
    in_doubt: list[str] = field(default_factory=list)
    untold: list[str] = field(default_factory=list)
    """States where no program is active and nothing tells what to do about it."""

    stuck: list[str] = field(default_factory=list)
    runs: int = 0


def is_told(world: World) -> bool:
    """Return whether a seat that no program here is active by has a text with a command, in a
    parcel or on a machine; who took it from a machine alone, or erred, knows."""
    machines = [station for station in (world.old, world.new) if station.alive]
    if world.by_hand or world.lied or any(m.program in ("active", "unsure") for m in machines):
        return True
    known = [p.seat for p in world.parcels]
    known += [seat for m in machines for seat in (m.untold, m.last) if seat is not None]
    return not machines or any("widetrail" in todo_of(seat, "old", "new") for seat in known)


class Way(NamedTuple):
    """What is explored: whether by errand, after packing, with misfortunes that nobody expects,
    with a strict service, and how many misfortunes there may be."""

    errand: bool
    packing: bool
    odd: bool
    strict: bool
    luck: int

    def __str__(self) -> str:
        words = [
            "by errand" if self.errand else "online",
            f"after {'packing' if self.packing else 'verifying'}",
            "the unexpected" if self.odd else "the usual",
        ]
        words += ["a strict service"] if self.strict else []
        return f"{', '.join(words)}, at most {self.luck}"


MOST = 2 if os.environ.get("WIDETRAIL_STOPS") == "all" else 1
"""Misfortunes in one exploration by errand, which has few states."""

WAYS = (
    Way(errand=True, packing=False, odd=True, strict=False, luck=1),
    *(
        Way(errand, packing, odd, strict=False, luck=MOST if errand else 1)
        for errand in (False, True)
        for packing in (False, True)
        for odd in (False, True)
        if (errand, packing, odd, MOST) != (True, False, True, 1)
        # These take long: one is much like the others, and the unexpected holds the usual.
        and (MOST == 2 or (errand, packing, odd) in ((True, True, True),))
    ),
    Way(errand=False, packing=False, odd=True, strict=True, luck=1),
)


def explore(way: Way) -> Explored:
    """Visit every state of the world, and judge every move and every state."""
    odd = way.odd
    explorer = Explorer(errand=way.errand, packing=way.packing, odd=odd, strict=way.strict)
    found = Explored()
    start = World(luck=way.luck)
    numbers, worlds, before = {start: 0}, [start], [[0]]
    came: list[tuple[int, str]] = [(0, "")]
    at = 0
    while at < len(worlds):
        world = worlds[at]
        if not is_told(world):
            found.untold.append(_path(came, at))
        for move in explorer.moves(world):
            found.moves += 1
            then = move.world.tidy(odd=odd)
            number = numbers.setdefault(then, len(worlds))
            if number == len(worlds):
                worlds.append(then)
                before.append([])
                came.append((at, move.words))
            before[number].append(at)
            if move.edge is not None and move.edge[0] != move.edge[2]:
                found.edges.add(move.edge)
            if move.ran is not None:
                found.runs += 1
                where = f"{_path(came, at)} / {move.words}"
                _judge(found, world, move.world, move.ran, where)
        at += 1
    found.states = len(worlds)
    well, waiting = set(), deque(n for n, world in enumerate(worlds) if ended(world))
    while waiting:
        number = waiting.popleft()
        if number not in well:
            well.add(number)
            waiting.extend(n for n in before[number] if n not in well)
    found.stuck = [_path(came, n) for n in range(len(worlds)) if n not in well][:5]
    return found


def _path(came: list[tuple[int, str]], at: int) -> str:
    words = []
    while at:
        at, said = came[at]
        words.append(said)
    return " / ".join(reversed(words))


def _judge(found: Explored, world: World, then: World, ran: Purpose, where: str) -> None:
    """Judge one run of the commands of an act."""
    assert world.at is not None
    side, number = world.at
    parcel: Parcel = world.parcels[number]
    seat = parcel.seat if side == "between" else world.station(side).untold or parcel.seat
    if seat.act is None or seat.act.purpose != ran or seat.stage != BEGINS[ran]:
        found.in_doubt.append(where)
    if ran == "release" and not parcel.serial:
        found.too_soon.append(where)
    mine = AT[ran]
    other = then.new if ran != "claim" else then.old
    theirs = {"old", "new"} - {mine}
    gained = mine in then.holders - world.holders
    active = other.alive and (then.holders & theirs or other.program == "active")
    own = then.old if ran != "claim" else then.new
    theirs_alone = then.by_hand or then.lied
    if ran != "release" and gained and own.alive and active and not theirs_alone:
        found.both.append(where)
