"""Kill what moves a licence, at any effect of it, go on, and ask the service who holds the seat.

    python benchmarks/seat_kills.py --kills 1000 [--jobs 2] [--seed 1]

Every trial copies two machines, a medium and a licence service as they stood before one act: a leg
of a move (online, by errand, by the maker's hand; released after verifying and after packing),
``seat return``, ``claim``, ``give-up`` or ``fetch``, an undoing or a settling. The act runs in a
process of its own, which kills itself (SIGKILL) before one of its effects, thrown from the seed.
Then it is done again and the move goes on to its end. The seat is *lost* where nobody holds it at
the end, *doubled* where two do at any time that is looked at, *blocked* where the move comes to
another end than it would have without the kill.
"""

from __future__ import annotations

import argparse
import os
import random
import shutil
import signal
import sys
import tempfile
import time
import traceback
from collections import Counter
from collections.abc import Callable, Mapping
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))

from seat_trail import SIDES, SeatTrail
from widetrail.errors import Halted, Waiting
from widetrail.machine import Effects
from widetrail.machine.effects import Effect
from widetrail.recipe import Station
from widetrail.walking import Run, bring_back, claim_after_all, clear_settled, fetch_again, give_up

Act = Callable[[SeatTrail, Effects], Any]
HANDS: Mapping[Station, Mapping[str, Any]] = {
    "old": {"maker_released": (("loamlens", "seat", "drop"),)},
    "new": {"unlocked": (("loamlens", "seat", "unlock", "830912"),)},
}
PATIENCE = 50
"""Times that a program is waited for which outlived the walk that started it."""


def on(trail: SeatTrail, most: int = 20) -> None:
    """Walk on, and wait for programs that outlived a walk."""
    for _ in range(PATIENCE):
        try:
            trail.on(HANDS, most)
            return
        except Waiting:
            time.sleep(0.1)


def walk(station: Station) -> Act:
    """Return the act of walking the leg that is due at a station."""
    hands = HANDS.get(station)
    return lambda trail, effects: trail.visit(station, hands, effects).walk(trail.now)


def of_seat(change: Callable[..., Any], **options: Any) -> Act:
    """Return the act of one of the ``seat`` commands."""
    return lambda t, effects: change(t.parcel(effects), t.line, t.now, **options)


def undo(station: Station) -> Act:
    """Return the act of undoing the move at a station."""
    return lambda t, effects: Run(t.machine(station, effects), f"run-{t.moves}").undo(t.now)


def settle(station: Station) -> Act:
    """Return the act of settling the move at a station."""

    def act(trail: SeatTrail, effects: Effects) -> None:
        machine = trail.machine(station, effects)
        if not clear_settled(machine):
            Run(machine, f"run-{trail.moves}").settle()

    return act


@dataclass(frozen=True)
class Case:
    """Something that is killed: how the move came there, what is done, and how it ends.

    ``then`` is what is done once it went on, before the move is walked to its end; ``holder`` is
    the station that holds the seat at the end.
    """

    ways: Mapping[str, Any]
    before: Callable[[SeatTrail], Any]
    act: Act
    then: Callable[[SeatTrail], Any] = lambda trail: None
    holder: Station = "new"


def _legs(count: int) -> Callable[[SeatTrail], None]:
    def before(trail: SeatTrail) -> None:
        on(trail, count)

    return before


def _plan_again(trail: SeatTrail) -> None:
    trail.set_out()


def _claim(trail: SeatTrail) -> None:
    claim_after_all(trail.parcel(), trail.line, trail.now, gone=False)


def _given_up(trail: SeatTrail) -> None:
    on(trail, 3)
    give_up(trail.parcel(), trail.line, trail.now)


def _on_its_way_back(trail: SeatTrail) -> None:
    on(trail, 3)
    bring_back(trail.parcel(), trail.line, trail.now, gone=False)


def _renounced(trail: SeatTrail) -> None:
    _on_its_way_back(trail)
    on(trail, 1)


def _half_an_answer(trail: SeatTrail) -> None:
    """Have the answer of the claim be torn on new."""
    on(trail, 7)
    machine = trail.machine("new")
    room = f"{machine.root('state')}/widetrail/run-1/seats/loamlens.licence"
    answer = machine.host(f"{room}/loamlens-claim-glass-office-for-potting-shed-2.answer")
    answer.parent.mkdir(parents=True, exist_ok=True)
    trail.walk("between")
    answer.write_bytes(b'{"answer": "to')
    trail.walk("new")


ONLINE: Mapping[str, Any] = {}
ERRAND = {"offline": True}
BY_HAND = {"offline": True, "edition": "bench"}
PACKING = {"packing": True, "scans": True}
LEGS: tuple[tuple[str, Mapping[str, Any], tuple[Station, ...]], ...] = (
    ("online", ONLINE, ("old", "new", "old", "new")),
    ("online, after packing", {**ONLINE, **PACKING}, ("old", "new")),
    ("by errand", ERRAND, ("old", "new", "old", "between", "old", "new", "between", "new")),
    (
        "by errand, after packing",
        {**ERRAND, **PACKING},
        ("old", "between", "old", "new", "between", "new"),
    ),
    ("by the maker's hand", BY_HAND, ("old", "new", "old", "new")),
)
CASES: dict[str, Case] = {
    f"{name}: leg {number + 1}": Case(ways, _legs(number), walk(station))
    for name, ways, stations in LEGS
    for number, station in enumerate(stations)
} | {
    "seat return": Case(ONLINE, _legs(3), of_seat(bring_back, gone=False), holder="old"),
    "back: new renounces": Case(
        ONLINE,
        _on_its_way_back,
        walk("new"),
        holder="old",
    ),
    "back: old claims": Case(ONLINE, _renounced, walk("old"), holder="old"),
    "seat give-up": Case(ONLINE, _legs(3), of_seat(give_up), then=_claim),
    "seat claim": Case(ONLINE, _given_up, of_seat(claim_after_all, gone=False)),
    "seat fetch": Case(ERRAND, _half_an_answer, of_seat(fetch_again)),
    "undo on new": Case(ONLINE, _legs(3), undo("new"), then=_plan_again),
    "undo on old": Case(ONLINE, _legs(3), undo("old"), then=_plan_again),
    "settle on old": Case(ONLINE, _legs(4), settle("old")),
    "settle on new": Case(ONLINE, _legs(4), settle("new")),
}


@dataclass
class Found:
    """What came of the kills of one case."""

    case: str
    kills: int = 0
    wrong: list[tuple[str, str]] = field(default_factory=list)


def _killed(trail: SeatTrail, act: Act, number: int) -> bool:
    """Do an act in a process of its own that kills itself before an effect."""

    def gate(effect: Effect) -> None:
        if effect.number == number:
            os.kill(os.getpid(), signal.SIGKILL)

    child = os.fork()
    if not child:
        os.setpgid(0, 0)
        try:
            act(trail, Effects(gate))
        except BaseException:
            traceback.print_exc()
        os._exit(0)
    _, status = os.waitpid(child, 0)
    return os.WIFSIGNALED(status)


def _again(trail: SeatTrail, act: Act) -> None:
    """Do once more what was killed; it may have been done, and says so then."""
    for _ in range(PATIENCE):
        try:
            act(trail, Effects())
            return
        except Waiting:
            time.sleep(0.1)
        except Halted:
            return


def _judge(trail: SeatTrail, case: Case) -> tuple[str, str]:
    """Return what is wrong at the end, by the service's view and the programs'."""
    told = f"{trail.seat}, programs {trail.words}, the service {trail.holders}"
    if doubled(trail):
        return "doubled", told
    wanted = ("active", "not") if case.holder == "old" else ("not", "active")
    if trail.words != wanted:
        return ("lost" if "active" not in trail.words else "blocked"), told
    counted = "edition" not in case.ways  # by the maker's hand the service is not told
    if counted and trail.holders != (SIDES[case.holder],):
        return "lost", told
    return ("", "") if trail.next is None else ("blocked", told)


def doubled(trail: SeatTrail) -> bool:
    """Return whether two machines hold the seat."""
    return trail.words == ("active", "active") or len(trail.holders) > 1


def kill(name: str, kills: int, seed: int) -> Found:
    """Kill one case at effects thrown from ``seed``."""
    case, found, dice = CASES[name], Found(name), random.Random(f"{seed} {name}")
    folder = Path(tempfile.mkdtemp(prefix="widetrail-kills-"))
    (folder / "trail").mkdir()
    trail = SeatTrail(folder / "trail", **case.ways)
    try:
        case.before(trail)
        seen: list[Effect] = []
        case.act(trail.twin(folder / "unbroken"), Effects(seen.append))
        numbers = dice.sample(range(1, len(seen) + 1), min(kills, len(seen)))
        numbers += [dice.randint(1, len(seen)) for _ in range(kills - len(numbers))]
        for number in numbers:
            trail.service.folder = trail.folder / "maker"
            twin = trail.twin(folder / "killed")
            _one(twin, case, number, found)
            shutil.rmtree(folder / "killed")
        return found
    finally:
        trail.close()
        shutil.rmtree(folder, ignore_errors=True)


def _one(twin: SeatTrail, case: Case, number: int, found: Found) -> None:
    try:
        found.kills += _killed(twin, case.act, number)
        if doubled(twin):
            found.wrong.append(("doubled", f"right after the kill before effect {number}"))
        _again(twin, case.act)
        case.then(twin)
        on(twin)
        verdict, told = _judge(twin, case)
        if verdict:
            found.wrong.append((verdict, f"killed before effect {number}: {told}"))
    except Exception:
        found.wrong.append(("blocked", f"before effect {number}: {traceback.format_exc()}"))


def main() -> None:
    """Kill, and print what came of it."""
    options = argparse.ArgumentParser(description=(__doc__ or "").splitlines()[0])
    options.add_argument("--kills", type=int, default=1000)
    options.add_argument("--jobs", type=int, default=2)
    options.add_argument("--seed", type=int, default=1)
    options.add_argument("--case", choices=list(CASES), action="append")
    given = options.parse_args()
    names = given.case or list(CASES)
    each = [given.kills // len(names) + (n < given.kills % len(names)) for n in range(len(names))]
    began, verdicts, kills = time.monotonic(), Counter[str](), 0
    with ProcessPoolExecutor(given.jobs) as pool:
        for found in pool.map(kill, names, each, [given.seed] * len(names)):
            kills += found.kills
            verdicts.update(verdict for verdict, _ in found.wrong)
            print(f"{found.case:<34}{found.kills:>6} killed{len(found.wrong):>4} wrong", flush=True)
            for verdict, told in found.wrong[:3]:
                print(f"    {verdict}: {told}", flush=True)
    told = ", ".join(f"{verdicts[name]} {name}" for name in ("lost", "doubled", "blocked"))
    print(f"{kills} kills of {len(names)} acts: {told}; {time.monotonic() - began:.0f} s")
    sys.exit(bool(verdicts))


if __name__ == "__main__":
    main()
