"""One run of a program, observed: what it did to which path of its machine."""

from __future__ import annotations

import os
from typing import Literal

from widetrail.machine import FolderMachine
from widetrail.machine.paths import base, parent
from widetrail.tracing.fingerprint import Fingerprint
from widetrail.tracing.record import Way
from widetrail.tracing.system_calls import Calls, WatchingEffects
from widetrail.tracing.zones import Zones


class Observation:
    """What happens on a copy of a machine from now on; ``before`` is a copy of it that stays.

    ``ways`` are what was done to each path of the account, ``when`` the last time where it is known
    (nanoseconds since 1970), ``system`` counts what belongs to the
    system or the program, ``missed`` what was asked for and is not there.
    """

    def __init__(self, machine: FolderMachine, before: FolderMachine, zones: Zones) -> None:
        self._machine, self._before, self._zones = machine, before, zones
        self._fingerprint = Fingerprint(zones.folders)
        self.tells_reading = self._fingerprint.forget_reading()
        self.ways: dict[str, set[Way]] = {}
        self.when: dict[str, int] = {}
        self.programs: dict[str, None] = {}
        self.system = self.missed = 0

    def command_ended(self) -> None:
        """Take in what the system told of a command that has ended, where it tells."""
        effects = self._machine.effects
        if isinstance(effects, WatchingEffects):
            for path in effects.calls.started:
                own = self._zones.inside(self._machine, path)
                self.programs[own if own is not None else base(path)] = None
            self._take(effects.calls)

    def end(self) -> None:
        """Take in what differs now."""
        for seen in self._fingerprint.differences(reading=self.tells_reading):
            own = self._zones.own(seen.path)
            if own is not None and not (seen.folder and seen.how == "written"):
                self.when[own] = max(self.when.get(own, 0), seen.when)
                self._add(own, "listed" if seen.folder and seen.how == "read" else seen.how)

    def _add(self, path: str, way: Way) -> None:
        if self._zones.of(path) in ("account", "temporary"):
            self.ways.setdefault(path, set()).add(way)

    def _take(self, calls: Calls) -> None:
        by_way: tuple[tuple[Way, set[str]], ...] = (
            ("read", calls.opened),
            ("listed", calls.listed),
            ("written", calls.written),
            ("looked", calls.looked),
            ("created", calls.made),
            ("missed", calls.missed),
        )
        for way, paths in by_way:
            for path in paths:
                own = self._zones.inside(self._machine, path)
                if own is None or self._zones.of(own) in ("system", "program"):
                    self.system += way != "missed"
                else:
                    self._take_one(own, way, is_removed=path in calls.removed)

    def _take_one(self, path: str, way: Way, *, is_removed: bool) -> None:
        kinds = {_kind(self._machine, path), _kind(self._before, path)}
        is_there = kinds != {""}
        if way == "missed":
            self.missed += 1
        if way == "created":
            above = parent(path)
            inside = above != parent(above) and _kind(self._before, above) == "folder"
            if not is_there and is_removed and inside:
                self._add(path, "fleeting")
        elif way == "looked":
            if "file" in kinds:
                self._add(path, way)
        elif way == "missed":
            if not is_there:
                self._add(path, way)
        elif is_there:
            self._add(path, way)


def _kind(machine: FolderMachine, path: str) -> Literal["", "file", "folder"]:
    host = str(machine.host(path))
    return "folder" if os.path.isdir(host) else "file" if os.path.lexists(host) else ""  # noqa: PTH112
