"""Batches on many machines: workers of a scheduler of Dask Distributed (``widetrail[cluster]``).

The one who asks knows what is left: an errand that is lost, with its worker or with the scheduler,
is given out again, and one result is taken of each. A worker that dies or hangs is Dask's to start
anew (its nanny), one whose disk is full gets no more. An errand that takes its workers with it is
told as such.
"""

from __future__ import annotations

import logging
import os
import time
from collections import deque
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from concurrent.futures import CancelledError
from contextlib import contextmanager, suppress
from functools import cache
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar
from uuid import uuid4

import widetrail
from widetrail import __version__
from widetrail.catalogue.errand_inputs import packed
from widetrail.catalogue.errands import (
    Errand,
    Unfit,
    do_errand,
    end_session,
    jobs_in,
    python_here,
)
from widetrail.errors import InputUnusable
from widetrail.formats.quantities import show_count
from widetrail.rehearsing.inputs import tree_digest
from widetrail.workers import Crew, Killed

if TYPE_CHECKING:
    from distributed import Client, Future, Worker

T = TypeVar("T")
R = TypeVar("R")

LONGEST = 900.0
"""Seconds that one errand may take; then its worker is given up."""

PATIENCE = 60.0
"""Seconds that are waited for a scheduler, and for its first worker."""

TRIES = 12
"""How often an errand is given out again whose workers died, and it may be by chance: Dask ends it
each time that several of them did."""

GIVEN_UP = 2
"""How many workers must have been given up, since an errand took too long, to tell that it is the
errand."""

RARE = 1e-6
"""A chance that is none: an errand whose workers all died is to blame where others die so seldom
that this would not be."""

_LOOK = 1.0
"""Seconds after which it is looked again how many workers there are."""

_BEGUN, _GIVEN_UP = "widetrail-begun", "widetrail-given-up"
"""The topics under which workers tell which errand they begin, and which takes too long."""


@contextmanager
def on_scheduler(
    address: str, *, patience: float = PATIENCE, longest: float = LONGEST
) -> Iterator[Cluster]:
    """Lend the workers of the scheduler at an address, such as ``tcp://127.0.0.1:8786``.

    ``patience`` is how many seconds are waited for it and for a worker, ``longest`` how many one
    errand may take.

    Raises:
        InputUnusable: Dask is not installed, nobody answers there, no worker comes, or one has
            another version of Wide Trail.
    """
    cluster = Cluster(address, patience, longest)
    try:
        cluster.insist()
        yield cluster
    finally:
        cluster.close()


class Cluster(Crew):
    """The workers of a scheduler."""

    def __init__(self, address: str, patience: float, longest: float) -> None:
        super().__init__()
        self._address, self._patience, self._longest = address, patience, longest
        self._session, self._engine = uuid4().hex, _own_engine()
        self._client: Client | None = None
        self._held: dict[str, Future] = {}
        self._packed: dict[Path, tuple[str, bytes]] = {}
        self._unfit: dict[str, str] = {}
        self._again = 0
        self._looked, self._threads = -_LOOK, 0

    def told(self) -> str:
        told = [show_count(len(_workers_of(self._client)) if self._client else 0, "worker")]
        if self._again:
            told.append(f"{self._again} given out again")
        told += [f"{address} left out: {why}" for address, why in self._unfit.items()]
        return ", ".join(told)

    def insist(self) -> None:
        """Connect, wait for a worker, and see that each has this very Wide Trail.

        Raises:
            InputUnusable: As ``on_scheduler``.
        """
        client = self._connected()
        found = client.run(_own_engine, on_error="return")
        wrong = [worker for worker, told in found.items() if told != self._engine]
        if wrong:
            raise self._other_version(wrong)

    def close(self) -> None:
        """Let go of the scheduler, and of what was laid out on its workers."""
        if self._client is not None:
            _hush()
            with suppress(Exception):  # it may be gone by now
                self._client.run(_end, self._session, on_error="ignore")
            self._client.close(timeout=2)
            self._client = None

    def each(
        self, act: Callable[[T], R], values: Sequence[T], costs: Sequence[float] = ()
    ) -> Iterator[tuple[int, R | Killed]]:
        """As ``Crew.each``; those that cost most are given out first. Instead of a result comes
        ``Killed`` where workers died of it.

        Raises:
            InputUnusable: As ``on_scheduler``; or nobody is left who can do it.
        """
        order = sorted(range(len(values)), key=lambda n: -costs[n] if costs else n)
        asked = _Asked(self, act, values, deque(order))
        try:
            yield from asked.results()
        finally:
            asked.cancel()

    # The scheduler

    def _connected(self) -> Client:
        if self._client is not None and self._client.status == "running":
            return self._client
        try:
            from distributed import Client
        except ImportError as error:
            todo = 'Install it: pip install "widetrail[cluster]"'
            raise InputUnusable("Dask Distributed is not installed", todo=todo) from error
        if self._client is not None:
            self._client.close(timeout=1)
        self._held.clear()
        todo = "Start one (dask scheduler), or name another."
        try:
            self._client = Client(self._address, timeout=self._patience)
        except (OSError, ValueError) as error:
            what = "no scheduler answers"
            raise InputUnusable(what, where=self._address, why=str(error), todo=todo) from error
        try:
            self._client.wait_for_workers(1, timeout=self._patience)
        except TimeoutError as error:
            todo = f"Start some: dask worker {self._address} --nthreads 1"
            raise InputUnusable("no worker came", where=self._address, todo=todo) from error
        return self._client

    def _other_version(self, workers: Sequence[str]) -> InputUnusable:
        return InputUnusable(
            "workers have another version of Wide Trail, or none",
            where=", ".join(sorted(workers)),
            why=f"here is {__version__}; outcomes would differ",
            todo="Install the same one there, with the same Python.",
        )

    # What is given out

    def submit(self, act: Callable[[Any], Any], value: object) -> Future:
        """Give out one errand."""
        client = self._connected()
        files: list[tuple[str, str]] = []
        for path in dict.fromkeys(need for job in jobs_in(value) for need in job.needs()):
            whole = path.absolute()
            if whole not in self._packed:
                self._packed[whole] = packed(whole)
            files.append((str(whole), self._packed[whole][0]))
        inputs = [self._holding(client, *self._packed[Path(path)]) for path, _ in files]
        here = str(Path.cwd())
        engine, session = self._engine, self._session
        errand = Errand(act, value, tuple(files), here, session, engine, self._longest)
        chosen = {}
        if self._unfit:
            fit = [address for address in _workers_of(client) if address not in self._unfit]
            if not fit:
                raise self._nobody_left()
            chosen = {"workers": fit}
        key = f"errand-{uuid4().hex}"
        return client.submit(_do, errand, inputs, key, key=key, pure=False, **chosen)

    def _holding(self, client: Client, known_by: str, data: bytes) -> Future:
        """Return what holds some bytes on the workers: they come to each once."""
        held = self._held.get(known_by)
        if held is None or held.status not in ("pending", "finished"):
            self._held[known_by] = client.submit(_hold, data, key=f"input-{known_by}")
        return self._held[known_by]

    def leave_out(self, worker: str, unfit: Unfit) -> None:
        """Give no more errands to a worker.

        Raises:
            InputUnusable: It has another version of Wide Trail.
        """
        if unfit.is_other_version:
            raise self._other_version([worker])
        self._unfit[worker] = unfit.why
        self._again += 1

    def lost(self) -> None:
        """Note that an errand is given out again."""
        self._again += 1

    def _nobody_left(self) -> InputUnusable:
        why = "; ".join(f"{address}: {why}" for address, why in self._unfit.items())
        return InputUnusable("no worker is left", where=self._address, why=why)

    @property
    def at_once(self) -> int:
        """How many errands are given out at a time: some wait where a worker is done with one."""
        now = time.monotonic()
        if now - self._looked > _LOOK:
            workers = _workers_of(self._connected()).values()
            self._looked, self._threads = now, sum(one["nthreads"] for one in workers)
        return 2 * self._threads + 2

    def is_to_blame(self, mine: Collection[str], others: Mapping[str, bool]) -> bool:
        """Return whether workers died of an errand: it took too long, or died too often for chance.

        ``mine`` are the keys of all its tries, ``others`` those of the other errands, each with
        whether it came to its end.
        """
        with suppress(Exception):  # that is told by the scheduler, if it is still the same
            client = self._connected()
            begun, given_up = (
                [told for _, told in client.get_events(topic)] for topic in (_BEGUN, _GIVEN_UP)
            )
            if sum(key in mine for key in given_up) >= GIVEN_UP:
                return True
            ended = [others[key] for key in begun if key in others]
            died = sum(key in mine for key in begun)
            return died > 1 and by_chance(died, sum(ended), len(ended)) < RARE
        return False


def by_chance(died: int, ended: int, begun: int) -> float:
    """Return how likely it is that an errand which is like all others dies as often as it is begun.

    ``ended`` of the ``begun`` others came to an end; by the rule of succession (Laplace).
    """
    return (1 - (ended + 1) / (begun + 2)) ** died


def _workers_of(client: Client) -> Mapping[str, Any]:
    """Return what is told of each worker, by its address."""
    workers: Mapping[str, Any] = client.scheduler_info(n_workers=-1)["workers"]
    return workers


class _Asked:
    """The errands of one batch: what is left, what is given out, and what came back."""

    def __init__(
        self, cluster: Cluster, act: Callable[[Any], Any], values: Sequence[Any], left: deque[int]
    ) -> None:
        self._cluster, self._act, self._values, self._left = cluster, act, values, left
        self._out: dict[str, tuple[int, Future]] = {}
        self._keys: dict[str, int] = {}
        self._ended: set[str] = set()

    def results(self) -> Iterator[tuple[int, Any]]:
        from distributed import TimeoutError as TookLong
        from distributed import wait

        while self._left or self._out:
            self._give_out()
            with suppress(TookLong, CancelledError):
                wait([one for _, one in self._out.values()], 1, "FIRST_COMPLETED")
            came = [key for key, (_, one) in self._out.items() if one.status != "pending"]
            for key in came:
                number, future = self._out.pop(key)
                yield from self._taken(number, key, future)

    def cancel(self) -> None:
        """Take back what was given out and is not done."""
        if self._out:
            _hush()
        for _, future in self._out.values():
            with suppress(Exception):  # the scheduler may be gone
                future.cancel(force=True)

    def _give_out(self) -> None:
        room = self._cluster.at_once - len(self._out)
        while self._left and room > 0:
            number = self._left.popleft()
            future = self._cluster.submit(self._act, self._values[number])
            self._out[future.key] = number, future
            self._keys[future.key] = number
            room -= 1

    def _taken(self, number: int, key: str, future: Future) -> Iterator[tuple[int, Any]]:
        """Give what one errand came to; where it came to nothing, it is left again."""
        if future.status == "finished":
            worker, result = future.result()
            if isinstance(result, Unfit):
                self._cluster.leave_out(worker, result)
                self._left.appendleft(number)
            else:
                self._ended.add(key)
                yield number, result
            return
        if future.status == "error":
            error = future.exception()
            if type(error).__name__ != "KilledWorker":
                raise error
            mine = {one for one, whose in self._keys.items() if whose == number}
            others = {one: one in self._ended for one in self._keys.keys() - mine}
            if len(mine) > TRIES or self._cluster.is_to_blame(mine, others):
                yield number, Killed((error.allowed_failures + 1) * len(mine))
                return
            self._left.append(number)  # it may only have waited there
        else:  # the scheduler was started anew
            self._left.appendleft(number)
        self._cluster.lost()


# What workers do


def _hush() -> None:
    """Let Dask's own callbacks say nothing from now on: what they fail at once a client is let go
    of is nobody's concern."""
    for name in ("distributed", "tornado.application"):
        logging.getLogger(name).setLevel(logging.CRITICAL)


def _hold(data: bytes) -> bytes:
    return data


def _do(errand: Errand, inputs: list[bytes], key: str) -> tuple[str, Any]:
    from distributed import get_worker

    worker = get_worker()
    worker.log_event(_BEGUN, key)

    def give_up() -> None:
        worker.log_event(_GIVEN_UP, key)
        time.sleep(1)  # until that was told
        if worker.nanny is not None:  # which starts another one
            os._exit(70)

    scratch = Path(worker.local_directory) / "widetrail"
    scratch.mkdir(exist_ok=True)
    return worker.address, do_errand(errand, inputs, scratch, _own_engine(), give_up)


def _end(session: str, dask_worker: Worker) -> None:
    end_session(Path(dask_worker.local_directory) / "widetrail", session)


@cache
def _own_engine() -> str:
    """Return what tells which Wide Trail this is, and which Python runs it."""
    own = tree_digest(Path(widetrail.__file__).parent)
    return f"{__version__} {python_here()} {own}"
