"""Parsing what a stranger wrote, within bounds of time, memory and output.

Parsers run in a process of their own, kept for the next question: a function of a module, and what
it is given. One that takes too long is ended, one that needs too much memory fails there, and
either becomes an ``Unreadable``; this process is never at their mercy. Questions and answers are
pickled through its pipes; only our own two ends speak there.
"""

from __future__ import annotations

import atexit
import pickle
import queue
import signal
import struct
import subprocess
import sys
import threading
import time
from collections import deque
from collections.abc import Callable, Mapping
from typing import IO, Any, ParamSpec, TypeVar, cast

from widetrail.formats import expressions
from widetrail.formats.canonical import digest
from widetrail.formats.form import Form
from widetrail.formats.interface import Unreadable, Unwritable
from widetrail.formats.kept_answers import KeptAnswers

P = ParamSpec("P")
T = TypeVar("T")
_Question = tuple[Callable[..., Any], tuple[Any, ...], dict[str, Any]]

SECONDS = 8.0
"""How long one question may take."""

PATTERN_SECONDS = 3.0
"""How long one may take that a recipe's own pattern or query is part of."""

LOST, WITHIN = 6.0, 60.0
"""Seconds that may be lost on questions that did not end, within so many: then none is asked."""

MEMORY = 1536 * 1024 * 1024
"""Address space of the worker in bytes, where the system can limit it."""

ANSWER = 16 * 1024 * 1024

_START = f"import sys; sys.path[:] = sys.argv[1:]; from {__name__} import serve; serve()"
"""What the worker runs: it finds modules where this process does, but not in its folder."""


class _Worker:
    """The process that parses, started at the first question."""

    def __init__(self) -> None:
        self._process: subprocess.Popen[bytes] | None = None
        self._answers: queue.Queue[bytes | None] = queue.Queue()
        self._lock = threading.Lock()
        self._lost: deque[tuple[float, float]] = deque()
        self._kept = KeptAnswers()

    def _left(self) -> float:
        """Return how many seconds more may be lost now."""
        while self._lost and self._lost[0][0] < time.monotonic() - WITHIN:
            self._lost.popleft()
        return LOST - sum(seconds for _, seconds in self._lost)

    def renew(self) -> None:
        """Let as much be lost again as at the beginning."""
        self._lost.clear()

    def ask(self, question: _Question, seconds: float) -> Any:
        told = pickle.dumps(question)
        key = digest(told) if _of_contents(question) else ""
        with self._lock:
            if (kept := self._kept.get(key)) is not None:
                return pickle.loads(kept)
            seconds = min(seconds, self._left())
            if seconds <= 0:
                raise Unreadable("was not read: what came before it took too long")
            process = self._running()
            assert process.stdin is not None
            sender = threading.Thread(target=_send, args=(process.stdin, told), daemon=True)
            sender.start()
            try:
                answer = self._answers.get(timeout=seconds)
            except queue.Empty:
                self.end()
                self._lost.append((time.monotonic(), seconds))
                raise Unreadable(f"was not read within {seconds:.0f} seconds") from None
            if answer is None:
                raise Unreadable(f"crashed its reader ({self._how_it_ended(process)})")
            if key:
                self._kept.keep(key, answer)
        return pickle.loads(answer)

    def _running(self) -> subprocess.Popen[bytes]:
        if self._process is None or self._process.poll() is not None:
            self._answers = queue.Queue()
            self._process = subprocess.Popen(
                [sys.executable, "-I", "-c", _START, *filter(None, sys.path)],
                stdin=subprocess.PIPE,
                stdout=subprocess.PIPE,
                stderr=subprocess.DEVNULL,
            )
            assert self._process.stdout is not None
            arguments = (self._process.stdout, self._answers)
            threading.Thread(target=_receive, args=arguments, daemon=True).start()
        return self._process

    def _how_it_ended(self, process: subprocess.Popen[bytes]) -> str:
        try:
            status = process.wait(1)
        except subprocess.TimeoutExpired:
            status = 0
        self.end()
        if status >= 0:
            return f"with {status}"
        known = {s.value: s.name for s in signal.Signals}
        return known.get(-status, f"signal {-status}")

    def begin(self) -> None:
        """Start the process, where it does not run."""
        with self._lock:
            self._running()

    def end(self) -> None:
        process, self._process = self._process, None
        if process is None:
            return
        process.kill()
        process.wait()
        for pipe in (process.stdin, process.stdout):
            if pipe is not None:
                try:
                    pipe.close()
                except OSError:
                    continue


def _of_contents(question: _Question) -> bool:
    """Return whether a question is about contents that it holds itself, not about a file that may
    change: then the answer is the same each time."""
    _, arguments, _ = question
    return isinstance(arguments[0], bytes)


_worker = _Worker()
atexit.register(_worker.end)


def renew() -> None:
    """Begin anew to count what is lost on questions that do not end: another command begins."""
    _worker.renew()


def begin() -> None:
    """Start the process that parses, so that it is ready at the first question.

    It keeps the rights that this process has now, so not where some of them are given up yet.
    """
    _worker.begin()


def ask(function: Callable[P, T], *arguments: P.args, **more: P.kwargs) -> T:
    """Run a function of a module within bounds and return what it returns.

    Raises:
        Unreadable: It says so, or time, memory or the size of the answer ran out.
        Unwritable: It says so.
    """
    return _asked(SECONDS, function, arguments, more)


def ask_pattern(function: Callable[P, T], *arguments: P.args, **more: P.kwargs) -> T:
    """Run a function as ``ask`` does, where a recipe's own pattern or query is part of it."""
    return _asked(PATTERN_SECONDS, function, arguments, more)


def ask_form(form: Form, function: Callable[P, T], *arguments: P.args, **more: P.kwargs) -> T:
    """Run a function of a form as ``ask`` does."""
    seconds = PATTERN_SECONDS if form.by_recipe else SECONDS
    return _asked(seconds, function, arguments, more)


def _asked(
    seconds: float,
    function: Callable[..., T],
    arguments: tuple[Any, ...],
    more: Mapping[str, Any],
) -> T:
    verdict, value = _worker.ask((function, arguments, dict(more)), seconds)
    if verdict == "raised":
        raise value
    return cast(T, value)


def matches(expression: str, text: str) -> bool | None:
    """Return whether a recipe's expression matches anywhere in a text; ``None`` where that was not
    told in time."""
    if expression == ".":  # "there", as conditions write it, is asked often
        return any(c != "\n" for c in text)
    try:
        return bool(ask_pattern(expressions.matches, expression, text))
    except Unreadable:
        return None


def _send(pipe: IO[bytes], data: bytes) -> None:
    try:
        pipe.write(struct.pack(">Q", len(data)) + data)
        pipe.flush()
    except (OSError, ValueError):  # the worker ended; the answer tells
        return


def _receive(pipe: IO[bytes], answers: queue.Queue[bytes | None]) -> None:
    try:
        while (data := _frame(pipe)) is not None:
            answers.put(data)
    except (OSError, ValueError):
        pass
    answers.put(None)


def _frame(pipe: IO[bytes]) -> bytes | None:
    head = pipe.read(8)
    if len(head) < 8:
        return None
    size = struct.unpack(">Q", head)[0]
    data = pipe.read(size)
    return data if len(data) == size else None


def _limit() -> None:
    if sys.platform != "win32":
        import resource

        resource.setrlimit(resource.RLIMIT_AS, (MEMORY, MEMORY))
        resource.setrlimit(resource.RLIMIT_CORE, (0, 0))


def _answer(question: bytes) -> bytes:
    try:
        function, arguments, more = pickle.loads(question)
        answer = pickle.dumps(("returned", function(*arguments, **more)))
    except (Unreadable, Unwritable) as error:
        answer = pickle.dumps(("raised", error))
    except MemoryError:
        answer = pickle.dumps(("raised", Unreadable("needs more memory than is allowed")))
    except RecursionError:
        answer = pickle.dumps(("raised", Unreadable("is nested too deep")))
    if len(answer) > ANSWER:
        return pickle.dumps(("raised", Unreadable("is larger than the limit")))
    return answer


def serve() -> None:
    """Answer questions until there are no more."""
    _limit()
    source, target = sys.stdin.buffer, sys.stdout.buffer
    while (question := _frame(source)) is not None:
        answer = _answer(question)
        target.write(struct.pack(">Q", len(answer)) + answer)
        target.flush()
