"""What the logbook of a parcel tells of a move."""

from __future__ import annotations

from collections.abc import Mapping

from widetrail.errors import ParcelUnusable
from widetrail.formats.outside import SafePath
from widetrail.formats.stored_values import why_not
from widetrail.parcel.events import (
    LEG_DONE,
    LEG_HALTED,
    LEG_MENDED,
    PACKED,
    SEAT_TOLD,
    SERIAL_KEPT,
    SETTLED,
    TOPPED_UP,
    TOPPING_UP,
    UNDONE,
)
from widetrail.parcel.logbook import Generation
from widetrail.parcel.parcel_files import ParcelFiles
from widetrail.parcel.seat_record import SeatRecord
from widetrail.planning import Choices
from widetrail.recipe import Station
from widetrail.steps import Outcome, read_outcome


class ToldMove(ParcelFiles):
    """A move as the logbook of its parcel tells it; nothing is changed."""

    folder: SafePath
    generations: tuple[Generation, ...]
    _outcomes: dict[str, Mapping[str, Outcome]]

    def _outcomes_in(self, generation: Generation) -> Mapping[str, Outcome]:
        """Return the outcomes that an entry of the logbook tells, by the ids of their steps.

        Raises:
            ParcelUnusable: One is none.
        """
        if generation.digest not in self._outcomes:
            found: dict[str, Outcome] = {}
            for step, told in generation.body.steps.items():
                try:
                    found[step] = read_outcome(told)
                except ValueError as error:
                    raise self._untold(step, why_not(error)) from error
            self._outcomes[generation.digest] = found
        return self._outcomes[generation.digest]

    def _untold(self, step: str, why: str) -> ParcelUnusable:
        where = f"{self.folder}: {step}"
        return ParcelUnusable("the logbook cannot be read", where=where, why=why)

    @property
    def legs_done(self) -> tuple[Generation, ...]:
        """The generations of the legs that were done."""
        return tuple(g for g in self.generations if g.event == LEG_DONE)

    @property
    def results(self) -> tuple[Generation, ...]:
        """The generations that tell how steps came out, of legs done, halted and mended, and what
        was packed so far."""
        known = (LEG_DONE, LEG_HALTED, LEG_MENDED, TOPPED_UP, PACKED, SERIAL_KEPT, SEAT_TOLD)
        return tuple(g for g in self.generations if g.event in known)

    @property
    def outcomes(self) -> dict[str, Outcome]:
        """The newest outcome of each step that was done, by its id."""
        steps: dict[str, Outcome] = {}
        for generation in self.generations:
            steps |= self._outcomes_in(generation)
            for step in generation.body.again:
                steps.pop(step, None)
        return steps

    @property
    def tries(self) -> dict[str, Outcome]:
        """The newest outcome of each step, also of one that is to be done again."""
        return {step: o for g in self.results for step, o in self._outcomes_in(g).items()}

    def outcomes_of(self, leg: int) -> dict[str, Outcome]:
        """Return the newest outcome of each step over all walks that a leg took."""
        mine = (g for g in self.results if g.body.leg == leg)
        return {step: o for g in mine for step, o in self._outcomes_in(g).items()}

    @property
    def due_again(self) -> dict[str, str]:
        """The steps that are to be done again, each with the generation that says so."""
        steps: dict[str, str] = {}
        for generation in self.generations:
            for step in generation.body.steps:
                steps.pop(step, None)
            steps |= dict.fromkeys(generation.body.again, generation.digest)
        return steps

    @property
    def done_again(self) -> frozenset[str]:
        """The steps that were to be done again after they had come out well."""
        return frozenset(s for g in self.generations for s in g.body.again)

    def seats(self, item: str) -> tuple[SeatRecord, ...]:
        """Return what happened to the seat of a licence, oldest first, as its stations told."""
        told = (record for g in self.generations for record in g.body.seats)
        return tuple(record for record in told if record.item == item)

    @property
    def proofs(self) -> dict[str, dict[str, str]]:
        """By item and loss, what its proof on new was missing when it was looked at last."""
        found: dict[str, dict[str, str]] = {}
        for generation in self.results:
            for item, looked in generation.body.proofs.items():
                found.setdefault(item, {}).update(looked)
        return found

    @property
    def is_topped_up(self) -> bool:
        """Whether all that was packed is whole: topping up was not cut off."""
        ended = [g.number for g in self.generations if g.event in (TOPPING_UP, TOPPED_UP)]
        return not ended or self.generations[ended[-1] - 1].event == TOPPED_UP

    def topped_up_since(self, generation: str) -> bool:
        """Return whether it was topped up after the generation with that digest."""
        known = [g.digest for g in self.generations]
        later = self.generations[known.index(generation) + 1 :] if generation in known else ()
        return any(g.event in (TOPPING_UP, TOPPED_UP) for g in later)

    @property
    def undone_at(self) -> Mapping[Station, str]:
        """The stations where the move was undone, as far as was told, with their machines."""
        told = (g.body for g in self.generations if g.event == UNDONE)
        return {body.station: body.machine for body in told if body.station}

    @property
    def newest(self) -> str:
        """The digest of the newest generation of the logbook."""
        return self.generations[-1].digest

    def _known(self) -> dict[str, str]:
        """Return every file of the cargo that the logbook ever named, with its SHA-256."""
        files: dict[str, str] = {}
        for generation in self.results:
            files |= generation.body.files
        return files

    @property
    def settled(self) -> bool:
        """Whether its cargo was removed for good."""
        return any(g.event == SETTLED for g in self.generations)

    @property
    def choices(self) -> Choices:
        """What the person chose when the plan was made."""
        written = self.generations[0].body.choices
        assert written is not None, "the logbook was judged as it was read"
        return written.choices

    def _packed(self) -> tuple[Generation, ...]:
        """Return the generation with the newest whole index, and those after it with more."""
        packed: list[Generation] = []
        for generation in reversed(self.results if not self.settled else ()):
            if generation.body.index is not None:
                packed.append(generation)
                if generation.body.whole:
                    break
        return tuple(reversed(packed))
