"""The seat of a licence as a machine: every state of it in a small world, and what always holds."""

from __future__ import annotations

import os
from collections.abc import Callable
from itertools import product
from typing import get_args

import pytest

from conftest import FIGURES, SWEEP
from seat_world import Explored, plain
from widetrail.licence.seat import (
    BEGINS,
    Act,
    Adopted,
    Answered,
    Begin,
    Broken,
    Do,
    Event,
    GivenUp,
    Gone,
    Noted,
    Phase,
    Purpose,
    Refuse,
    Refused,
    Renounced,
    Requested,
    Seat,
    Settled,
    Shown,
    Stage,
    Told,
    Verified,
    event_facts,
    event_of,
    finished,
    replay,
    step,
    todo_of,
    words_of,
)

MOST = 2 if os.environ.get("WIDETRAIL_STOPS") == "all" else 1
"""Misfortunes in one exploration by errand."""

WAYS = [
    pytest.param(errand, packing, luck, id=f"{way}, released after {after}")
    for way, errand, luck in (("online", False, 1), ("by errand", True, MOST))
    for after, packing in (("verifying", False), ("packing", True))
]
WAYS[1:] = [pytest.param(*way.values, id=way.id, marks=SWEEP) for way in WAYS[1:]]


@pytest.mark.parametrize(("errand", "packing", "luck"), WAYS)
def test_whatever_happens_the_engine_never_makes_two_machines_active(
    explored: dict[tuple[bool, bool], Explored], errand: bool, packing: bool, luck: int,
    record_property: Callable[[str, object], None],
) -> None:  # fmt: skip
    found = explored[errand, packing]
    way = f"{'by errand' if errand else 'online'}, after {'packing' if packing else 'verifying'}"
    record_property(
        FIGURES,
        f"seat {way}, at most {luck} misfortune(s): {found.states} states, {found.moves} moves, "
        f"{found.runs} runs, {len(found.edges)} edges; two active by the engine {len(found.both)}, "
        f"released before the serial was kept {len(found.too_soon)}, acted in doubt "
        f"{len(found.in_doubt)}, without an end {len(found.stuck)}",
    )
    assert found.states > 5_000 and found.runs > 1_000
    assert found.both == []
    assert found.too_soon == []
    assert found.in_doubt == []
    assert found.stuck == []


SEATS = [
    Seat(stage, act, act.attempt if act is not None else 0)
    for stage in get_args(Stage)
    for act in (
        None,
        *(Act(p, phase, 1) for p, phase in product(get_args(Purpose), get_args(Phase))
          if BEGINS[p] == stage),
    )
]  # fmt: skip
EVENTS: list[Event] = [
    Adopted("released"), Adopted("verified", "release"), Noted(), Verified(),
    *(Begin(p, w) for p in get_args(Purpose) for w in ("active", "not", "unknown")),
    Requested(), Answered(), Broken(), Refused(),
    *(Shown(w) for w in ("active", "not", "unknown")),
    *(Told(h, at) for h in ("old", "new", "nobody") for at in ("old", "new", "between")),
    *(Renounced(w) for w in ("active", "not", "unknown")), Gone("new"), Gone("old"), Settled(),
    GivenUp(),
]  # fmt: skip


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
            assert shown or isinstance(event, Told | Gone | GivenUp)


@pytest.mark.parametrize("seat", SEATS, ids=words_of)
def test_every_seat_says_how_it_stands_and_what_is_to_be_done(seat: Seat) -> None:
    assert words_of(seat)
    assert bool(todo_of(seat, "potting-shed", "glass-office")) is not seat.at_end


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
    assert replay([event_facts(event) for event in way]) == Seat(
        "released", Act("claim", "intent", 2), 2
    )


def test_plain_leaves_out_nothing_but_the_number_of_tries() -> None:
    assert plain(Seat("released", Act("claim", "answered", 3), 3)) == Seat(
        "released", Act("claim", "answered", 1), 0
    )
