"""A licence's move, stopped at its effects while its service goes wrong: one machine has the seat.

``pytest`` tries a few effects of each leg; with ``WIDETRAIL_STOPS=all`` every one is tried.
"""

from __future__ import annotations

import os
import shutil
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path

import pytest

from conftest import FIGURES, asked, swept
from seat_trail import SeatTrail
from widetrail.licence.seat_words import todo_of
from widetrail.licence.service import FAULTS
from widetrail.machine import Effects
from widetrail.machine.effects import Effect
from widetrail.recipe import Station
from widetrail.rehearsing.fault_injection import Stopped

FEW = 1
"""Effects of a leg that are tried, where not all are."""

LEGS: dict[str, tuple[dict[str, bool], int, Station]] = {
    "release": ({}, 2, "old"),
    "claim": ({}, 3, "new"),
    "request of the release": ({"offline": True}, 2, "old"),
    "errand of the release": ({"offline": True}, 3, "between"),
    "answer of the release": ({"offline": True}, 4, "old"),
    "request of the claim": ({"offline": True}, 5, "new"),
    "errand of the claim": ({"offline": True}, 6, "between"),
    "answer of the claim": ({"offline": True}, 7, "new"),
}
"""Legs by what is done in them: the trail's ways, the legs before it, and where it is walked."""


@dataclass
class Tried:
    """What came of one leg with one fault."""

    stops: int = 0
    claimed: int = 0
    asked: int = 0
    wrong: list[str] = field(default_factory=list)


def _effects(trail: SeatTrail, station: Station, folder: Path) -> list[Effect]:
    """Return the effects of an unbroken leg."""
    seen: list[Effect] = []
    twin = trail.twin(folder / "unbroken")
    twin.visit(station, effects=Effects(seen.append)).walk(twin.now)
    trail.service.folder = trail.folder / "maker"
    return seen


def _few(effects: list[Effect]) -> list[int]:
    """Return the numbers of a few effects: just after the command of the act was started."""
    starts = [e.number for e in effects if e.kind == "start"]
    return [n + 1 for n in (starts[1:-1] or starts)][:FEW]


def _both(trail: SeatTrail) -> bool:
    return len(trail.holders) > 1 or trail.words == ("active", "active")


def stop_leg(leg: str, fault: str, folder: Path) -> Tried:
    """Stop a leg at its effects while the service goes wrong once, then walk on without a fault."""
    ways, before, station = LEGS[leg]
    tried = Tried()
    (folder / "trail").mkdir()
    trail = SeatTrail(folder / "trail", **ways)  # type: ignore[arg-type]
    try:
        trail.on(most=before)
        effects = _effects(trail, station, folder)
        every = [e.number for e in effects]
        for number in every if ALL else _few(effects):
            _stop(trail.twin(folder / "stop"), station, fault, number, tried)
            shutil.rmtree(folder / "stop")
        return tried
    finally:
        trail.close()
        shutil.rmtree(folder, ignore_errors=True)


def _stop(trail: SeatTrail, station: Station, fault: str, number: int, tried: Tried) -> None:
    def gate(effect: Effect) -> None:
        if effect.number == number:
            raise Stopped

    tried.stops += 1
    trail.service.faults = {fault: 1} if fault else {}
    with suppress(Stopped):
        trail.visit(station, effects=Effects(gate)).walk(trail.now)
    for _ in range(2):  # walked at once, while it may still go wrong, and then to its end
        if _both(trail):
            tried.wrong.append(f"before effect {number} of {station}: two machines are active")
        trail.on(most=1)
    trail.service.faults = {}
    trail.on()
    seat = trail.seat
    if (seat.stage, trail.words, trail.holders) == (
        "claimed",
        ("not", "active"),
        ("glass-office",),
    ):
        tried.claimed += 1
    elif todo_of(seat, "old", "new") and not _both(trail):
        tried.asked += 1
    else:
        told = f"{seat}, {trail.words}, {trail.holders}"
        tried.wrong.append(f"before effect {number} of {station}: {told}")


ALL = os.environ.get("WIDETRAIL_STOPS") == "all"


def _faults(leg: str) -> list[str]:
    """Return the faults that a leg is tried with: none, and all that can strike there."""
    ways, _, station = LEGS[leg]
    if ways and station != "between":
        return [""] if ALL else []
    faults = FAULTS if ALL or not ways else ("cut",)
    return ["", *(f for f in faults if f != "taken" or "claim" in leg)]


EVERY = [(leg, fault) for leg in LEGS for fault in _faults(leg)]
CASES = EVERY if ALL else EVERY[1::2]


@pytest.fixture(scope="module")
def stopped(
    tmp_path_factory: pytest.TempPathFactory, request: pytest.FixtureRequest
) -> dict[tuple[str, str], Tried]:
    name = "test_stopped_with_any_fault_one_machine_is_licensed_or_a_person_is_told"
    cases = asked(request, name, "leg", "fault")
    folders = [tmp_path_factory.mktemp("stopped") for _ in cases]
    with ProcessPoolExecutor(2) as pool:
        found = pool.map(stop_leg, *map(list, zip(*cases, strict=True)), folders)
        return dict(zip(cases, found, strict=True))


@pytest.mark.parametrize(("leg", "fault"), swept(CASES, CASES[::6]))
def test_stopped_with_any_fault_one_machine_is_licensed_or_a_person_is_told(
    stopped: dict[tuple[str, str], Tried], leg: str, fault: str
) -> None:
    assert stopped[leg, fault].stops > 0
    assert stopped[leg, fault].wrong == []


def test_the_figures_of_the_stops_are_told(
    stopped: dict[tuple[str, str], Tried], record_property: Callable[[str, object], None]
) -> None:
    stops, claimed, asked = (
        sum(getattr(tried, name) for tried in stopped.values())
        for name in ("stops", "claimed", "asked")
    )
    record_property(
        FIGURES,
        f"licences: {stops} stops, {len(CASES)} legs and faults; claimed {claimed}, a person is "
        f"told what to do {asked}, two machines licensed 0",
    )
    assert stops == claimed + asked and claimed > asked
