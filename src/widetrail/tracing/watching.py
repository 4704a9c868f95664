"""A trace: the program is started and used on copies of a machine, and what it touches is noted."""

from __future__ import annotations

import re
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Literal

from widetrail.errors import WentWrong
from widetrail.formats import digest
from widetrail.machine import FolderMachine
from widetrail.machine.effects import Effects
from widetrail.tracing import system_calls
from widetrail.tracing.experiments import Experiments
from widetrail.tracing.fingerprint import Fingerprint
from widetrail.tracing.lab import Lab, run
from widetrail.tracing.markers import find_marker, found_in_value
from widetrail.tracing.parts import data_of, store_values, value_parts
from widetrail.tracing.record import VALUE_MOST, Changed, Eye, Part, Run, RunKind, Touch, Trace, Way
from widetrail.tracing.script import Act, TraceFile
from widetrail.tracing.secrecy import is_secret
from widetrail.tracing.zones import Zones

Told = Callable[[str], None]
"""Told what is done now, in a few words."""

HIDDEN = "***"

NUMBERS_MOST = 10_000
"""Characters of the numbers that a program shows which are noted, at most."""


@dataclass
class _Paths:
    """What was done to the paths of the machine in one run."""

    ways: dict[str, set[Way]] = field(default_factory=dict)
    system: int = 0
    missed: int = 0

    def add(self, path: str, way: Way) -> None:
        self.ways.setdefault(path, set()).add(way)


def run_trace(script: TraceFile, machines: Path, told: Told = lambda text: None) -> Trace:
    """Run a script on copies of its machine, which lies below ``machines``.

    Raises:
        InputUnusable: The machine or a program is not there, or what the program prints cannot be
            compared.
    """
    told("what it prints")
    lab = Lab(machines / script.machine, script.program, script.screen)
    blind = system_calls.why_not()
    watch = _Watch(lab, script, calls=not blind)
    runs = tuple(watch.runs(told))
    tells_reading = watch.tells_reading
    found = Experiments(lab, touched_paths(runs), script.known, sees=tells_reading or not blind)
    shows, tells = found.shows(told), found.tells(told)
    eyes: list[Eye] = ["fingerprints"]
    if tells_reading:
        eyes.append("access times")
    if not blind:
        eyes.append("system calls")
    return Trace(
        script.trace,
        script.machine,
        lab.program,
        script.screen,
        digest(lab.usual.text.encode("utf-8", "surrogateescape")),
        " ".join(dict.fromkeys(re.findall(r"\d+", lab.usual.text)))[:NUMBERS_MOST],
        tuple(eyes),
        tuple(why for why in (blind, "" if tells_reading else "no access times here") if why),
        runs,
        shows,
        tells,
        lab.unstable,
        lab.trials,
    )


def touched_paths(runs: tuple[Run, ...]) -> dict[str, set[Way]]:
    """Return what was done to each path, in all runs."""
    found: dict[str, set[Way]] = {}
    for one in runs:
        for touch in one.touched:
            found.setdefault(touch.path, set()).update(touch.ways)
    return found


class _Watch:
    """Watches the runs of a script."""

    def __init__(self, lab: Lab, script: TraceFile, *, calls: bool) -> None:
        self._lab, self._script, self._calls = lab, script, calls
        self.tells_reading = False

    def runs(self, told: Told) -> Iterator[Run]:
        """Give the runs: idle ones and starts on one copy, each act on a copy of that."""
        with self._lab.copy(self._effects()) as machine:
            for number in range(self._script.idle):
                told(f"idle {number + 1} of {self._script.idle}")
                yield self._one(machine, "idle", "nothing", number, None)
            for number in range(self._script.starts):
                told(f"start {number + 1} of {self._script.starts}")
                yield self._one(machine, "start", "started, and closed again", number, None)
            for act in self._script.acts:
                for number in range(act.repeat):
                    told(f"{act.did} ({number + 1} of {act.repeat})")
                    with self._lab.copy(self._effects(), machine.folder) as other:
                        yield self._one(other, "act", act.did, number, act)

    def _effects(self) -> Effects:
        return system_calls.WatchingEffects() if self._calls else Effects()

    def _one(
        self, machine: FolderMachine, kind: RunKind, did: str, number: int, act: Act | None
    ) -> Run:
        with self._lab.copy(of=machine.folder) as before:
            zones = Zones(machine, self._lab.program)
            print_ = Fingerprint(zones.folders)
            reading = print_.forget_reading()
            self.tells_reading = self.tells_reading or reading
            began, paths, programs = time.monotonic(), _Paths(), list[str]()
            status, shown = self._do(machine, kind, act, paths, programs, zones, before)
            seconds = time.monotonic() - began
            for seen in print_.differences(reading=reading):
                own = zones.own(seen.path)
                if own is not None and not (seen.folder and seen.how == "written"):
                    way: Way = "listed" if seen.folder and seen.how == "read" else seen.how
                    paths.add(own, way)
            marker = act.marker if act is not None else ""
            touched = tuple(_touches(before, machine, zones, paths, act))
        return Run(
            kind,
            did,
            number,
            status,
            round(seconds, 3),
            touched,
            bool(marker) and marker in shown,
            act is not None and act.secret,
            tuple(dict.fromkeys(programs)),
            paths.missed,
            paths.system,
        )

    def _do(
        self,
        machine: FolderMachine,
        kind: RunKind,
        act: Act | None,
        paths: _Paths,
        programs: list[str],
        zones: Zones,
        before: FolderMachine,
    ) -> tuple[int, str]:
        """Do what a run is; return the exit status, and what was printed last."""
        if kind == "idle":
            time.sleep(self._script.waits)
            return 0, ""
        status, shown = 0, ""
        for command in (*(act.run if act is not None else ()), self._script.screen):
            try:
                done = run(machine, command, act.input if act is not None else "")
            except WentWrong:
                return -1, shown
            status, shown = status or done.status, done.output
            if isinstance(machine.effects, system_calls.WatchingEffects):
                calls = machine.effects.calls
                _take_calls(calls, machine, zones, before, paths)
                programs += calls.started
        return status, shown


def _take_calls(
    calls: system_calls.Calls,
    machine: FolderMachine,
    zones: Zones,
    before: FolderMachine,
    paths: _Paths,
) -> None:
    """Take in what system calls told, in the machine's own paths."""
    apart = bool(machine.not_isolated)
    by_way: tuple[tuple[Way, set[str]], ...] = (
        ("read", calls.opened),
        ("listed", calls.listed),
        ("looked", calls.looked),
        ("created", calls.made),
        ("missed", calls.missed),
    )
    for way, told in by_way:
        for host in told:
            own = zones.own(host) if apart else host
            if own is None or zones.of(own) in ("system", "program"):
                paths.system += way != "missed"
                continue
            there, was = _is_there(machine, own), _is_there(before, own)
            if way == "missed":
                paths.missed += 1
                if not there and not was and apart:
                    paths.add(own, "missed")
            elif way == "created" and not there and not was:
                if host in calls.removed:
                    paths.add(own, "fleeting")
            elif way in ("read", "listed") and (there or was):
                paths.add(own, way)
            elif way == "looked" and "file" in (there, was):
                paths.add(own, way)


def _is_there(machine: FolderMachine, path: str) -> Literal["", "file", "folder"]:
    host = str(machine.host(path))
    from os.path import isdir, lexists

    return "folder" if isdir(host) else "file" if lexists(host) else ""


def _touches(
    before: FolderMachine, machine: FolderMachine, zones: Zones, paths: _Paths, act: Act | None
) -> Iterator[Touch]:
    marker = act.marker if act is not None else ""
    secret = act is not None and act.secret
    for path in sorted(paths.ways):
        ways = paths.ways[path]
        if zones.of(path) in ("system", "program"):
            continue
        yield _touch(before, machine, path, ways, marker, secret=secret)
    was, now = store_values(before), store_values(machine)
    differing = [p for p in (*was, *(p for p in now if p not in was)) if was.get(p) != now.get(p)]
    for part in differing:
        found = found_in_value(now.get(part), marker)
        value = _changed(part, was.get(part), now.get(part), secret=secret and found)
        where = f"value {part.at}" if found else ""
        yield Touch(part.path, ("written",), marker=where, values=(value,))


def _touch(
    before: FolderMachine,
    machine: FolderMachine,
    path: str,
    ways: set[Way],
    marker: str,
    *,
    secret: bool,
) -> Touch:
    old, new = _size(before, path), _size(machine, path)
    changed = bool(ways & {"written", "created", "removed"})
    if not changed or (old is None and new is None):
        return Touch(path, tuple(sorted(ways)), old, new)
    was, now = data_of(before, path), data_of(machine, path)
    if was and len(now) > len(was) and now.startswith(was):
        ways = ways | {"appended"}
    found = find_marker(machine, path, marker) if new is not None else ""
    values = tuple(_changes(before, machine, path, marker, secret=secret))
    return Touch(path, tuple(sorted(ways)), old, new, digest(now), found, values)


def _size(machine: FolderMachine, path: str) -> int | None:
    entry = machine.look(path)
    return entry.size if entry is not None and entry.kind != "folder" else None


def _changes(
    before: FolderMachine, machine: FolderMachine, path: str, marker: str, *, secret: bool
) -> Iterator[Changed]:
    was, now = value_parts(before, path), value_parts(machine, path)
    for part in dict.fromkeys((*was, *now)):
        if was.get(part) != now.get(part):
            hides = secret and found_in_value(now.get(part), marker)
            yield _changed(part, was.get(part), now.get(part), secret=hides)


def _changed(part: Part, was: str | None, now: str | None, *, secret: bool) -> Changed:
    hidden = secret or is_secret(part.at)
    return Changed(part.form, part.at, _kept(was, hidden=hidden), _kept(now, hidden=hidden))


def _kept(text: str | None, *, hidden: bool) -> str | None:
    if text is None:
        return None
    return HIDDEN if hidden else text[:VALUE_MOST]
