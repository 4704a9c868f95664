"""What happens while a rehearsal is walked: the work is stopped, or someone meddles."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

from widetrail.machine import Effect
from widetrail.machine.effect_failed import REFUSALS
from widetrail.rehearsing.rehearsal_file import Change, ComesOut, Incident
from widetrail.steps import Failed, Outcome, Step, Waits
from widetrail.walking import Silent


class Stopped(BaseException):
    """The work was stopped, as a kill would."""


class Happening(Silent):
    """Has the stops of a rehearsal happen when their steps are reached.

    It looks on at each walk, and is the gate of its effects.
    """

    def __init__(
        self,
        stops: Sequence[Incident],
        medium: Path,
        pull: Callable[[], None],
        meddle: Callable[[Change], None],
    ) -> None:
        """``pull`` takes the medium away; ``meddle`` does something to the machine at hand."""
        self._medium = medium.as_posix()
        self._on_medium: bool | None = None
        self._open = list(stops)
        self._pull, self._meddle = pull, meddle
        self._steps: list[Step] = []
        self._refusing: Incident | None = None
        self._during: list[Incident] = []
        self._records: int | None = None
        self.struck: Incident | None = None
        """What stopped the walk at hand, if anything did."""

    @property
    def begun(self) -> tuple[Step, ...]:
        """The steps that were begun in the walk at hand."""
        return tuple(self._steps)

    @property
    def left(self) -> tuple[Incident, ...]:
        """What was to happen and never did."""
        return tuple(stop for stop in self._open if not stop.lasting)

    def new_walk(self) -> None:
        """Begin another walk: what stopped the one before is over, but for what lasts."""
        self._steps, self._refusing, self.struck = [], None, None
        self._during, self._records = [], None

    def begins(self, step: Step, words: str, number: int, total: int) -> None:
        before, self._refusing = (self._steps[-1] if self._steps else None), None
        self._steps.append(step)
        self._during = [s for s in self._open if s.during is not None and _is(step, s)]
        for stop in list(self._open):
            at = step if stop.before is not None else before if stop.after is not None else None
            if at is not None and _is(at, stop) and not isinstance(stop.by, ComesOut):
                self._happen(stop)

    def instead(self, step: Step) -> Outcome | None:
        """Return how a step comes out that is not to be done, or ``None`` where it is."""
        for stop in list(self._open):
            if isinstance(stop.by, ComesOut) and _is(step, stop):
                if not stop.lasting:
                    self._open.remove(stop)
                made = Failed if stop.by.comes_out == "failed" else Waits
                return made(stop.by.why, "Do what the reason says, then walk again.")
        return None

    def ended(self) -> None:
        """See that the walk came to its end: what happens after its last step happens now."""
        for stop in list(self._open):
            after = stop.after is not None and self._steps
            if after and _is(self._steps[-1], stop) and isinstance(stop.by, Change):
                self._happen(stop)

    def _happen(self, stop: Incident) -> None:
        if not stop.lasting:
            self._open.remove(stop)
        if isinstance(stop.by, Change):
            self._meddle(stop.by)
            return
        self.struck = stop
        if stop.by == "medium pulled":
            self._pull()
        elif stop.by == "killed":
            raise Stopped
        else:
            self._refusing, self._on_medium = stop, None

    def gate(self, effect: Effect) -> None:
        """Refuse an effect, where the system is to refuse it; a journal can be written.

        What is refused is what lies where the step's first change is made: the medium, or the
        machine.

        What happens during a step happens once its program was let run: then the journal has a
        record of that, and whatever is done next is not done.
        """
        if effect.kind == "start":
            self._records = 0
        elif self._records is not None:
            self._records += effect.kind == "append"
            if self._records > 1 or effect.kind not in ("append", "write", "sync"):
                self._records = None
                due, self._during = self._during, []
                for one in due:
                    self._happen(one)
        stop = self._refusing
        if stop is None or not isinstance(stop.by, str) or effect.path.endswith("/journal"):
            return
        on_medium = effect.path.startswith(self._medium)
        if self._on_medium is None:
            self._on_medium = on_medium
        number = next((n for by, n in REFUSALS.items() if by == stop.by), None)
        if on_medium == self._on_medium and number is not None:
            raise OSError(number, stop.by)


def _is(step: Step, stop: Incident) -> bool:
    """Return whether a step is the one that is meant: by its id, or the end of that."""
    return step.id == stop.step or step.id.endswith((f"/{stop.step}", f".{stop.step}"))
