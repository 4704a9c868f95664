"""What a station's journal tells of the runs of a command: whether it ran, and how it ended."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field, StrictInt

from widetrail.formats.stored_values import Count, Text, Truth
from widetrail.steps.contexts import Work
from widetrail.steps.journal_events import StepRecord, ToBeDoneAgain


class RunBegun(StepRecord):
    """A command is going to be let run."""

    event = "run begun"


class RunStarted(StepRecord):
    """The process of a command is there, and let run now; ``started`` is its system's clock's."""

    event = "run started"

    pid: Count
    started: Annotated[float, Field(ge=0, lt=1e12, allow_inf_nan=False)]


class RunEnded(StepRecord):
    """A command came to its end: its exit status, what it told, and whether what it makes is there
    (``done``); ``trouble`` is what is wrong."""

    event = "run ended"

    trouble: Text
    status: StrictInt | None
    tells: dict[Text, Text]
    done: Truth | None = None


class UndoneBy(StepRecord):
    """The command that takes back a run; ``before`` tells whether what the run makes was there."""

    event = "undone by"

    command: Annotated[tuple[Text, ...], Field(min_length=1)]
    before: Truth | None


class Ended(StepRecord):
    """What a command began was ended, as the recipe says."""

    event = "ended"


RECORDS = (RunBegun, RunStarted, RunEnded, UndoneBy, Ended)


def was_run(step: str, doing: Work) -> bool:
    """Return whether the command of a step was let run before, since it was to be done again."""
    begun, started = doing.recorded(RunBegun, step), doing.recorded(RunStarted, step)
    if begun is None or started is None or started.at < begun.at:
        return False  # the gate was never opened, so it never ran
    again = doing.recorded(ToBeDoneAgain, step)
    return again is None or again.at < begun.at


def ended_well(step: str, doing: Work) -> bool:
    """Return whether the newest run of a step came to its end without trouble."""
    ended = _newest_end(step, doing)
    return ended is not None and not ended.trouble


def status_of(step: str, doing: Work) -> int | None:
    """Return the exit status of the newest run of a step; ``None`` where it was cut off."""
    ended = _newest_end(step, doing)
    return ended.status if ended is not None else None


def _newest_end(step: str, doing: Work) -> RunEnded | None:
    begun, ended = doing.recorded(RunBegun, step), doing.recorded(RunEnded, step)
    if begun is None or ended is None or ended.at < begun.at:
        return None
    return ended
