"""Hands of a rehearsal: answers written beforehand, and a medium that is taken away."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from widetrail.steps import Task
from widetrail.steps.detach import DETACH
from widetrail.walking import (
    Answers,
)


class StageHands(Answers):
    """Answers written beforehand; who says that the medium is gone has it taken away."""

    take_away: Callable[[], None] = staticmethod(lambda: None)

    def act(self, task: Task, play: Callable[[Sequence[str]], None]) -> bool:
        """Do a task as ``Answers`` does, and take the medium away where that is what it asks."""
        done = super().act(task, play)
        if done and task.name == DETACH:
            self.take_away()
        return done
