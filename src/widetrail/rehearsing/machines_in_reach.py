"""The copies of a rehearsal's machines, and moving them in and out of reach."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from widetrail.errors import InputUnusable
from widetrail.licence.service import Service
from widetrail.machine import Effects, FolderMachine
from widetrail.recipe import Loaded, Station
from widetrail.rehearsing.rehearsal_file import Side
from widetrail.rehearsing.stage import (
    prepared_copy,
)

PARCEL = "parcel"
"""The folder of the parcel, beside the machines."""


class MachinesInReach:
    """A rehearsal's machines, of which only those that a station has are in reach."""

    _here: Path
    _away: Path
    _sides: dict[Station, Side]
    _recipes: Sequence[Loaded]
    _service: Service | None

    def _copy(self, machines: Path, folder: Path, *stations: Station) -> None:
        """Copy the machines of ``stations`` into a folder and make them what the rehearsal says."""
        for side in (self._sides[station] for station in stations):
            target = folder / side.machine
            if (self._here / side.machine).exists() or target.exists():
                raise InputUnusable("two computers of the move are one machine", where=side.machine)
            prepared_copy(machines / side.machine, target, side, self._recipes, self._service)

    def _open(self, station: Station, effects: Effects | None = None) -> FolderMachine:
        return FolderMachine(self._here / self._sides[station].machine, effects)

    def _only(self, *names: str) -> None:
        """Leave only these within reach."""
        for name in [*(side.machine for side in self._sides.values()), PARCEL]:
            here, away = self._here / name, self._away / name
            if name in names and away.exists():
                away.rename(here)
            elif name not in names and here.exists():
                here.rename(away)

    def _alone(self, station: Station, *, parcel: bool = False) -> FolderMachine:
        """Leave only the machine of a station within reach, and open it."""
        self._only(self._sides[station].machine, *([PARCEL] if parcel else []))
        return self._open(station)

    def all_back(self) -> None:
        """Bring everything within reach again, for who looks into the machines."""
        self._only(*(side.machine for side in self._sides.values()), PARCEL)
