"""Parsing what a stranger wrote, within bounds of time, memory and output.

Parsers run in a process of their own, kept for the next question. One that takes too long is
ended, one that needs too much memory fails there, and either becomes an ``Unreadable``; this
process is never at their mercy. Questions and answers are pickled through its pipes; only our own
two ends speak there.
"""

from __future__ import annotations

import atexit
import importlib
import pickle
import queue
import signal
import struct
import subprocess
import sys
import threading
import time
from collections import deque
from typing import IO, Any

from widetrail.formats.interface import Unreadable, Unwritable

SECONDS = 8.0
"""How long one question may take."""

PATTERN_SECONDS = 3.0
"""How long one may take that a recipe's own pattern or query is part of."""

LOST, WITHIN = 6.0, 60.0
"""Seconds that may be lost on questions that did not end, within so many: then none is asked."""

MEMORY = 1536 * 1024 * 1024
"""Address space of the worker in bytes, where the system can limit it."""

ANSWER = 16 * 1024 * 1024

_FUNCTIONS = {
    "expressions": ("widetrail.formats.expressions", "read_text_value"),
    "matches": ("widetrail.formats.expressions", "matches"),
    "xml": ("widetrail.formats.xml", "read_xml"),
    "tree": ("widetrail.formats.trees", "read_tree"),
    "ini": ("widetrail.formats.ini", "read_ini"),
    "ini sections": ("widetrail.formats.ini", "ini_sections"),
    "sqlite": ("widetrail.formats.sqlite", "query_sqlite"),
    "registry": ("widetrail.formats.registry", "registry_key"),
    "hive tree": ("widetrail.formats.hive", "hive_tree"),
    "hive": ("widetrail.formats.hive", "hive_key"),
    "registry tree": ("widetrail.formats.registry", "registry_tree"),
    "edit registry": ("widetrail.formats.registry", "edit_registry"),
    "spots": ("widetrail.formats.spots", "list_values"),
    "put": ("widetrail.formats.spots", "put_values"),
    "columns": ("widetrail.formats.sqlite", "list_column"),
    "put cell": ("widetrail.formats.sqlite", "put_cell"),
    "put columns": ("widetrail.formats.sqlite", "put_column"),
    "statements": ("widetrail.formats.sqlite", "run_statements"),
    "texts in database": ("widetrail.formats.sqlite", "texts_in"),
    "dconf below": ("widetrail.formats.dconf", "dconf_below"),
    "dconf": ("widetrail.formats.dconf", "read_dconf"),
}


_PATTERNS = frozenset({"expressions", "matches", "xml", "sqlite"})


class _Worker:
    """The process that parses, started at the first question."""

    def __init__(self) -> None:
        self._process: subprocess.Popen[bytes] | None = None
        self._answers: queue.Queue[bytes | None] = queue.Queue()
        self._lock = threading.Lock()
        self._lost: deque[tuple[float, float]] = deque()

    def _left(self) -> float:
        """Return how many seconds more may be lost now."""
        while self._lost and self._lost[0][0] < time.monotonic() - WITHIN:
            self._lost.popleft()
        return LOST - sum(seconds for _, seconds in self._lost)

    def renew(self) -> None:
        """Let as much be lost again as at the beginning."""
        self._lost.clear()

    def ask(self, function: str, arguments: tuple[Any, ...], seconds: float) -> Any:
        with self._lock:
            seconds = min(seconds, self._left())
            if seconds <= 0:
                raise Unreadable("was not read: too much before it took too long")
            process = self._running()
            assert process.stdin is not None
            question = pickle.dumps((function, arguments))
            sender = threading.Thread(target=_send, args=(process.stdin, question), daemon=True)
            sender.start()
            try:
                answer = self._answers.get(timeout=seconds)
            except queue.Empty:
                self.end()
                self._lost.append((time.monotonic(), seconds))
                raise Unreadable(f"was not read within {seconds:.0f} seconds") from None
            if answer is None:
                raise Unreadable(f"ended what read it ({self._how_it_ended(process)})")
        return pickle.loads(answer)

    def _running(self) -> subprocess.Popen[bytes]:
        if self._process is None or self._process.poll() is not None:
            self._answers = queue.Queue()
            self._process = subprocess.Popen(
                [sys.executable, "-I", "-m", __name__],
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


_worker = _Worker()
atexit.register(_worker.end)


def renew() -> None:
    """Begin anew to count what is lost on questions that do not end: another command begins."""
    _worker.renew()


def ask(function: str, *arguments: Any, seconds: float | None = None) -> Any:
    """Run one of the reading functions within bounds and return what it returns.

    ``seconds`` is how long it may take, if not as long as the constants here say.

    Raises:
        Unreadable: It says so, or time, memory or the size of the answer ran out.
        Unwritable: It says so.
    """
    if seconds is None:
        seconds = PATTERN_SECONDS if function in _PATTERNS else SECONDS
    verdict, value = _worker.ask(function, arguments, seconds)
    if verdict == "raised":
        raise value
    return value


def matches(expression: str, text: str) -> bool | None:
    """Return whether a recipe's expression matches anywhere in a text; ``None`` where that was not
    told in time."""
    if expression == ".":  # "there", as conditions write it, is asked often
        return any(c != "\n" for c in text)
    try:
        return bool(ask("matches", expression, text))
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


def _answer(function: str, arguments: tuple[Any, ...]) -> bytes:
    module, name = _FUNCTIONS[function]
    try:
        value = getattr(importlib.import_module(module), name)(*arguments)
        answer = pickle.dumps(("returned", value))
    except (Unreadable, Unwritable) as error:
        answer = pickle.dumps(("raised", error))
    except MemoryError:
        answer = pickle.dumps(("raised", Unreadable("needs more memory than is allowed")))
    except RecursionError:
        answer = pickle.dumps(("raised", Unreadable("is nested too deep")))
    if len(answer) > ANSWER:
        return pickle.dumps(("raised", Unreadable("gives more than is taken")))
    return answer


def _serve() -> None:
    _limit()
    source, target = sys.stdin.buffer, sys.stdout.buffer
    while (question := _frame(source)) is not None:
        answer = _answer(*pickle.loads(question))
        target.write(struct.pack(">Q", len(answer)) + answer)
        target.flush()


if __name__ == "__main__":
    _serve()
