"""Doing the same for many values: here, in several processes, or wherever else there are crew."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from typing import TypeVar

from widetrail.errors import WideTrailError

T = TypeVar("T")
R = TypeVar("R")


class Killed(WideTrailError):
    """What did a function for a value died of it, each time it was tried."""

    def __init__(self, times: int) -> None:
        super().__init__("its workers died of it", why=f"{times} of them, one after the other")


class Crew:
    """What does a function for each of many values, here or in as many processes as there are
    ``jobs``."""

    def __init__(self, jobs: int = 1) -> None:
        self.jobs = jobs

    def told(self) -> str:
        """Return how the crew are, in words; nothing where that goes without saying."""
        return ""

    def each(
        self, act: Callable[[T], R], values: Sequence[T], costs: Sequence[float] = ()
    ) -> Iterator[tuple[int, R | Killed]]:
        """Give for each value its number (from 0) and what ``act`` made of it, as they come.

        ``costs`` are what is known of how long each takes; those that take longest may be begun
        first.
        """
        with workers(min(self.jobs, len(values))) as each:
            yield from enumerate(each(act, values))


MANY = 300
"""Documents that are read by several processes: fewer are quicker in one."""


def readers(count: int) -> int:
    """Return how many processes are to read so many documents."""
    return (os.cpu_count() or 1) if count >= MANY else 1


@contextmanager
def workers(
    count: int, at_once: int = 1
) -> Iterator[Callable[[Callable[[T], R], Sequence[T]], Iterator[R]]]:
    """Lend what does a function for each of many values and gives the results in their order.

    With a ``count`` of 1 that is done here, else in as many processes, which are given ``at_once``
    values at a time.
    """
    if count <= 1:
        yield lambda act, values: map(act, values)
        return
    import multiprocessing
    from concurrent.futures import ProcessPoolExecutor

    context = multiprocessing.get_context("spawn")
    with ProcessPoolExecutor(count, mp_context=context) as pool:
        try:
            yield lambda act, values: pool.map(act, values, chunksize=at_once)
        except BaseException:
            pool.shutdown(wait=False, cancel_futures=True)
            raise
