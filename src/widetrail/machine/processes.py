"""Programs that are run to their end: behind a gate, in their time, and nothing stays behind."""

from __future__ import annotations

import errno
import os
import select
import signal
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from typing import IO

from widetrail.formats.quantities import show_size
from widetrail.lazily import dataclass
from widetrail.machine.process_start import Limits, Start

if sys.platform == "win32":
    from widetrail.machine.windows_processes import JobProcess

PRINTED_MOST = 16 * 1024 * 1024
"""Bytes a program may print to be listened to; one that prints more is stopped."""


GRACE = 0.5
"""Seconds in which what a program started may end after it."""


GONE_WITHIN = 5.0
"""Seconds in which what was ended is gone."""


ASKED = 2.0
"""Seconds in which a program that was asked to end may do so, before it is ended."""


Began = Callable[[int, float], None]
"""Told the number of a process and when it was started, in seconds since 1970."""


class Stopped(Exception):
    """A program was stopped; the text says why."""


@dataclass(frozen=True)
class Ran:
    """How a program ended: its status (negative: the signal that ended it), what it printed, and
    a line for each process that it left running."""

    status: int
    output: bytes
    errors: bytes
    left: tuple[str, ...] = ()


_Started = tuple["subprocess.Popen[bytes]", Callable[[], None]]


_GATE = """
import os, sys
gate, trouble, *command = sys.argv[1:]
gate, trouble = int(gate), int(trouble)
for handle in (gate, trouble):
    os.set_inheritable(handle, False)
if os.read(gate, 1):
    try:
        os.execve(command[0], command, os.environ)
    except OSError as error:
        os.write(trouble, str(error.errno).encode())
"""
"""Waits for one byte, then becomes the program; without the byte it ends."""


def run_to_end(
    wanted: Start,
    seconds: float,
    *,
    stdin: bytes = b"",
    output: int | None = None,
    began: Began | None = None,
) -> Ran:
    """Run a program to its end, as ``Effects.run``; ``output`` is an open file.

    Raises:
        Stopped: It did not end within ``seconds``, printed more than ``PRINTED_MOST`` bytes, or
            used more than its limits.
    """
    with (
        tempfile.TemporaryFile() as printed,
        tempfile.TemporaryFile() as errors,
    ):
        streams = (printed if output is None else output, errors)
        given = subprocess.PIPE if stdin else subprocess.DEVNULL
        start = _behind_gate if began is not None else _at_once
        process, open_gate = start(wanted, given, streams)
        left: tuple[str, ...] = ()
        alone = False
        try:
            if began is not None:
                began(process.pid, started_at(process.pid))
            open_gate()
            feeder = _feed(process, stdin)
            _wait(process, seconds, (printed, errors), wanted.limits)
            if began is not None:
                left = _left_behind(process) if wanted.left is None else wanted.left()
            alone = not left
        finally:
            _end_group(process)
            if not alone:
                _await_gone(process)
            _leave(process)
        feeder.join(1)
        return Ran(process.returncode, _printed(printed), _printed(errors), left)


def run_at_terminal(wanted: Start) -> int:
    """Run a program at the terminal of this process, and return its exit status.

    It is given a terminal of its own between, so that it can type nothing into this one.
    """
    if sys.platform == "win32":  # only isolation needs it, which is not there
        raise OSError(errno.ENOSYS, "no terminal can be given", wanted.shown)
    import pty

    for handle in wanted.handles:
        os.set_inheritable(handle, True)
    variables = [f"{name}={value}" for name, value in wanted.env.items()]
    status = pty.spawn(["/usr/bin/env", "-i", *variables, *wanted.command])
    return os.waitstatus_to_exitcode(status)


def _leave(process: subprocess.Popen[bytes]) -> None:
    if process.stdin is not None:
        with suppress(OSError):
            process.stdin.close()
    if sys.platform == "win32" and isinstance(process, JobProcess):
        process.leave()


def _at_once(wanted: Start, given: int, streams: tuple[IO[bytes] | int, IO[bytes]]) -> _Started:
    if sys.platform == "win32":
        job = JobProcess(wanted, given, streams)
        return job, job.go
    process = subprocess.Popen(
        list(wanted.command),
        env=dict(wanted.env),
        cwd=wanted.folder,
        stdin=given,
        stdout=streams[0],
        stderr=streams[1],
        start_new_session=True,
        pass_fds=wanted.handles,
    )
    return process, lambda: None


def _behind_gate(wanted: Start, given: int, streams: tuple[IO[bytes] | int, IO[bytes]]) -> _Started:
    if sys.platform == "win32":  # there each program stands still at first
        return _at_once(wanted, given, streams)
    gate, opener = os.pipe()
    trouble, teller = os.pipe()
    shim = [sys.executable, "-I", "-S", "-c", _GATE, str(gate), str(teller), *wanted.command]
    try:
        process = subprocess.Popen(
            shim,
            env=dict(wanted.env),
            cwd=wanted.folder,
            stdin=given,
            stdout=streams[0],
            stderr=streams[1],
            start_new_session=True,
            pass_fds=(gate, teller, *wanted.handles),
        )
    except OSError:
        for handle in (opener, trouble):
            os.close(handle)
        raise
    finally:
        os.close(gate)
        os.close(teller)

    def open_gate() -> None:
        try:
            os.write(opener, b".")
            if told := os.read(trouble, 16):
                raise OSError(int(told), os.strerror(int(told)), wanted.command[0])
        finally:
            os.close(opener)
            os.close(trouble)

    return process, open_gate


def _feed(process: subprocess.Popen[bytes], stdin: bytes) -> threading.Thread:
    """Write ``stdin`` from a thread of its own, since a program need not read it."""

    def write() -> None:
        if process.stdin is not None:
            with suppress(OSError, ValueError):
                process.stdin.write(stdin)
                process.stdin.close()

    thread = threading.Thread(target=write, daemon=True)
    thread.start()
    return thread


def started_at(pid: int) -> float:
    """Return when a process was started, in seconds since 1970; 0 where there is none that runs:
    one that has ended and was not fetched by its parent does not."""
    import psutil

    try:
        process = psutil.Process(pid)
        ended = process.status() in (psutil.STATUS_ZOMBIE, psutil.STATUS_DEAD)
        return 0.0 if ended else float(process.create_time())
    except psutil.Error:
        return 0.0


def _left_behind(process: subprocess.Popen[bytes]) -> tuple[str, ...]:
    """Return what the program started and left running, after a moment of grace."""
    end = time.monotonic() + GRACE
    while (left := _started_by(process)) and time.monotonic() < end:
        time.sleep(0.02)
    return left


def _started_by(process: subprocess.Popen[bytes]) -> tuple[str, ...]:
    """Return a line for each process that a program started and that runs."""
    if sys.platform == "win32":
        told = process.started() if isinstance(process, JobProcess) else ()
    else:
        told = _of_session(process.pid)
    return tuple(f"process {pid} ({name})" for pid, name in told)


def _of_session(session: int) -> Iterator[tuple[int, str]]:
    import psutil

    if sys.platform == "win32":  # no sessions there
        return
    for pid in psutil.pids():
        with suppress(OSError, psutil.Error):
            if os.getsid(pid) == session and pid != session:
                other = psutil.Process(pid)
                if other.status() != psutil.STATUS_ZOMBIE:
                    yield pid, other.name()


def _wait(
    process: subprocess.Popen[bytes],
    seconds: float,
    printed: tuple[IO[bytes], ...],
    limits: Limits | None,
) -> None:
    end = time.monotonic() + seconds
    with _ended(process) as wait:
        while not wait(0.2):
            if any(os.fstat(f.fileno()).st_size > PRINTED_MOST for f in printed):
                raise Stopped("it printed without end")
            if time.monotonic() > end:
                _ask_to_end(process)
                wait(ASKED)
                raise Stopped(f"it did not end within {seconds:.0f} seconds")
            if limits is not None:
                _insist_within(process, limits)


def _insist_within(process: subprocess.Popen[bytes], limits: Limits) -> None:
    """Raise where a program with all that it started uses more than it may.

    Raises:
        Stopped: It does.
    """
    import psutil

    memory = number = 0
    with suppress(psutil.Error):
        for one in psutil.Process(process.pid).children(recursive=True):
            number += 1
            with suppress(psutil.Error):
                memory += one.memory_info().rss
    if number > limits.processes:
        raise Stopped(f"it had more than {limits.processes} processes")
    if memory > limits.memory:
        raise Stopped(f"it used more than {show_size(limits.memory)} of memory")


@contextmanager
def _ended(process: subprocess.Popen[bytes]) -> Iterator[Callable[[float], bool]]:
    """Lend what waits for a program's end, some seconds at most, and returns whether it came."""
    if not sys.platform.startswith("linux"):
        yield lambda seconds: _ends_within(process, seconds)
        return
    handle = os.pidfd_open(process.pid)  # Python's own wait looks again and again
    waiting = select.poll()
    waiting.register(handle, select.POLLIN)
    try:
        yield lambda seconds: bool(waiting.poll(seconds * 1000)) and _ends_within(process)
    finally:
        os.close(handle)


def _ends_within(process: subprocess.Popen[bytes], seconds: float | None = None) -> bool:
    try:
        process.wait(seconds)
    except subprocess.TimeoutExpired:
        return False
    return True


def _ask_to_end(process: subprocess.Popen[bytes]) -> None:
    """Ask a program to end by itself, so that it can write what it has not written yet."""
    if sys.platform != "win32":
        with suppress(OSError):
            os.killpg(process.pid, signal.SIGTERM)
    elif isinstance(process, JobProcess):
        process.ask_to_end()


def _end_group(process: subprocess.Popen[bytes]) -> None:
    """End what is left of a program and of what it started, so that nothing stays behind."""
    if sys.platform != "win32":
        with suppress(OSError):
            os.killpg(process.pid, signal.SIGKILL)
    elif isinstance(process, JobProcess):
        process.end_all()
    process.wait()


def _await_gone(process: subprocess.Popen[bytes]) -> None:
    """Wait until what was ended is gone; that takes a moment where the machine is busy."""
    end = time.monotonic() + GONE_WITHIN
    while _started_by(process) and time.monotonic() < end:
        time.sleep(0.02)


def _printed(file: IO[bytes]) -> bytes:
    file.seek(0)
    return file.read(PRINTED_MOST)
