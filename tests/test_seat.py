"""The seat of a licence as a machine: every state of it in a small world, and what always holds."""

from __future__ import annotations

from dataclasses import replace
from itertools import product
from typing import get_args

import pytest

from seat_world import plain
from widetrail.licence.seat import Do, Refuse, contradicts, finished, replay, step
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
    Settled,
    Shown,
    Spoiled,
    TakenUp,
    Told,
    Verified,
    event_facts,
    event_of,
)
from widetrail.licence.seat_words import meanwhile_of, todo_of, words_of
from widetrail.licence.terms import BEGINS, At, Holder, Phase, Purpose, Stage, Word

SEATS = [
    Seat(stage, act, act.attempt if act is not None else 0)
    for stage in get_args(Stage)
    for act in (
        None,
        *(
            Act(p, phase, 1)
            for p, phase in product(get_args(Purpose), get_args(Phase))
            if BEGINS[p] == stage
        ),
    )
]
EVENTS: list[Event] = [
    Adopted("released"),
    Adopted("verified", "release"),
    Noted(),
    Verified(),
    *(Begin(p, w) for p in get_args(Purpose) for w in get_args(Word)),
    Requested(),
    Answered(),
    Spoiled(),
    Broken(),
    Refused(),
    *(Shown(w) for w in get_args(Word)),
    *(Told(h, at, w) for h, at, w in product(get_args(Holder), get_args(At), get_args(Word))),
    *(Renounced(w) for w in get_args(Word)),
    Gone("new"),
    Gone("old"),
    Settled(),
    GivenUp(),
    TakenUp(),
]


@pytest.mark.parametrize("seat", SEATS, ids=words_of)
def test_an_event_that_may_not_be_changes_nothing_and_says_why(seat: Seat) -> None:
    for event in EVENTS:
        after, effects = step(seat, event)
        refusals = [e for e in effects if isinstance(e, Refuse)]
        if refusals:
            assert after == seat and len(effects) == 1 and refusals[0].why
        assert after.attempts >= seat.attempts or isinstance(event, Adopted)
        for effect in effects:
            if isinstance(effect, Do):
                assert after.act == effect.act and after.stage == BEGINS[effect.act.purpose]
                assert effect.again is after.in_doubt


@pytest.mark.parametrize("seat", SEATS, ids=words_of)
def test_a_seat_in_doubt_is_closed_only_by_the_program_or_a_persons_word(seat: Seat) -> None:
    for event in EVENTS:
        after, _ = step(seat, event)
        if seat.in_doubt and seat.act is not None and after.act is None:
            shown = isinstance(event, Shown | Begin) and finished(seat.act.purpose, event.word)
            assert shown or isinstance(event, Told | Gone)


@pytest.mark.parametrize("seat", SEATS, ids=words_of)
def test_no_word_of_the_maker_counts_that_the_program_contradicts(seat: Seat) -> None:
    for event in EVENTS:
        if isinstance(event, Told) and contradicts(event.holder, event.at, event.word):
            after, effects = step(seat, event)
            assert after == seat and isinstance(effects[0], Refuse)


@pytest.mark.parametrize("seat", SEATS, ids=words_of)
def test_what_was_given_up_is_as_it_was_when_it_is_taken_up_again(seat: Seat) -> None:
    if seat.stage == "settled":
        return
    dropped, _ = step(seat, GivenUp())
    for event in EVENTS:
        if not isinstance(event, GivenUp | TakenUp | Settled):
            assert isinstance(step(dropped, event)[1][0], Refuse)
    assert step(dropped, TakenUp()) == (seat, ())


@pytest.mark.parametrize("seat", SEATS, ids=words_of)
def test_every_seat_says_how_it_stands_and_what_is_to_be_done(seat: Seat) -> None:
    assert words_of(seat)
    for one in (seat, replace(seat, given_up=True)):
        told = todo_of(one, "potting-shed", "glass-office", "/media/m/parcel", "loamlens.licence")
        assert ("widetrail " in told and "/media/m/parcel" in told) is not one.at_end
        meanwhile = meanwhile_of(one, "potting-shed", "glass-office")
        assert meanwhile.startswith("Until then") is not one.at_end


def test_events_are_told_as_plain_values_and_read_again() -> None:
    for event in EVENTS:
        assert event_of({"time": "now", **event_facts(event)}) == event
    way: list[Event] = [
        Noted(),
        Verified(),
        Begin("release", "active"),
        Shown("not"),
        Begin("claim", "not"),
    ]
    assert replay(way) == Seat("released", Act("claim", "intent", 2), 2)


def test_plain_leaves_out_nothing_but_the_number_of_tries() -> None:
    assert plain(Seat("released", Act("claim", "answered", 3), 3)) == Seat(
        "released", Act("claim", "answered", 1), 0
    )
