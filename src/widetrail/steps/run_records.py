"""What a station's journal tells of the runs of a command: whether it ran, and how it ended."""

from __future__ import annotations

from widetrail.steps.contexts import Record, Work


def was_run(step: str, doing: Work) -> bool:
    """Return whether the command of a step was let run before, since it was to be done again."""
    begun, started = doing.recorded("run begun", step), doing.recorded("run started", step)
    if begun is None or started is None or place_of(started) < place_of(begun):
        return False  # the gate was never opened, so it never ran
    again = doing.recorded("to be done again", step)
    return again is None or place_of(again) < place_of(begun)


def ended_well(step: str, doing: Work) -> bool:
    """Return whether the newest run of a step came to its end without trouble."""
    ended = _newest_end(step, doing)
    return ended is not None and not ended["trouble"]


def status_of(step: str, doing: Work) -> int | None:
    """Return the exit status of the newest run of a step; ``None`` where it was cut off."""
    ended = _newest_end(step, doing)
    return int(ended["status"]) if ended is not None else None


def _newest_end(step: str, doing: Work) -> Record | None:
    begun, ended = doing.recorded("run begun", step), doing.recorded("run ended", step)
    if begun is None or ended is None or place_of(ended) < place_of(begun):
        return None
    return ended


def place_of(record: Record) -> int:
    """Return the place of a record in the journal: what came later has a higher one."""
    return int(record["at"])
