"""A rehearsal that is set out once, and walked in copies of itself."""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from contextlib import suppress
from datetime import datetime
from pathlib import Path

from widetrail.errors import WideTrailError
from widetrail.licence.seat_words import words_of
from widetrail.licence.service import Service
from widetrail.machine import Effects, FolderMachine, medium_of
from widetrail.machine.own_folders import own_on
from widetrail.machine.paths import join
from widetrail.parcel import Along, Parcel, set_out
from widetrail.planning import Plan, PlannedLeg, make_plan
from widetrail.recipe import Station
from widetrail.rehearsing import Rehearsal
from widetrail.rehearsing.maker import (
    serials_on,
    words_on,
)
from widetrail.rehearsing.runner import choices_of
from widetrail.rehearsing.stage import RUN, prepared_copy
from widetrail.rehearsing.stage_hands import StageHands
from widetrail.steps import Asked, act_of
from widetrail.walking import Company, LegDone, Patience, Silent, Visit
from widetrail.walking.seats import seat_as_told

PARCEL, MAKER = "parcel", "maker"


class Repeating(StageHands):
    """A person who looks, and says of a run whose end is not known that it is to be repeated."""

    asked = 0

    def answer(self, asked: Asked) -> str | None:
        if "repeat" in asked.choices or asked.choices == ("done",):
            self.asked += 1
            return "repeat" if "repeat" in asked.choices else "done"
        return super().answer(asked)


class Stage:
    """Copies of a rehearsal's machines with a parcel set out between them."""

    def __init__(
        self,
        here: Path,
        rehearsal: Rehearsal,
        machines: Path,
        now: datetime,
        service: Service | None = None,
    ) -> None:
        """Lay the stage in ``here``, which holds nothing but what ``service`` keeps."""
        self.here, self.now, self.rehearsal, self.service = here, now, rehearsal, service
        file = rehearsal.file
        self.sides: dict[Station, str] = {"old": file.old.machine, "new": file.new.machine}
        sides = [file.old, file.new]
        if file.between is not None:
            self.sides["between"] = file.between.machine
            sides.append(file.between)
        self.recipes = rehearsal.recipes()
        for side in sides:
            source, target = machines / side.machine, self.here / side.machine
            prepared_copy(source, target, side, self.recipes, service)
        old, new = self.machine("old"), self.machine("new")
        choices = choices_of(file, self.recipes)
        medium = medium_of(self.here)
        sealed = file.seal()
        closed = sealed is not None
        self.plan: Plan = make_plan(self.recipes, old, new, medium, now, choices, sealed=closed)
        self._seal = sealed[0] if sealed is not None else None
        parcel = self.here / PARCEL
        set_out(parcel, self.plan, self.recipes, RUN, now, old.effects, Along(sealed=sealed))
        self.serials = serials_on(old, self.recipes)
        self.hands = Repeating(file.all_hands)

    def machine(
        self, station: Station, effects: Effects | None = None, here: Path | None = None
    ) -> FolderMachine:
        """Return the machine of a station, here or in a copy of the stage."""
        return FolderMachine((here or self.here) / self.sides[station], effects)

    def parcel(self, here: Path, effects: Effects) -> Parcel:
        """Return the parcel, here or in a copy of the stage, open where it is sealed."""
        folder = here / PARCEL
        if not folder.exists():  # it was detached, and what is left of it lies on new
            new = self.machine("new", effects, here)
            folder = new.host(join(own_on(new), RUN, "parcel"))
        parcel = Parcel(folder, effects)
        parcel.seal = self._seal  # taking the passphrase each time would take seconds
        return parcel

    def volumes_of(self, station: Station) -> list[str]:
        """Return the folders of a station's machine that are a volume each."""
        machine, name = self.machine(station), self.sides[station]
        return [f"{name}/{disk.folder}" for disk in machine.file.disks.values()]

    def volumes(self) -> list[str]:
        """Return every folder that is a volume: disks, the medium, and what else there is."""
        disks = [v for station in self.sides for v in self.volumes_of(station)]
        return [*disks, PARCEL, *([MAKER] if self.service is not None else []), ""]

    def walk(
        self,
        leg: PlannedLeg,
        here: Path,
        hands: StageHands,
        effects: Effects | None = None,
        watching: Silent | None = None,
    ) -> LegDone | None:
        """Walk ``leg`` in a copy of the stage; ``None`` where it was at its end already."""
        machine = self.machine(leg.station, effects, here)
        self.serve(here)
        hands.take_away = lambda: self._take_away(here, machine.effects)
        company = Company(hands, watching or Silent(), Patience(longest=20))
        parcel = self.parcel(here, machine.effects)
        visit = Visit(parcel, machine, station=leg.station, company=company)
        if not visit.due_here:
            visit.after_done(self.now)
            return None
        return visit.walk(self.now)

    def serve(self, here: Path) -> None:
        """Have the service keep what it keeps in a copy of the stage from now on."""
        if self.service is not None:
            self.service.folder = here / MAKER

    def _take_away(self, here: Path, effects: Effects) -> None:
        shutil.rmtree(here / PARCEL)
        effects.sync_folder(here)


def places_changed(stage: Stage, item: str, station: Station) -> Iterator[str]:
    """Give the places, below its machine's folder, that an item's copies change on a station."""
    machine = stage.machine(station)
    for step in stage.plan.steps:
        comes = station == "old" or act_of(step).places
        if step.item == item and step.station == station and comes:
            for path in step.changes:
                with suppress(WideTrailError):
                    yield machine.host(path).relative_to(machine.folder).as_posix()


def seats_trouble(stage: Stage, here: Path) -> str:
    """Return what is wrong with where the seats are: two machines have one, or nobody has it and
    nothing says what a person must do."""
    if stage.service is None:
        return ""
    stage.serve(here)
    stations: tuple[Station, ...] = ("old", "new")
    words = {s: words_on(stage.machine(s, None, here), stage.recipes) for s in stations}
    for item, serial in stage.serials.items():
        active = [s for s in stations if words[s][item] == "active"]
        holders = stage.service.holders(serial)
        if len(active) > 1 or len(holders) > 1:
            return f"{item} is active on {' and '.join(active)}, held by {' and '.join(holders)}"
        machines = [stage.machine(s, None, here) for s in stage.sides]
        seat = seat_as_told(stage.parcel(here, Effects()), machines, item)
        if not active and seat.act is None and seat.stage not in ("released", "renounced"):
            return f"{item} is active nowhere, and the ledger says: {words_of(seat)}"
    return ""
