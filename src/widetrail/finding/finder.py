"""Finding an application, its places and its readings on one machine."""

from __future__ import annotations

from widetrail.errors import MachineUnusable
from widetrail.finding.readings import Answer, take_reading
from widetrail.finding.values import (
    Absent,
    Found,
    How,
    Installation,
    Known,
    Nowhere,
    Unknown,
    Where,
)
from widetrail.machine import Machine
from widetrail.machine.paths import is_absolute, join
from widetrail.recipe import Loaded, Reading
from widetrail.recipe.models import For, PerPlatform, Place, on_platform
from widetrail.recipe.releases import Release, parse_release, parse_releases
from widetrail.recipe.templates import ROOTS, fill


class Finder:
    """Answers where the things of one recipe are on one machine; it changes nothing.

    Answers are kept, so each place and reading is found once.
    """

    def __init__(self, machine: Machine, loaded: Loaded) -> None:
        self.machine = machine
        self.loaded = loaded
        self.installation: Installation | None = None
        self._places: dict[str, Where] = {}
        self._busy: set[str] = set()
        self.installation = self._recognise()
        self._places.clear()

    def _recognise(self) -> Installation | None:
        for number, case in enumerate(self.loaded.recipe.recognise):
            if not self._holds(case.for_):
                continue
            path = self._choice(case.sign.where)
            entry = self._look(path)
            wanted = "file" if case.sign.file is not None else "folder"
            if path is None or entry != wanted:
                continue
            unknown: list[str] = []
            release = self._release(case.release, unknown)
            edition = self._edition(case.edition, unknown)
            return Installation(number, path, release, edition, tuple(unknown))
        return None

    def _release(self, reading: Reading | None, unknown: list[str]) -> Release | None:
        if reading is None:
            return None
        answer = self.take(reading)
        release = parse_release(str(answer.value)) if isinstance(answer, Known) else None
        if release is None:
            reason = answer.reason if isinstance(answer, Unknown) else f'"{answer}" is no release'
            unknown.append(f"release: {reason}")
        return release

    def _edition(self, reading: Reading | None, unknown: list[str]) -> str:
        if reading is None:
            return ""
        answer = self.take(reading)
        if isinstance(answer, Unknown):
            unknown.append(f"edition: {answer.reason}")
            return ""
        return str(answer.value)

    def _holds(self, condition: For | None) -> bool:
        if condition is None:
            return True
        here = self.installation
        release = here.release if here is not None else None
        return (
            condition.platform in (None, self.machine.platform)
            and _in_range(condition.system, parse_release(self.machine.system))
            and _in_range(condition.release, release)
            and condition.edition in (None, here.edition if here is not None else "")
        )

    def _look(self, path: str | None) -> str | None:
        try:
            entry = self.machine.look(path) if path is not None else None
        except MachineUnusable:
            return None
        return entry.kind if entry is not None else None

    def place(self, name: str) -> Where:
        """Return where the place ``name`` is."""
        if name not in self._places:
            if name in self._busy:
                return Nowhere(f'finding "{name}" needs "{name}" itself')
            self._busy.add(name)
            try:
                self._places[name] = self._find(name)
            finally:
                self._busy.discard(name)
        return self._places[name]

    def _find(self, name: str) -> Where:
        for number, place in enumerate(self.loaded.recipe.places[name]):
            if self._holds(place.for_):
                return self._resolve(place, number)
        return Nowhere(f'the recipe has no case of "{name}" for this machine')

    def _resolve(self, place: Place, case: int) -> Where:
        told = self._told(place, case)
        if told is not None:
            return told
        path = self._choice(place.where)
        if path is None:
            return Nowhere(f"the recipe names no {place.kind} for {self.machine.platform}")
        return self._judge(path, place.kind, How("fixed", case))

    def _told(self, place: Place, case: int) -> Where | None:
        """Return where the program says it is, or ``None`` where it says nothing."""
        if place.told_by is None:
            return None
        answer = self.take(place.told_by)
        if isinstance(answer, Unknown):
            return None if answer.absent else Nowhere(f"what tells it is unknown: {answer.reason}")
        if not answer.value:
            return None
        path = str(answer.value)
        how = How("told", case, answer.source, answer.line)
        if not is_absolute(path, self.machine.platform):
            return Nowhere(f'"{path}", {how}, is no whole path')
        return self._judge(path, place.kind, how)

    def _judge(self, path: str, kind: str, how: How) -> Where:
        try:
            entry = self.machine.look(path)
        except MachineUnusable as error:
            return Nowhere(f"{error} ({how})")
        wanted: str = "file" if kind == "file" else "folder"
        if entry is None:
            return Absent(path, wanted, how)  # type: ignore[arg-type]
        if entry.kind != wanted:
            return Nowhere(f"{path} is a {entry.kind}, no {wanted} ({how})")
        return Found(path, wanted, how)  # type: ignore[arg-type]

    def path(self, template: str) -> str | None:
        """Return a path template as a path of this machine, or ``None`` if a place is nowhere."""
        try:
            return join(fill(template, self._value))
        except LookupError:
            return None

    def _value(self, name: str) -> str:
        if name in ROOTS:
            return self.machine.root(name)
        where = self.place(name)
        if isinstance(where, Nowhere):
            raise LookupError(where.reason)
        return where.path

    def _choice(self, choice: str | PerPlatform) -> str | None:
        template = on_platform(choice, self.machine.platform)
        return None if template is None else self.path(template)

    def take(self, reading: Reading) -> Answer:
        """Take a reading here."""
        template = on_platform(reading.where, self.machine.platform)
        if template is None:
            return Unknown(f"the recipe does not say where on {self.machine.platform}")
        path = self.path(template)
        if path is None:
            return Unknown(f"{template} is nowhere")
        return take_reading(self.machine, reading, path)

    def reading(self, name: str) -> Answer:
        """Take the recipe's reading ``name`` here."""
        return self.take(self.loaded.recipe.readings[name])

    def locks(self) -> list[str]:
        """Return the lock files that are there, which say that the program is open."""
        paths = [self._choice(lock) for lock in self.loaded.recipe.application.lock]
        return [p for p in paths if p is not None and self._look(p) is not None]

    def programs(self) -> dict[str, str]:
        """Return where each of the application's programs would be."""
        listed = self.loaded.recipe.application.programs.items()
        found = {name: self._choice(where) for name, where in listed}
        return {name: path for name, path in found.items() if path is not None}


def _in_range(text: str | None, release: Release | None) -> bool:
    if text is None:
        return True
    return release is not None and release in parse_releases(text)
