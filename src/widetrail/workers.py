"""Doing the same for many values, in several processes where that is quicker."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from typing import TypeVar

T = TypeVar("T")
R = TypeVar("R")


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
