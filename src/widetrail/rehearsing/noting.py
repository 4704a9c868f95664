"""What is known of rehearsals from before they are run, and noting what they come to now."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from functools import cached_property
from pathlib import Path

from widetrail.errors import InputUnusable
from widetrail.lazily import dataclass
from widetrail.rehearsing.history import (
    QUARANTINE,
    History,
    Quarantine,
    Standing,
    day_after,
    open_history,
)
from widetrail.rehearsing.inputs import Inputs
from widetrail.rehearsing.rehearsed import Rehearsed
from widetrail.rehearsing.tried import Tried


@dataclass(frozen=True)
class Known:
    """What is known from before: a history, which results are added to as they come, and a folder
    that keeps what rehearsals try.

    Only those are run that ``changed``, where that is wanted: that did not pass with the very
    recipes, machines, programs and Wide Trail. To ``resume`` is to go on with the newest batch of
    the history, which was cut off.
    """

    history: Path | None = None
    changed: bool = False
    resume: bool = False
    cache: Path | None = None

    def standings(self, inputs: Mapping[str, Inputs]) -> dict[str, Standing]:
        """Return how each rehearsal stands in the history, by its name; nothing without one.

        Raises:
            InputUnusable: It is no history.
        """
        if self.history is None:
            return {}
        if not self.history.exists():  # the first runs make it
            return dict.fromkeys(inputs, Standing("", ("never",)))
        with open_history(self.history) as known:
            return {name: known.standing(one) for name, one in inputs.items()}


class Noting:
    """Notes results as they come; without a history, nowhere."""

    def __init__(
        self, history: History | None, batch: str, inputs: Mapping[str, Inputs], *, resumed: bool
    ) -> None:
        self._history, self._batch, self._inputs = history, batch, inputs
        self._resumed = resumed

    def known(self, tried: Tried) -> Rehearsed | None:
        """Return what a rehearsal came to in the batch that was cut off."""
        if self._history is None or not self._resumed:
            return None
        return self._history.of_batch(self._batch, self._inputs[tried.name], tried.path)

    def add(self, tried: Tried, result: Rehearsed) -> None:
        """Note what a rehearsal came to."""
        if self._history is not None:
            self._history.add([(self._inputs[tried.name], result)], self._batch)

    def killed(self, tried: Tried, why: str) -> None:
        """Put a rehearsal that its workers died of in quarantine."""
        if self._history is not None:
            of = self._inputs[tried.name]
            until = day_after(QUARANTINE)
            self._history.quarantine(of.whose, until, why, "killed", of.whole_digest)

    def quarantined(self) -> tuple[Quarantine, ...]:
        """Return the rehearsals at hand whose failing does not count today."""
        if self._history is None:
            return ()
        here = {one.whose for one in self._inputs.values()}
        put = self._history.quarantined(day_after(0))
        return tuple(one for one in put if one.whose in here)

    def dangerous(self, tried: Tried) -> Quarantine | None:
        """Return why a rehearsal is not to be run: its workers died of the very same."""
        if self._history is None:
            return None
        of = self._inputs[tried.name]
        mine = (one for one in self._put if (one.whose, one.tried) == (of.whose, of.whole_digest))
        return next((one for one in mine if one.kind == "killed"), None)

    @cached_property
    def _put(self) -> tuple[Quarantine, ...]:
        return self.quarantined()


@contextmanager
def noting(known: Known, inputs: Mapping[str, Inputs]) -> Iterator[Noting]:
    """Lend what notes results in a history, as a batch that ends where nothing cuts it off.

    Raises:
        InputUnusable: It is no history, or there is nothing to resume.
    """
    if known.history is None:
        yield Noting(None, "", inputs, resumed=False)
        return
    with open_history(known.history, add=True) as history:
        batch = history.cut_off() if known.resume else history.begin(len(inputs))
        if not batch:
            why = "all that was begun came to its end"
            raise InputUnusable("there is nothing to resume", where=str(known.history), why=why)
        yield Noting(history, batch, inputs, resumed=known.resume)
        history.end(batch)
