"""An office that was planned: its moves, and the round of trips that walks them."""

from __future__ import annotations

import shlex
from collections.abc import Iterator
from pathlib import Path

from widetrail.lazily import dataclass
from widetrail.planning.office import OfficeRound
from widetrail.planning.office_table import OfficeRow
from widetrail.planning.plan import Plan, PlannedLeg
from widetrail.steps import Step


@dataclass(frozen=True)
class PlannedMove:
    """One move of an office that was planned: its row, its plan, and the folder of its parcel."""

    row: OfficeRow
    plan: Plan
    parcel: Path

    def legs(self, numbers: tuple[int, ...]) -> list[PlannedLeg]:
        """Return some of its legs."""
        return [leg for leg in self.plan.legs if leg.number in numbers]

    def steps(self, numbers: tuple[int, ...]) -> Iterator[Step]:
        """Give the steps of some of its legs."""
        for leg in self.legs(numbers):
            yield from (step for step in self.plan.steps if step.id in leg.steps)

    def calls(self, numbers: tuple[int, ...]) -> Iterator[str]:
        """Give the command line that walks each of some legs."""
        folders = {"old": self.row.old, "new": self.row.new}
        for leg in self.legs(numbers):
            folder = folders.get(leg.station)
            words = ["widetrail", "walk", str(self.parcel)]
            if folder is not None and folder.is_dir():
                words += ["--machine", str(folder)]
            yield shlex.join(words)


@dataclass(frozen=True)
class Office:
    """An office that was planned: its moves, the round of trips, and the media in their order."""

    moves: tuple[PlannedMove, ...]
    round: OfficeRound
    media: tuple[Path, ...]

    def move(self, name: str) -> PlannedMove:
        """Return the move that a round calls so."""
        return next(one for one in self.moves if one.row.who == name)
