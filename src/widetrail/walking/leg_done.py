"""What a walk did at a station, as values."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import field

from widetrail.lazily import dataclass
from widetrail.planning import PlannedLeg
from widetrail.recipe import Station
from widetrail.steps import (
    Failed,
    Outcome,
    Step,
    Waits,
)


@dataclass(frozen=True)
class StepDone:
    """One step with its words and its outcome."""

    step: Step
    words: str
    outcome: Outcome


@dataclass(frozen=True)
class LegDone:
    """What a walk did at a station, and the station that is due next, if any.

    ``troubles`` are what went wrong beside the steps; ``proved`` the remedies that are seen to be
    done now. ``again`` tells that there was nothing to do. ``topped_up`` tells of the items that
    were packed again how many names were added, changed and left out.
    """

    leg: PlannedLeg
    machine: str
    steps: tuple[StepDone, ...]
    next_machine: str
    troubles: tuple[str, ...] = ()
    proved: tuple[str, ...] = ()
    again: bool = False
    topped_up: Mapping[str, tuple[int, int, int]] = field(default_factory=dict)
    next_station: Station | None = None
    next_as: str = ""
    """What is to be said there of which station it is, as an option of a call."""

    @property
    def failed(self) -> tuple[StepDone, ...]:
        """The steps that came out wrong."""
        return tuple(s for s in self.steps if isinstance(s.outcome, Failed))

    @property
    def waits(self) -> tuple[StepDone, ...]:
        """The steps that wait for something, so that the leg is not at its end yet."""
        return tuple(s for s in self.steps if isinstance(s.outcome, Waits))

    @property
    def bad(self) -> tuple[StepDone, ...]:
        """The steps that failed or wait."""
        return (*self.failed, *self.waits)
