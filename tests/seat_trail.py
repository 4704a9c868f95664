"""The move of a licence as tests walk it: real programs, the real service, a real parcel."""

from __future__ import annotations

import copy
import json
import shutil
from collections.abc import Callable, Mapping
from datetime import datetime
from functools import cache
from pathlib import Path
from typing import Any

import yaml

from conftest import NOW
from widetrail.licence.seat import step
from widetrail.licence.seat_events import Event, Seat
from widetrail.licence.service import Service, serving
from widetrail.licence.terms import Word
from widetrail.machine import Channels, Effects, FolderMachine, medium_of
from widetrail.machine.effects import Effect
from widetrail.parcel import Along, Parcel, Seal, make_seal, set_out
from widetrail.planning import Choices, make_plan
from widetrail.recipe import Loaded, Station, load_recipe_text
from widetrail.rehearsing.fault_injection import Stopped
from widetrail.rehearsing.maker import words_on
from widetrail.steps import KINDS
from widetrail.walking import (
    Answers,
    Company,
    LegDone,
    Patience,
    SeatLine,
    Visit,
    seat_line,
)
from widetrail.walking.seats import Ledger, seat_as_told
from widetrail_demo.other_programs import SERIALS
from widetrail_demo.world import build_world

ITEM = "loamlens.licence"
SIDES: dict[Station, str] = {
    "old": "potting-shed",
    "new": "glass-office",
    "between": "visitor-hall",
}
Edge = tuple[Seat, Event, Seat]


@cache
def sealed() -> tuple[Seal, bytes]:
    """Return one seal for all trails, since making one takes a second."""
    return make_seal("goldcrest in the yew")


@cache
def small_world() -> Path:
    """Return a small demo world that is laid out once and copied."""
    import tempfile

    folder = Path(tempfile.mkdtemp(prefix="widetrail-licences-"))
    build_world(folder, small=True)
    return folder


class SeatTrail:
    """One move of Loamlens' licence, whose service can go wrong and whose walks can be cut."""

    def __init__(
        self,
        folder: Path,
        *,
        offline: bool = False,
        packing: bool = False,
        repeat: str = "",
        edition: str = "",
        kind: str = "loamlens",
        scans: bool = False,
        edit: Callable[[str], str] = str,
    ) -> None:
        self.folder, self.now, self.moves = folder, NOW, 0
        self.offline, self._packing, self._scans = offline, packing, scans
        for name in (*SIDES.values(),):
            shutil.copytree(small_world() / "machines" / name, folder / name, symlinks=True)
        shutil.copytree(small_world() / "maker", folder / "maker")
        self.service = Service(folder / "maker")
        self._serving = serving(self.service)
        self.address = self._serving.__enter__()
        for station, name in SIDES.items():
            self._dress(folder / name, network=station == "between" or not offline)
        text = (small_world() / "recipes" / f"{kind}.trail.yaml").read_text()
        if repeat:
            text = text.replace("repeat: safe", f"repeat: {repeat}")
        self.recipe: Loaded = load_recipe_text(edit(text), f"{kind}.trail.yaml", KINDS)
        if edition:
            for station in ("old", "new"):
                machine = self.machine(station)
                ini = machine.host(f"{machine.root('config')}/Loamlens/loamlens.ini")
                ini.write_text(f"[loamlens]\nedition = {edition}\n")
        self.set_out()

    def close(self) -> None:
        self._serving.__exit__(None, None, None)

    def _dress(self, folder: Path, *, network: bool) -> None:
        file = folder / "machine.yaml"
        told: dict[str, Any] = yaml.load(file.read_bytes(), yaml.BaseLoader)
        told["network"] = "yes" if network else "no"
        told["environment"] = {"LICENCE_SERVICE": self.address if network else "http://127.0.0.1:9"}
        file.write_text(yaml.safe_dump(told))

    def set_out(self) -> None:
        """Plan the move, or plan it again into another parcel, later."""
        self.moves += 1
        self.now = datetime.fromtimestamp(NOW.timestamp() + 3600 * self.moves, NOW.tzinfo)
        self.parcel_folder = self.folder / f"parcel-{self.moves}"
        stays = frozenset() if self._scans else frozenset({"loamlens.scans"})
        after = "packing" if self._packing else "verifying"
        choices = Choices(without=stays, release_after=after)  # type: ignore[arg-type]
        old, new = self.machine("old"), self.machine("new")
        medium = medium_of(self.folder)
        plan = make_plan([self.recipe], old, new, medium, self.now, choices, sealed=True)
        run = f"run-{self.moves}"
        set_out(
            self.parcel_folder,
            plan,
            [self.recipe],
            run,
            self.now,
            old.effects,
            Along(None, choices, sealed()),
        )

    def machine(self, station: Station, effects: Effects | None = None) -> FolderMachine:
        return FolderMachine(self.folder / SIDES[station], effects)

    def parcel(self, effects: Effects | None = None) -> Parcel:
        parcel = Parcel(self.parcel_folder, effects or Effects())
        parcel.seal = sealed()[0]
        return parcel

    def visit(
        self,
        station: Station,
        hands: Mapping[str, Any] | None = None,
        effects: Effects | None = None,
    ) -> Visit:
        machine = self.machine(station, effects)
        company = Company(Answers(hands or {}), patience=Patience(waits=False))
        return Visit(self.parcel(machine.effects), machine, station=station, company=company)

    def walk(self, station: Station, hands: Mapping[str, Any] | None = None) -> LegDone:
        """Walk what is due at a station."""
        return self.visit(station, hands).walk(self.now)

    def cut(self, station: Station, at: Callable[[Effect], bool]) -> None:
        """Walk until ``at`` holds of an effect, and be killed before it."""

        def gate(effect: Effect) -> None:
            if at(effect):
                raise Stopped

        try:
            self.visit(station, effects=Effects(gate)).walk(self.now)
        except Stopped:
            return
        raise AssertionError("it was not cut off")

    def on(self, hands: Mapping[Station, Mapping[str, Any]] | None = None, most: int = 20) -> None:
        """Walk on, wherever something is due, until nothing is or nothing comes of it."""
        before: Any = None
        for _ in range(most):
            station = self.next
            if station is None:
                return
            self.walk(station, (hands or {}).get(station))
            after = (station, len(self.parcel().legs_done), self.parcel().outcomes)
            if after == before:
                return
            before = after

    @property
    def next(self) -> Station | None:
        """The station where something is to be done next."""
        return self.visit("old").next_station()

    def program(self, station: Station, *arguments: str, serial: bool = False) -> int:
        """Do something with the licence by hand, as a person would."""
        machine = self.machine(station)
        fed = Channels(f"{SERIALS['Loamlens']}\n".encode()) if serial else Channels()
        program = "C:/Program Files/Loamlens/loamlens.exe"
        return machine.start(program, ["seat", *arguments], 60, fed).status

    def unsure(self, station: Station) -> None:
        """Have the program of a station say nothing clear: a request of its own is open."""
        machine = self.machine(station)
        file = machine.host(f"{machine.root('config')}/Loamlens/licence.json")
        told = json.loads(file.read_text())
        file.write_text(json.dumps({**told, "pending": {"purpose": "drop"}}))

    def twin(self, folder: Path) -> SeatTrail:
        """Return a copy of the trail as it stands; the service keeps what it keeps there now."""
        shutil.copytree(self.folder, folder, symlinks=True)
        twin = copy.copy(self)
        twin.folder = folder
        twin.parcel_folder = folder / self.parcel_folder.name
        twin.service.folder = folder / "maker"
        return twin

    def maker_frees(self) -> None:
        """Have the maker take the seat from whoever holds it."""
        file = self.service.folder / "seats.json"
        state = self.service.read()
        file.write_text(
            json.dumps({**state, "seats": [{**s, "holders": []} for s in state["seats"]]})
        )

    @property
    def line(self) -> SeatLine:
        return seat_line(self.parcel(), ITEM)

    @property
    def seat(self) -> Seat:
        """The seat by all that is known anywhere."""
        return seat_as_told(self.parcel(), [self.machine(s) for s in SIDES], ITEM)

    @property
    def words(self) -> tuple[Word, Word]:
        """What the programs on old and new say."""
        return tuple(words_on(self.machine(s), [self.recipe])[ITEM] for s in ("old", "new"))  # type: ignore[return-value]

    @property
    def holders(self) -> tuple[str, ...]:
        return self.service.holders(SERIALS["Loamlens"])

    def edges(self) -> set[Edge]:
        """Return every edge of the seat machine that was walked, in whatever move."""
        found: set[Edge] = set()
        for number in range(1, self.moves + 1):
            parcel = Parcel(self.folder / f"parcel-{number}", Effects())
            told = list(parcel.seats(ITEM))
            known = {record.key for record in told}
            for station in SIDES:
                mine = Ledger(self.machine(station)).of_run(parcel.run)
                told += [record for record in mine if record.key not in known]
            seat = Seat()
            for record in told:
                event = record.happened
                after, _ = step(seat, event)
                found.add((seat, event, after))
                seat = after
        return found


def after_starts(count: int) -> Callable[[Effect], bool]:
    """Return what holds of the first effect after ``count`` programs were started."""
    seen = [0]

    def holds(effect: Effect) -> bool:
        due = seen[0] >= count
        seen[0] += effect.kind == "start"
        return due

    return holds


def before_start(count: int) -> Callable[[Effect], bool]:
    """Return what holds of the start of the program number ``count``."""
    seen = [0]

    def holds(effect: Effect) -> bool:
        seen[0] += effect.kind == "start"
        return seen[0] >= count

    return holds


def after_ledger() -> Callable[[Effect], bool]:
    """Return what holds of the first effect after something was written to the ledger of seats."""
    synced = [False]

    def holds(effect: Effect) -> bool:
        own = "/seats" in str(effect.path)
        due = synced[0] and not own
        synced[0] = synced[0] or (own and effect.kind == "sync")
        return due

    return holds
