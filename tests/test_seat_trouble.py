"""What was tried with a licence: no seat is lost, doubled or blocked, and each text leads on."""

from __future__ import annotations

import json
import shutil
import subprocess
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest

from conftest import SWEEP
from seat_trail import SIDES, SeatTrail
from widetrail.errors import Halted
from widetrail.licence.seat_events import Act, Seat
from widetrail.machine import Effects
from widetrail.machine.effects import Effect
from widetrail.machine.processes import started_at
from widetrail.rehearsing.fault_injection import Stopped
from widetrail.steps import Failed, Waits
from widetrail.walking import (
    LegDone,
    Run,
    bring_back,
    claim_after_all,
    fetch_again,
    give_up,
    make_report,
)

Make = Callable[..., SeatTrail]


def bad(done: LegDone) -> str:
    """Return the reason and what to do of the one step that came out wrong."""
    (step,) = done.bad
    assert isinstance(step.outcome, Failed | Waits)
    return f"{step.outcome.reason} | {step.outcome.todo}"


def claimed(trail: SeatTrail) -> bool:
    held = trail.words == ("not", "active") and trail.holders == (SIDES["new"],)
    return held and trail.seat.stage == "claimed" and trail.next is None


def licence(trail: SeatTrail, station: Any) -> Path:
    machine = trail.machine(station)
    return machine.host(f"{machine.root('config')}/Loamlens/licence.json")


def license_otherwise(trail: SeatTrail) -> None:
    """Have new's program be licensed by another serial, which the service knows."""
    file = licence(trail, "new")
    file.parent.mkdir(parents=True, exist_ok=True)
    told = {"serial": "OTHER-1111", "state": "active", "asked": 1, "pending": None}
    file.write_text(json.dumps(told))
    state = trail.service.read()
    other = {"serial": "OTHER-1111", "product": "Loamlens", "count": 1, "holders": [SIDES["new"]]}
    (trail.service.folder / "seats.json").write_text(
        json.dumps({**state, "seats": [*state["seats"], other]})
    )


def forget_answers(trail: SeatTrail) -> None:
    """Have the service keep no answers: what is asked for again it judges anew."""
    state = trail.service.read()
    (trail.service.folder / "seats.json").write_text(json.dumps({**state, "answered": {}}))


# New is licensed already


def test_nothing_is_released_where_new_is_licensed_by_another_serial(trails: Make) -> None:
    trail = trails()
    license_otherwise(trail)
    trail.walk("old")
    told = bad(trail.walk("new"))
    assert "licensed already" in told and "another serial" in told
    assert "widetrail seat give-up" in told and "Nothing was released" in told
    assert trail.holders == (SIDES["old"],) and trail.next == "new"
    licence(trail, "new").unlink()
    trail.on()
    assert claimed(trail)


def test_a_released_seat_is_not_taken_for_the_one_that_new_has(trails: Make) -> None:
    trail = trails(packing=True, scans=True)
    license_otherwise(trail)
    trail.walk("old")
    assert trail.seat.stage == "released"
    told = bad(trail.walk("new"))
    assert "licensed by another serial" in told and "widetrail seat return" in told
    assert trail.seat.stage == "released" and trail.holders == ()
    licence(trail, "new").unlink()
    trail.on()
    assert claimed(trail)


def test_the_maker_is_asked_where_the_serial_of_new_cannot_be_read(trails: Make) -> None:
    trail = trails(packing=True, scans=True)
    trail.walk("old")
    file = licence(trail, "new")
    file.parent.mkdir(parents=True, exist_ok=True)
    told = {"serial": "", "state": "active", "asked": 1, "pending": None}
    file.write_text(json.dumps(told))
    assert "by which serial is not known" in bad(trail.walk("new"))
    assert "what Loamlens and its maker say" in bad(trail.walk("new", {"seat_claimed": "nobody"}))
    trail.walk("new", {"seat_claimed": "new"})
    assert trail.seat.stage == "claimed"


# Failures that go on


def test_a_claim_that_keeps_failing_is_closed_by_the_makers_true_word(trails: Make) -> None:
    trail = trails()
    trail.on(most=3)
    trail.service.faults = {"clock": -1}
    assert "it is asked exactly as before" in bad(trail.walk("new"))
    told = bad(trail.walk("new"))
    assert "answer seat_claimed: old, new or nobody" in told and "widetrail seat letter" in told
    forget_answers(trail)
    trail.maker_frees()
    told = bad(trail.walk("new", {"seat_claimed": "nobody"}))
    assert "the claim was not done" in told and trail.seat == Seat("released", None, 2)
    trail.service.faults = {}
    trail.on()
    assert claimed(trail)


def test_what_could_not_be_started_leaves_nothing_in_doubt(trails: Make) -> None:
    trail = trails()
    trail.on(most=3)
    told = trail.folder / SIDES["new"] / "machine.yaml"
    before = told.read_text()
    told.write_text(before.replace("Loamlens/loamlens.exe", "Loamlens/another.exe"))
    said = bad(trail.walk("new"))
    assert "could not be started, and nothing changed" in said and "widetrail seat return" in said
    assert trail.seat == Seat("released", None, 2)
    told.write_text(before)
    trail.on()
    assert claimed(trail)


def test_a_return_in_doubt_is_not_planned_again(trails: Make) -> None:
    trail = trails(repeat="never")
    trail.on(most=3)
    bring_back(trail.parcel(), trail.line, trail.now, gone=False)
    trail.walk("new")
    trail.service.faults = {"cut": 1}
    assert trail.walk("old").waits and trail.seat.in_doubt
    with pytest.raises(Halted, match="cannot be brought back now"):
        bring_back(trail.parcel(), trail.line, trail.now, gone=False)
    asked = len(trail.service.read()["answered"])
    assert trail.walk("old").waits and len(trail.service.read()["answered"]) == asked


# Words that contradict each other


def test_the_makers_word_does_not_count_while_the_program_says_otherwise(trails: Make) -> None:
    trail = trails()
    trail.on(most=2)
    trail.service.faults = {"cut": 1}
    assert trail.walk("old").failed
    forget_answers(trail)
    file = licence(trail, "old")
    file.write_text(json.dumps({**json.loads(file.read_text()), "pending": None}))
    told = bad(trail.walk("old", {"seat_released": "nobody"}))
    assert "cannot both be so" in told and "nobody holds the seat" in told and "active" in told
    assert "--old-is-gone" in told and trail.seat.in_doubt
    assert trail.program("old", "drop") == 0
    trail.on()
    assert claimed(trail)


def test_a_seat_that_went_back_to_old_meanwhile_is_released_there_again(trails: Make) -> None:
    trail = trails()
    trail.on(most=3)
    trail.service.faults = {"cut": 1}
    assert trail.walk("new").failed
    trail.maker_frees()
    assert trail.program("old", "claim", serial=True) == 0
    forget_answers(trail)
    told = bad(trail.walk("new", {"seat_claimed": "old"}))
    assert "released there again" in told and "widetrail seat give-up" in told
    assert trail.seat.stage == "verified" and trail.next == "old"
    trail.on()
    assert claimed(trail)


def test_an_old_machine_that_is_not_licensed_is_not_said_to_be(trails: Make) -> None:
    trail = trails()
    file = licence(trail, "old")
    told = json.loads(file.read_text())
    file.write_text(json.dumps({**told, "state": "unlicensed"}))
    assert "answer seat_found: old, new or nobody" in bad(trail.walk("old"))
    assert "cannot both be so" in bad(trail.walk("old", {"seat_found": "old"}))
    trail.maker_frees()
    assert not trail.walk("old", {"seat_found": "nobody"}).bad
    assert trail.seat.stage == "released"
    trail.on()
    assert claimed(trail)


# Two moves


@contextmanager
def moved_on(trail: SeatTrail, name: str) -> Iterator[None]:
    """Go on with another parcel of the trail for a moment."""
    before = trail.parcel_folder
    trail.parcel_folder = trail.folder / name
    yield
    trail.parcel_folder = before


def test_of_two_moves_that_were_planned_in_one_second_one_moves_the_seat(trails: Make) -> None:
    trail = trails(packing=True, scans=True)
    now = trail.now
    trail.set_out()
    trail.now = now
    with moved_on(trail, "parcel-1"):
        trail.walk("old")
    trail.walk("old")
    with moved_on(trail, "parcel-1"):
        trail.walk("new")
        assert claimed(trail)
    trail.walk("new")
    assert claimed(trail)
    told = bad_after(trail)
    assert "this move may do nothing with the seat" in told or claimed(trail)


def bad_after(trail: SeatTrail) -> str:
    """Return what the earlier move says once the later one was walked."""
    with moved_on(trail, "parcel-1"):
        bring = trail.line
        with suppress(Halted):
            bring_back(trail.parcel(), bring, trail.now, gone=True)
            return bad(trail.walk("old", {"new_is_gone": "yes"}))
    return ""


def test_a_move_that_was_planned_with_the_clock_ahead_blocks_no_other(trails: Make) -> None:
    trail = trails()
    now, trail.now = trail.now, datetime(2030, 1, 1, tzinfo=UTC)
    trail.walk("old")
    trail.now = now
    trail.set_out()
    trail.on()
    assert claimed(trail)
    with moved_on(trail, "parcel-1"):
        trail.walk("new")
        told = bad(trail.walk("old")) if trail.next == "old" else bad(trail.walk("new"))
    assert "a later move of it was begun here" in told and "plan the move again" in told


def test_a_person_says_which_of_two_moves_counts_where_old_was_set_up_anew(trails: Make) -> None:
    trail = trails()
    trail.walk("old")
    trail.set_out()
    trail.walk("old")
    trail.walk("new")
    state = trail.machine("old").host(f"{trail.machine('old').root('state')}/widetrail")
    shutil.rmtree(state)  # old was set up anew: it knows of no move, and counts from one
    trail.set_out()
    trail.walk("old")
    told = bad(trail.walk("new"))
    assert "answer this_move_counts: yes" in told
    trail.on({"new": {"this_move_counts": "yes"}})
    assert claimed(trail)


# Commands that are cut off


def _answer_is_torn(trail: SeatTrail) -> Path:
    """Have the answer of the claim be half there on new."""
    trail.on(most=6)
    trail.walk("between")
    machine = trail.machine("new")
    room = f"{machine.root('state')}/widetrail/run-1/seats/loamlens.licence"
    answer = machine.host(f"{room}/loamlens-claim-glass-office-for-potting-shed-2.answer")
    answer.parent.mkdir(parents=True, exist_ok=True)
    answer.write_bytes(b'{"answer": "to')
    assert "widetrail seat fetch" in bad(trail.walk("new"))
    return answer


def _given_up(trail: SeatTrail) -> None:
    trail.on(most=3)
    give_up(trail.parcel(), trail.line, trail.now)


CHANGES: dict[str, tuple[dict[str, Any], Callable[[SeatTrail], Any], Callable[..., Any]]] = {
    "return": ({}, lambda t: t.on(most=3), lambda p, ln, now: bring_back(p, ln, now, gone=False)),
    "give-up": ({}, lambda t: t.on(most=3), give_up),
    "claim": ({}, _given_up, lambda p, ln, now: claim_after_all(p, ln, now, gone=False)),
    "fetch": ({"offline": True}, _answer_is_torn, fetch_again),
}


@pytest.mark.parametrize("every", [False, pytest.param(True, marks=SWEEP)])
@pytest.mark.parametrize("name", CHANGES)
def test_a_seat_command_that_is_cut_off_leaves_a_parcel_that_goes_on(
    trails: Make, tmp_path: Path, name: str, every: bool
) -> None:
    ways, before, change = CHANGES[name]
    trail = trails(**ways)
    before(trail)
    seen: list[Effect] = []
    twin = trail.twin(tmp_path / "unbroken")
    change(twin.parcel(Effects(seen.append)), twin.line, twin.now)
    written = [e.number for e in seen if e.kind == "write"]
    for number in [e.number for e in seen][::6] if every else written[:2]:

        def gate(effect: Effect, number: int = number) -> None:
            if effect.number == number:
                raise Stopped

        twin = trail.twin(tmp_path / f"cut-{number}")
        with suppress(Stopped):
            change(twin.parcel(Effects(gate)), twin.line, twin.now)
        with suppress(Halted):
            change(twin.parcel(), twin.line, twin.now)
        if name == "give-up":
            assert twin.next is None and "widetrail seat claim" in twin.line.todo
            claim_after_all(twin.parcel(), twin.line, twin.now, gone=False)
        twin.on()
        held = SIDES["old"] if name == "return" else SIDES["new"]
        assert (twin.seat.act, twin.holders, twin.next) == (None, (held,), None)


@pytest.mark.parametrize("torn", [True, False])
def test_a_torn_plan_of_a_seat_command_is_taken_away(trails: Make, torn: bool) -> None:
    trail = trails()
    trail.on(most=3)
    parcel = trail.parcel()
    number = len(parcel.generations) + 1
    (trail.parcel_folder / f"data/plan-{number:06d}.json").write_bytes(b'{"steps": [')
    if torn:
        (trail.parcel_folder / f"logbook/{number:06d}.json").write_bytes(b'{"before": "')
    trail.on()
    assert claimed(trail)


def test_an_answer_that_was_damaged_is_fetched_again_by_a_command(trails: Make) -> None:
    trail = trails(offline=True)
    _answer_is_torn(trail)
    fetch_again(trail.parcel(), trail.line, trail.now)
    assert trail.seat.act == Act("claim", "requested", 2) and trail.next == "between"
    trail.on()
    assert claimed(trail)


# What is said and kept


def test_giving_up_says_how_it_stands_and_what_leads_on(trails: Make) -> None:
    trail = trails()
    _given_up(trail)
    (item,) = make_report(trail.parcel()).items
    assert item.state == "given up" and "no machine holds it" in item.seat
    (task,) = (one.words for one in make_report(trail.parcel()).tasks)
    assert "widetrail seat claim" in task and "neither potting-shed nor glass-office" in task
    claim_after_all(trail.parcel(), trail.line, trail.now, gone=False)
    trail.on()
    assert claimed(trail)


def test_undoing_on_new_warns_of_a_seat_and_the_parcel_tells_what_leads_on(trails: Make) -> None:
    trail = trails()
    trail.on(most=3)
    run = Run(trail.machine("new"), "run-1")
    (cannot,) = run.undo_plan().cannot
    assert "may have been released on potting-shed" in cannot and "widetrail plan" in cannot
    run.undo(trail.now)
    with pytest.raises(Halted, match="undone"):
        trail.walk("new")
    assert "--new-is-gone" in trail.line.todo
    bring_back(trail.parcel(), trail.line, trail.now, gone=True)
    trail.walk("old", {"new_is_gone": "yes"})
    assert trail.holders == (SIDES["old"],)


def test_a_move_whose_seat_a_later_one_took_over_can_be_settled(trails: Make) -> None:
    trail = trails()
    trail.on(most=2)
    trail.service.faults = {"cut": 1}
    assert trail.walk("old").failed and trail.seat.in_doubt
    with pytest.raises(Halted, match="is on its way") as refused:
        Run(trail.machine("old"), "run-1").settle()
    assert "widetrail walk" in refused.value.todo and "plan the move again" in refused.value.todo
    trail.set_out()
    trail.walk("old")
    Run(trail.machine("old"), "run-1").settle()
    trail.on()
    assert claimed(trail)


def test_what_is_consented_to_names_the_files_that_are_used(trails: Make) -> None:
    trail = trails(offline=True)
    trail.on(most=5)
    shown = " ".join(words for _, words in trail.visit("new").words(trail.now))
    assert "loamlens-claim-glass-office-for-potting-shed-2.request" in shown
    trail.walk("new")
    room = trail.machine("new").root("state") + "/widetrail/run-1/seats/loamlens.licence"
    kept = [*trail.machine("new").host(room).iterdir()]
    assert "loamlens-claim-glass-office-for-potting-shed-2.request" in [p.name for p in kept]
    for path in kept:  # a request may hold the serial
        assert path.stat().st_mode & 0o777 == 0o600, path


@pytest.mark.parametrize("serial", ["old", "7", "active"])
def test_a_serial_that_is_a_word_of_the_ledger_moves_like_any_other(
    trails: Make, serial: str
) -> None:
    trail = trails()
    state = trail.service.read()
    seats = [{**s, "serial": serial} if s["product"] == "Loamlens" else s for s in state["seats"]]
    (trail.service.folder / "seats.json").write_text(json.dumps({**state, "seats": seats}))
    file = licence(trail, "old")
    file.write_text(json.dumps({**json.loads(file.read_text()), "serial": serial}))
    trail.on()
    assert (trail.seat.stage, trail.words) == ("claimed", ("not", "active"))
    assert trail.service.holders(serial) == (SIDES["new"],)


def test_a_serial_of_two_lines_is_refused_before_anything_is_released(trails: Make) -> None:
    trail = trails()
    file = licence(trail, "old")
    file.write_text(json.dumps({**json.loads(file.read_text()), "serial": "a\nb"}))
    assert "not one line of text" in bad(trail.walk("old"))
    assert trail.seat == Seat()


def test_a_program_that_has_ended_is_not_waited_for_though_nobody_fetched_it() -> None:
    with subprocess.Popen(["cat"], stdin=subprocess.PIPE) as process:
        assert process.stdin is not None and started_at(process.pid) > 0
        process.stdin.close()
        end = time.monotonic() + 10
        while started_at(process.pid) and time.monotonic() < end:
            time.sleep(0.01)
        assert started_at(process.pid) == 0.0
        assert process.returncode is None  # it was not fetched, so it is still listed
