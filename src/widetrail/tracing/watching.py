"""A trace: the program is started and used on copies of a machine, and what it touches is noted."""

from __future__ import annotations

import re
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from pathlib import Path

from widetrail.errors import WentWrong
from widetrail.finding.selection import is_database
from widetrail.formats import digest
from widetrail.machine import Effects, FolderMachine
from widetrail.tracing import system_calls
from widetrail.tracing.cells import changed_cells
from widetrail.tracing.experiments import Experiments
from widetrail.tracing.fingerprint import seconds_since
from widetrail.tracing.lab import Lab, run
from widetrail.tracing.markers import find_marker
from widetrail.tracing.observation import Observation
from widetrail.tracing.parts import data_of, store_values, value_parts
from widetrail.tracing.record import CHANGING, Changed, Eye, Part, Run, RunKind, Touch, Trace, Way
from widetrail.tracing.script import Act, TraceFile
from widetrail.tracing.secrecy import changed_value
from widetrail.tracing.zones import Zones

Told = Callable[[str], None]
"""Told what is done now, in a few words."""

NUMBERS_MOST = 10_000
"""Characters of the numbers that a program shows which are noted, at most."""


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
    found = Experiments(lab, _touched_paths(runs), script.known, sees=tells_reading or not blind)
    shows, tells = found.shows(told), found.tells(told, list(_moves(runs)))
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
        re.search(rf"\b{re.escape(lab.user)}\b", lab.usual.text) is not None,
        tuple(eyes),
        tuple(why for why in (blind, "" if tells_reading else "no access times here") if why),
        runs,
        shows,
        tells,
        lab.unstable,
        lab.trials,
    )


def _touched_paths(runs: tuple[Run, ...]) -> dict[str, set[Way]]:
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
            watch = Observation(machine, before, Zones(machine, self._lab.program))
            self.tells_reading = self.tells_reading or watch.tells_reading
            began, since = time.monotonic(), time.time_ns()
            status, shown = self._do(machine, kind, act, watch)
            seconds = time.monotonic() - began
            watch.end()
            marker = act.marker if act is not None else ""
            touched = tuple(
                replace(touch, at=seconds_since(since, watch.when.get(touch.path, 0)))
                for touch in _touches(before, machine, watch.ways, act)
            )
        return Run(
            kind,
            did,
            number,
            status,
            round(seconds, 3),
            touched,
            bool(marker) and marker in shown,
            act is not None and act.secret,
            tuple(watch.programs),
            watch.missed,
            watch.system,
        )

    def _do(
        self, machine: FolderMachine, kind: RunKind, act: Act | None, watch: Observation
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
            watch.command_ended()
        return status, shown


def _moves(runs: tuple[Run, ...]) -> Iterator[tuple[Part, str]]:
    """Give the values that became what was marked in an act, with what they are then."""
    for one in runs:
        for touch in one.touched if one.kind == "act" and not one.secret else ():
            for value in touch.values:
                if value.after is not None and value.marked:
                    yield Part(touch.path, value.form, value.at), value.after


def _touches(
    before: FolderMachine, machine: FolderMachine, ways: dict[str, set[Way]], act: Act | None
) -> Iterator[Touch]:
    marker = act.marker if act is not None else ""
    secret = act is not None and act.secret
    found = [
        _touch(before, machine, path, ways[path], marker, secret=secret) for path in sorted(ways)
    ]
    yield from _with_renames(found, lambda path: digest(data_of(before, path)))
    was, now = store_values(before), store_values(machine)
    differing = [p for p in (*was, *(p for p in now if p not in was)) if was.get(p) != now.get(p)]
    for part in differing:
        value = changed_value(part, was.get(part), now.get(part), marker, secret=secret)
        where = f"value {part.at}" if value.marked else ""
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
    changed = bool(ways & CHANGING)
    if not changed or (old is None and new is None):
        return Touch(path, tuple(sorted(ways)), old, new)
    was, now = data_of(before, path), data_of(machine, path)
    if was and len(now) > len(was) and now.startswith(was):
        ways = ways | {"appended"}
    found = find_marker(machine, path, marker) if new is not None else ""
    values = tuple(_changes(before, machine, path, marker, secret=secret))
    return Touch(path, tuple(sorted(ways)), old, new, digest(now), found, values)


def _with_renames(touched: Sequence[Touch], digest_of: Callable[[str], str]) -> Iterator[Touch]:
    """Tell of a file that was removed and one with the same in it that was made that it was
    renamed; ``digest_of`` gives the digest of what was in a file before."""
    made = {
        (t.after, t.digest): t.path for t in touched if "created" in t.ways and t.after is not None
    }
    gone = {t.path: t for t in touched if t.after is None and t.before}
    names = {
        made[which]: path
        for path, touch in gone.items()
        if "removed" in touch.ways and (which := (touch.before, digest_of(path))) in made
    }
    for touch in touched:
        if touch.path in names or touch.path in names.values():
            ways = tuple(sorted({*touch.ways, "renamed"} - {"created", "removed"}))
            touch = replace(touch, ways=ways, renamed_from=names.get(touch.path, ""))
        yield touch


def _size(machine: FolderMachine, path: str) -> int | None:
    entry = machine.look(path)
    return entry.size if entry is not None and entry.kind != "folder" else None


def _changes(
    before: FolderMachine, machine: FolderMachine, path: str, marker: str, *, secret: bool
) -> Iterator[Changed]:
    if is_database(machine, path) or is_database(before, path):
        if before.look(path) is None or machine.look(path) is None:
            return  # what is in it came or went with it
        for part, old, new in changed_cells(before, machine, path):
            yield changed_value(part, old, new, marker, secret=secret)
        return
    was, now = value_parts(before, path), value_parts(machine, path)
    for part in dict.fromkeys((*was, *now)):
        if was.get(part) != now.get(part):
            yield changed_value(part, was.get(part), now.get(part), marker, secret=secret)
