"""This machine watched while a person uses a program: what changed, and what the program held open.

Nothing is started, changed or taken away: what a person did between two looks is told by the status
of files, and where a marker is found again. Values are known from the second time on that a file
changes, as is whether it was appended to, since no file is read before it has.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Iterator, Sequence
from contextlib import suppress

import psutil

from widetrail.formats import digest
from widetrail.machine import Machine
from widetrail.machine.own_folders import OWN_STATE
from widetrail.machine.paths import base, is_within, written_by_machine
from widetrail.tracing.fingerprint import Fingerprint, seconds_since
from widetrail.tracing.markers import find_marker
from widetrail.tracing.parts import data_of, value_parts
from widetrail.tracing.record import Changed, Part, Run, RunKind, Touch, Trace, Way
from widetrail.tracing.secrecy import changed_value

EVERY = 0.1
"""Seconds between two looks at which files a program holds open."""


class OpenFiles:
    """Which files the processes of a program hold open, looked at again and again.

    ``program`` is the name of its file, or its path.
    """

    def __init__(self, program: str) -> None:
        self._wanted = base(program).casefold().removesuffix(".exe")
        self._seen: set[str] = set()
        self._ended = threading.Event()
        self._thread = threading.Thread(target=self._look, daemon=True)

    def begin(self) -> None:
        self._thread.start()

    def end(self) -> set[str]:
        """Return the paths that were seen, as the system has them."""
        self._ended.set()
        self._thread.join(5)
        return set(self._seen)

    @property
    def seen(self) -> frozenset[str]:
        """The paths that were seen until now, as the system has them."""
        return frozenset(self._seen)

    @property
    def running(self) -> bool:
        """Whether a process of the program runs now."""
        return any(True for _ in self._processes())

    def _processes(self) -> Iterator[psutil.Process]:
        for process in psutil.process_iter(["name"]):
            name = (process.info["name"] or "").casefold().removesuffix(".exe")
            if name == self._wanted:
                yield process

    def _look(self) -> None:
        while not self._ended.wait(EVERY):
            for process in self._processes():
                with suppress(psutil.Error, OSError):
                    self._seen.update(file.path for file in process.open_files())


class LiveWatch:
    """Watches the account's folders of a machine, and further ``folders``, for one program."""

    def __init__(self, machine: Machine, program: str, folders: Sequence[str] = ()) -> None:
        self._machine, self._program = machine, program
        home = machine.root("home")
        platform = machine.platform
        others = (f for f in folders if not is_within(f, home, platform))
        self._folders = tuple(dict.fromkeys((home, *others)))
        own = frozenset(
            str(machine.host(f"{machine.root(root)}/{OWN_STATE}")) for root in ("state", "cache")
        )
        self._print = Fingerprint(tuple(str(machine.host(f)) for f in self._folders), own)
        self._known: dict[str, tuple[int, str]] = {}
        self._values: dict[str, dict[Part, str]] = {}
        self._runs: list[Run] = []
        self._begin()

    @property
    def names(self) -> int:
        """How many names are watched."""
        return self._print.size

    @property
    def running(self) -> bool:
        """Whether the program runs now."""
        return self._open.running

    @property
    def holds(self) -> frozenset[str]:
        """The files that it was seen to hold open since the last run ended."""
        return self._open.seen

    def _begin(self) -> None:
        self._open = OpenFiles(self._program)
        self._open.begin()
        self._began, self._since = time.monotonic(), time.time_ns()

    def end(self, kind: RunKind, did: str, marker: str = "", *, secret: bool = False) -> Run:
        """Take in what happened since the run before, as one run; the next one begins."""
        seconds = time.monotonic() - self._began
        ways: dict[str, set[Way]] = {}
        when: dict[str, int] = {}
        for path in self._open.end():
            own = written_by_machine(path, self._machine.platform)
            if any(is_within(own, f, self._machine.platform) for f in self._folders):
                ways.setdefault(own, set()).add("read")
        for seen in self._print.differences():
            own = written_by_machine(seen.path, self._machine.platform)
            if not seen.folder:
                ways.setdefault(own, set()).add(seen.how)
                when[own] = seen.when
        touched = tuple(
            self._touch(path, ways[path], when.get(path, 0), marker, secret=secret)
            for path in sorted(ways)
        )
        number = sum(run.did == did for run in self._runs)
        run = Run(kind, did, number, 0, round(seconds, 3), touched, secret=secret)
        self._runs.append(run)
        self._begin()
        return run

    def _touch(self, path: str, ways: set[Way], when: int, marker: str, *, secret: bool) -> Touch:
        (was, before), entry = self._known.get(path, (None, "")), self._machine.look(path)
        size = entry.size if entry is not None and entry.kind == "file" else None
        at = seconds_since(self._since, when)
        if ways <= {"read"} or size is None:
            return Touch(path, tuple(sorted(ways)), was, size, at=at)
        data = data_of(self._machine, path)
        if was is not None and len(data) > was > 0 and digest(data[:was]) == before:
            ways = ways | {"appended"}
        self._known[path] = len(data), digest(data)
        found = find_marker(self._machine, path, marker)
        values = tuple(self._changes(path, marker, secret=secret))
        return Touch(path, tuple(sorted(ways)), was, size, digest(data), found, values, at)

    def _changes(self, path: str, marker: str, *, secret: bool) -> Iterator[Changed]:
        """Give the values that changed since the file was read last; a file that was not read yet
        gives those alone that hold the marker."""
        was, now = self._values.get(path), value_parts(self._machine, path)
        self._values[path] = now
        for part in dict.fromkeys((*(was or ()), *now)):
            before, after = (was or {}).get(part), now.get(part)
            value = changed_value(part, before, after, marker, secret=secret)
            if (was is not None and before != after) or value.marked:
                yield value

    def trace(self, title: str) -> Trace:
        """End watching; return what was found."""
        self._open.end()
        return Trace(
            title,
            "",
            self._program,
            (),
            "",
            "",
            False,
            ("fingerprints", "open files"),
            ("on this machine nothing is taken away, so nothing is proved",),
            tuple(self._runs),
            (),
            (),
        )
