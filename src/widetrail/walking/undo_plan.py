"""What undoing a run would do here, as values."""

from __future__ import annotations

from widetrail.lazily import dataclass
from widetrail.steps.undo import UndoAct


@dataclass(frozen=True)
class Doubt:
    """A command of the application of which nobody knows whether it did anything.

    ``step`` is its id, ``words`` what is not known, ``command`` what would take it back.
    """

    step: str
    words: str
    command: tuple[str, ...]


@dataclass(frozen=True)
class PutAway:
    """What was put away by undoing, by where it stood: each name, and the files below them that
    were changed after the walk had begun."""

    names: tuple[str, ...]
    changed: tuple[str, ...]


@dataclass(frozen=True)
class UndoPlan:
    """What undoing will do, in order, and in words what it cannot take back.

    ``doubts`` are taken back only where a person says that they were done.
    """

    acts: tuple[UndoAct, ...]
    cannot: tuple[str, ...]
    doubts: tuple[Doubt, ...] = ()
