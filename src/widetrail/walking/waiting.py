"""Waiting for what must come to be first, and being told how a walk goes."""

from __future__ import annotations

import time
from collections.abc import Callable

from widetrail.errors import Waiting
from widetrail.lazily import dataclass
from widetrail.steps import Onlooker, Step

LONGEST = 12 * 3600.0
"""Seconds that a walk waits for one thing, at most, where nothing else is said."""

FIRST_PAUSE, LONGEST_PAUSE = 0.1, 5.0


class Silent:
    """An onlooker that is told and says nothing."""

    def begins(self, step: Step, words: str, number: int, total: int) -> None:
        """See ``Onlooker``."""

    def waits(self, what: str) -> None:
        """See ``Onlooker``."""

    def moves(
        self,
        done: float,
        total: float,
        unit: str,
        left: float | None,
        files: tuple[int, int] | None = None,
    ) -> None:
        """See ``Onlooker``."""


@dataclass(frozen=True)
class Patience:
    """Whether a walk waits, for one thing at most ``longest`` seconds, and by which clock."""

    waits: bool = True
    longest: float = LONGEST
    clock: Callable[[], float] = time.monotonic
    sleep: Callable[[float], None] = time.sleep

    def await_(
        self,
        what: Callable[[], str],
        todo: str,
        onlooker: Onlooker,
        seconds: float | None = None,
        grace: float = 0.0,
    ) -> None:
        """Look again and again until ``what`` says nothing more; it says what is missing still.

        What was asked for has ``grace`` seconds to come, also where nothing else is waited for.

        Raises:
            Waiting: The walk does not wait, or ``seconds`` have passed.
        """
        lacking, told, pause = what(), "", FIRST_PAUSE
        most = self.longest if self.waits else min(grace, self.longest)
        end = self.clock() + (most if seconds is None else min(seconds, most))
        while lacking:
            if self.clock() >= end:
                passed = "" if not self.waits else ", and the time to wait is over"
                raise Waiting(f"waiting: {lacking}{passed}", todo=todo)
            if lacking != told:
                onlooker.waits(lacking)
                told = lacking
            self.sleep(min(pause, max(0.0, end - self.clock())))
            pause = min(LONGEST_PAUSE, pause * 1.5)
            lacking = what()
