"""Experiments on copies of a machine: what a program shows without a part, what tells a place.

Looking cannot tell which of two files is the real one. Taking one away can.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Literal

from widetrail.machine import Effects, FolderMachine
from widetrail.machine.path_notation import Written, is_there, read_written, write_again
from widetrail.machine.paths import base, is_within, join, parent, upwards
from widetrail.recipe.templates import ROOTS
from widetrail.tracing import system_calls
from widetrail.tracing.lab import Lab, Screen, alike
from widetrail.tracing.observation import Observation
from widetrail.tracing.parts import (
    change_values,
    data_of,
    settings_among,
    store_values,
    take_away,
    texts_in_lists,
    value_parts,
)
from widetrail.tracing.record import Part, Shows, Tells, Way
from widetrail.tracing.secrecy import is_secret, without_secrets
from widetrail.tracing.zones import Zones

PLACES_MOST = 200
"""Values that name a path and are tried, at most."""

DEFAULTS_MOST = 6
"""Paths that are tried as where a place is by default, at most."""

MOVED = "moved-7"
"""What is added to the name of a place that is moved."""

LINE_MOST = 200
"""Characters of a line that is noted, at most."""


def watched(lab: Lab) -> tuple[dict[str, set[Way]], bool]:
    """Start the program once on a copy; return what it touched, and whether reading was seen."""
    blind = system_calls.why_not()
    effects = Effects() if blind else system_calls.WatchingEffects()
    with lab.copy(effects) as machine, lab.copy(of=machine.folder) as before:
        watch = Observation(machine, before, Zones(machine, lab.program))
        lab.look(machine)
        watch.command_ended()
        watch.end()
    return watch.ways, watch.tells_reading or not blind


class Experiments:
    """What a lab tells of the files that were touched.

    ``sees`` tells that reading was seen; else all files of the account may matter.
    """

    def __init__(
        self,
        lab: Lab,
        touched: Mapping[str, set[Way]],
        known: Sequence[str],
        *,
        sees: bool,
    ) -> None:
        self._lab = lab
        self.machine = FolderMachine(lab.folder)
        self._zones = Zones(self.machine, lab.program)
        everything = list(self._files())
        used = {
            path
            for path in everything
            if path in touched
            or "listed" in touched.get(parent(path), ())
            or any(is_within(path, k, self.machine.platform) for k in known)
        }
        if not sees or not self._enough_with(everything, used):
            used = set(everything)
        self.files = [Part(path) for path in everything if path in used]
        self.files.sort(key=lambda part: (not self._is_cache(part.path), part.path))
        self._needed: list[Part] = []

    def _files(self) -> Iterator[str]:
        for folder in self._zones.folders:
            for above, folders, names in os.walk(folder):
                own = self._zones.own(above)
                if own is None or self._zones.of(own) in ("system", "program"):
                    folders[:] = []
                    continue
                folders.sort()
                for name in sorted(names):
                    path = join(own, name)
                    if self._zones.of(path) == "account":
                        yield path

    def _enough_with(self, everything: Sequence[str], used: set[str]) -> bool:
        """Return whether the program shows the same with nothing but what it was seen to use."""
        return self._lab.same(self._lab.without([Part(p) for p in everything if p not in used]))

    def _is_cache(self, path: str) -> bool:
        return any(
            is_within(path, self.machine.root(root), self.machine.platform)
            for root in ("cache", "temp")
        )

    def shows(self, told: Callable[[str], None]) -> tuple[Shows, ...]:
        """Find the least that is enough, and tell of each part whether the program misses it."""
        told(f"taking away {len(self.files)} files")
        files = self._lab.least(self.files)
        self._needed = files
        found = list(self._judged(self.files, files))
        settings = settings_among(self.machine, (file.path for file in files))
        values = [p for path in sorted(settings) for p in value_parts(self.machine, path)]
        told(f"taking away {len(values)} values of files")
        found += self._judged(values, self._lab.least(values))
        stored = list(store_values(self.machine))
        if stored:
            told(f"taking away {len(stored)} values of the system's stores")
            needed = self._lab.least(stored)
            found += [one for one in self._judged(stored, needed) if one.needed]
        return tuple(found)

    def _judged(self, parts: Sequence[Part], needed: Sequence[Part]) -> Iterator[Shows]:
        others = [part for part in parts if part not in set(needed)]
        back = self._back(others)
        for part in parts:
            if part not in needed:
                yield Shows(part, needed=False, back=part in back)
                continue
            without = self._lab.without([part])
            if self._lab.same(without):  # another one stands in for it
                without = self._lab.without([*others, part])
            usual, other = self._lab.difference(without)
            usual, other = without_secrets(usual), without_secrets(other)
            yield Shows(part, True, usual[:LINE_MOST], other[:LINE_MOST])

    def _back(self, parts: Sequence[Part]) -> set[Part]:
        """Return the files that are there again, with the same in them, after they were taken away
        and the program was started. One that comes back with other contents may have held what a
        person chose."""
        files = [part for part in parts if part.is_file]
        if not files:
            return set()
        with self._lab.copy() as machine:
            take_away(machine, files)
            self._lab.look(machine)
            return {part for part in files if self._is_same(machine, part.path)}

    def _is_same(self, machine: FolderMachine, path: str) -> bool:
        return is_there(machine, path) and data_of(machine, path) == data_of(self.machine, path)

    def tells(
        self, told: Callable[[str], None], moves: Sequence[tuple[Part, str]] = ()
    ) -> tuple[Tells, ...]:
        """Find the values that name a place, and try each by moving the place.

        ``moves`` are values that an act changed, each with what it was then.
        """
        settings = settings_among(self.machine, (file.path for file in self.files))
        values = {p: t for s in sorted(settings) for p, t in value_parts(self.machine, s).items()}
        for path in sorted(settings):
            values |= texts_in_lists(self.machine, path)
        values |= store_values(self.machine)
        found: list[Tells] = []
        for part, text in values.items():
            written = self._place(part, text)
            if written is not None and self._matters(written.path) and len(found) < PLACES_MOST:
                told(f"moving {written.path}")
                found.append(self._tried(part, text, written))
        return tuple(self._moved(one, moves) for one in found)

    def _moved(self, told: Tells, moves: Sequence[tuple[Part, str]]) -> Tells:
        """Return what is told of a place with where an act moved it, if one did."""
        for part, text in moves:
            if part == told.value:
                written, _ = read_written(text, self.machine)
                to = written.path if written is not None else ""
                return replace(told, proved="whole", moved_to=to)
        return told

    def _matters(self, place: str) -> bool:
        """Return whether the program needs something at or below a place."""
        return any(is_within(p.path, place, self.machine.platform) for p in self._needed)

    def _place(self, part: Part, text: str) -> Written | None:
        """Return the path that a value names, where that is there and can be moved."""
        if is_secret(part.at) or not any(c in text for c in "/\\~"):
            return None
        in_file = part.form not in ("registry", "dconf")
        written, _ = read_written(text, self.machine, part.path if in_file else "")
        if written is None or not is_there(self.machine, written.path):
            return None
        if written.style == "relative":
            return None  # it is told from where it stands, and moves with that
        path, platform = written.path, self.machine.platform
        if self._zones.of(path) != "account" or is_within(
            self.machine.root("home"), path, platform
        ):
            return None
        return written if parent(path) != path else None

    def _tried(self, part: Part, text: str, written: Written) -> Tells:
        place = written.path
        other = join(parent(place), f"{base(place)} {MOVED}")
        source = (
            part.path
            if is_within(part.path, "/", self.machine.platform) or ":" in part.path
            else ""
        )
        now = write_again(written, other, self.machine, source)

        def move(machine: FolderMachine) -> None:
            Path(machine.host(place)).rename(machine.host(other))

        def move_and_tell(machine: FolderMachine) -> None:
            change_values(machine, part.path, part.form, {part.at: now})
            move(machine)

        followed = self._named_back(self._lab.after(move_and_tell))
        lost = self._lab.after(move)
        there = self.machine.look(place)
        folder = there is not None and there.kind == "folder"
        proof = self._proof(followed, lost)
        default = self._default(part, place, lost) if proof != "no" else ""
        return Tells(part, place, text[:LINE_MOST], proof, folder, default)

    def _default(self, part: Part, place: str, lost: Screen) -> str:
        """Return where the program looks where a value is not there; empty where that is not seen.

        What it asks for then, and is not there, are the candidates; each is tried.
        """
        for candidate in self._asked_for(part, place):

            def fall_back(machine: FolderMachine, to: str = candidate) -> None:
                take_away(machine, [part])
                host = Path(machine.host(to))
                host.parent.mkdir(parents=True, exist_ok=True)
                Path(machine.host(place)).rename(host)

            if self._proof(self._lab.after(fall_back), lost) != "no":
                return candidate
        return ""

    def _lies_in_a_folder(self, path: str) -> bool:
        """Return whether a folder above a path is there, that is not the top of a disk."""
        above = (p for p in upwards(path) if p != path and parent(p) != p)
        return any(is_there(self.machine, p) for p in above)

    def _asked_for(self, part: Part, place: str) -> list[str]:
        """Return the paths that the program misses without a value, and the folders above them."""
        if system_calls.why_not():
            return []
        effects = system_calls.WatchingEffects()
        with self._lab.copy(effects) as machine:
            take_away(machine, [part])
            zones = Zones(machine, self._lab.program)
            self._lab.look(machine)
            asked = {*effects.calls.missed, *effects.calls.made}
            own = [zones.inside(machine, path) for path in asked]
            missed = {p for p in own if p is not None and zones.of(p) == "account"}
        edges = {self.machine.root(name) for name in ROOTS}
        above = {p for path in missed for p in (path, parent(path))}
        fit = [p for p in above if p not in edges and not is_there(self.machine, p)]
        fit = [p for p in fit if not is_within(p, place, self.machine.platform)]
        fit = [p for p in fit if self._lies_in_a_folder(p)]
        return sorted(fit, key=len)[:DEFAULTS_MOST]

    def _proof(self, followed: Screen, lost: Screen) -> Literal["whole", "part", "no"]:
        usual = self._lab.usual
        if self._lab.same(lost):
            return "no"
        if self._lab.same(followed):
            return "whole"
        return "part" if alike(usual, followed) > alike(usual, lost) else "no"

    @staticmethod
    def _named_back(screen: Screen) -> Screen:
        return Screen(screen.status, screen.text.replace(f" {MOVED}", ""))
