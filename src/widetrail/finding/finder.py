"""Finding an application, its places and its readings on one machine."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from itertools import product

from widetrail.errors import MachineUnusable, WideTrailError
from widetrail.finding.globbing import has_glob, matching
from widetrail.finding.plural_places import by_glob, by_index, mark_in_use
from widetrail.finding.readings import (
    take_from_desktop,
    take_from_registry,
    take_from_text,
    take_reading,
)
from widetrail.finding.values import (
    Absent,
    Answer,
    ByPart,
    Found,
    How,
    Installation,
    Instance,
    Known,
    Nowhere,
    Several,
    Unknown,
    Where,
)
from widetrail.formats.dconf import dconf_below
from widetrail.formats.interface import NotThere, Unreadable
from widetrail.formats.parser_process import ask
from widetrail.formats.registry import full_key
from widetrail.machine import Machine
from widetrail.machine.paths import join, parent
from widetrail.machine.sensitive import never_a_place
from widetrail.recipe import Item, Loaded, Reading
from widetrail.recipe.coverage_events import reach, reach_bounds
from widetrail.recipe.models import (
    For,
    PerPlatform,
    Place,
    PlaceKind,
    Sign,
    is_command,
    on_platform,
)
from widetrail.recipe.releases import Release, parse_release, parse_releases
from widetrail.recipe.templates import ROOTS, braces, fill


class Finder:
    """Answers where the things of one recipe are on one machine; it changes nothing.

    Answers are kept, so each place is found once. Programs are started only with
    ``ask_programs``, and only to read what they print.
    """

    def __init__(
        self,
        machine: Machine,
        loaded: Loaded,
        *,
        ask_programs: bool = False,
        installation: Installation | None = None,
        lenders: Mapping[str, Finder] | None = None,
        pinned: Mapping[str, str] | None = None,
    ) -> None:
        """Recognise the application; of several installations the latest release is taken,
        unless ``installation`` says which. ``lenders`` are the finders of other recipes by their
        ids: those that this one uses lend it their places. ``pinned`` are the paths of places that
        were found before, which nothing that tells them may move any more.
        """
        used = {i: f for i, f in (lenders or {}).items() if i in loaded.recipe.uses}
        self._lenders = {i.replace("-", "_"): f for i, f in used.items()}
        self.machine, self.loaded, self.ask_programs = machine, loaded, ask_programs
        self.installation: Installation | None = None
        self._pinned = dict(pinned or {})
        self._places: dict[str, Where] = {}
        self._chosen: dict[str, int] = {}
        self._busy: set[str] = set()
        self._within: dict[str, Instance] = {}
        self._parts: dict[str, str] = {}
        self.installations = (installation,) if installation is not None else self._recognise()
        self.installation = max(self.installations, key=_latest, default=None)
        self._places.clear()
        self._chosen.clear()

    # Recognising

    def _recognise(self) -> tuple[Installation, ...]:
        """Return every installation that the first matching case finds, in the order of signs."""
        for number, case in enumerate(self.loaded.recipe.recognise):
            if not self.holds(case.for_):
                continue
            found = []
            for sign in self._signs(case.sign):
                self.installation = Installation(number, sign, None, "")
                self._places.clear()
                unknown: list[str] = []
                release = self._release(case.release, unknown)
                edition = self._edition(case.edition, unknown)
                found.append(Installation(number, sign, release, edition, tuple(unknown)))
                self.installation = None
            if found:
                reach(self.loaded, case, "taken")
                return tuple(found)
        return ()

    def _signs(self, sign: Sign) -> list[str]:
        if sign.registry is not None:
            try:
                key = self.machine.registry_key(sign.registry, sign.view or "64")
            except Unreadable:
                return []
            return [sign.registry] if key is not None else []
        if sign.command is not None:
            path = self._program(sign.command)
            return [path] if path is not None and self._kind(path) is not None else []
        path = self.choice(sign.where)
        wanted = "file" if sign.file is not None else "folder"
        if path is None:
            return []
        if not has_glob(path):
            return [path] if self._kind(path) == wanted else []
        try:
            return [p for p, entry in matching(self.machine, path) if entry.kind == wanted]
        except MachineUnusable:
            return []

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

    def holds(self, condition: For | None) -> bool:
        """Return whether a case's condition holds here; what is not known does not hold."""
        if condition is None:
            return True
        here = self.installation
        release = here.release if here is not None else None
        for fact, wanted, found in (
            ("system", condition.system, self.machine.system),
            ("release", condition.release, str(release or "")),
        ):
            if wanted is not None:
                reach_bounds(self.loaded, condition, fact, wanted, found)
        return (
            condition.platform in (None, self.machine.platform)
            and _in_range(condition.system, parse_release(self.machine.system))
            and _in_range(condition.release, release)
            and condition.edition in (None, here.edition if here is not None else "")
        )

    def _kind(self, path: str) -> str | None:
        """Return what is at ``path``, or ``None`` where nothing is or it cannot be looked at."""
        try:
            entry = self.machine.look(path)
        except MachineUnusable:
            return None
        return entry.kind if entry is not None else None

    # Places

    def place(self, name: str) -> Where:
        """Return where the place ``name`` is."""
        if name in self._within:
            chosen = self._within[name]
            return Found(chosen.path, "folder", chosen.how, chosen.synced)
        if name not in self._places:
            if name in self._busy:
                return Nowhere(f'finding "{name}" needs "{name}" itself')
            self._busy.add(name)
            try:
                self._places[name] = self._find(name)
            finally:
                self._busy.discard(name)
        return self._places[name]

    def within(self, name: str, instance: Instance) -> Finder:
        """Return a finder for which the place ``name``, which is several, is that one."""
        inner = self._twin()
        inner._within = {**self._within, name: instance}
        return inner

    def fresh(self) -> Finder:
        """Return a finder that looks again; what was recognised and pinned stays."""
        return self._twin()

    def pinnable(self) -> dict[str, str]:
        """Return the path of each place that is one folder or file and can be told."""
        found = {name: self.place(name) for name in self.loaded.recipe.places}
        return {
            name: where.path
            for name, where in found.items()
            if isinstance(where, Found | Absent) and where.kind in ("folder", "file")
        }

    def case_of(self, name: str) -> Place | None:
        """Return the recipe's case of a place that holds here."""
        cases = self.loaded.recipe.places.get(name, ())
        return next((case for case in cases if self.holds(case.for_)), None)

    def is_told(self, name: str) -> bool:
        """Return whether a program's settings have a say in where a place is, so that it may lie
        anywhere."""
        case = self.case_of(name)
        if case is None or case.told_by is not None or case.index is not None:
            return case is not None
        choices = [case.where, case.each, case.otherwise, *case.first_of]
        texts = [on_platform(c, self.machine.platform) for c in choices if c is not None]
        named = {b.name.partition(".") for text in texts if text for b in braces(text)}
        return any(
            self._lenders[first].is_told(rest) if first in self._lenders else self.is_told(first)
            for first, _, rest in named
            if first not in ROOTS
        )

    def untold(self, name: str) -> str:
        """Return where a place would be if nothing told it, or an empty text."""
        case = self.case_of(name)
        return (self.choice(case.where) if case is not None else None) or ""

    def _twin(self) -> Finder:
        twin = Finder.__new__(Finder)
        twin.__dict__.update(self.__dict__)
        twin._places, twin._chosen, twin._busy = {}, {}, set()
        return twin

    def _find(self, name: str) -> Where:
        if name in self._pinned:
            return self._whatever(self._pinned[name], How("pinned"), self._kind_of(name))
        for number, place in enumerate(self.loaded.recipe.places[name]):
            if self.holds(place.for_):
                reach(self.loaded, place, "taken")
                return self._resolve(name, place, number)
        return Nowhere(f'the recipe has no case of "{name}" for this machine')

    def _kind_of(self, name: str) -> PlaceKind:
        cases = self.loaded.recipe.places[name]
        return next((case.kind for case in cases if self.holds(case.for_)), "folder")

    def _resolve(self, name: str, place: Place, case: int) -> Where:
        if place.plural:
            return self._several(place, case)
        if place.first_of:
            return self._first_of(name, place, case)
        registry = place.key if place.key is not None else place.value
        if registry is not None:
            seen = full_key(registry, "32") if place.view == "32" else registry
            return self._in_registry(seen, place.kind, case)
        if place.dconf is not None:
            return self._in_desktop(place.dconf, case)
        told = self._told(place, case)
        if told is not None:
            return told
        path = self.choice(place.where)
        if path is None:
            return Nowhere(self._why_not(place.where))
        return self._judge(path, place.kind, How("fixed", case))

    def _why_not(self, choice: str | PerPlatform | None) -> str:
        template = on_platform(choice, self.machine.platform) if choice is not None else None
        if template is None:
            return f"the recipe does not say where on {self.machine.platform}"
        try:
            fill(template, self._value)
        except LookupError as error:
            return str(error.args[0])
        return f"{template} is nowhere"

    def _told(self, place: Place, case: int) -> Where | None:
        """Return where the program says it is, or ``None`` where it says nothing."""
        if place.told_by is None or not self.holds(place.told_by.for_):
            return None
        as_path = place.told_by.model_copy(update={"as_": "path"})
        answer = self.take(as_path)
        if isinstance(answer, Unknown):
            if answer.absent:
                reach(self.loaded, place.told_by, "tells nothing")
                return None
            return Nowhere(f"what tells it is unknown: {answer.reason}")
        if not answer.value:
            reach(self.loaded, place.told_by, "tells nothing")
            return None
        reach(self.loaded, place.told_by, "tells")
        how = How("told", case, answer.source, answer.line)
        return self._judge(str(answer.value), place.kind, how)

    def _first_of(self, name: str, place: Place, case: int) -> Where:
        listed = [self.choice(choice) for choice in place.first_of]
        among = tuple(path for path in listed if path is not None)
        if place.follows is not None:
            self.place(place.follows)
            number = self._chosen.get(place.follows, -1)
            how = How("follows", case, place.follows, among=among)
            path = listed[number] if 0 <= number < len(listed) else self.choice(place.otherwise)
            self._chosen[name] = number
            return (
                Nowhere("the recipe names no other") if path is None else self._whatever(path, how)
            )
        how = How("first of", case, among=among)
        for number, path in enumerate(listed):
            if path is not None and self._kind(path) in ("folder", "file"):
                self._chosen[name] = number
                reach(self.loaded, place, f"first_of {number + 1}")
                return self._whatever(path, how)
        self._chosen[name] = -1
        reach(self.loaded, place, "first_of none")
        otherwise = self.choice(place.otherwise)
        if otherwise is None:
            return Nowhere(f"none of {', '.join(among)} is there")
        return self._whatever(otherwise, How("fixed", case, among=among))

    def _whatever(self, path: str, how: How, otherwise: PlaceKind = "folder") -> Where:
        kinds: dict[str | None, PlaceKind] = {"file": "file", "folder": "folder"}
        return self._judge(path, kinds.get(self._kind(path), otherwise), how)

    def _in_registry(self, path: str, kind: PlaceKind, case: int) -> Where:
        how = How("fixed", case)
        key, name = (path, "") if kind == "key" else path.rsplit("\\", 1)
        try:
            found = self.machine.registry_key(key)
        except Unreadable as error:
            return Nowhere(f"{path}: {error}")
        there = found is not None and (kind == "key" or name.casefold() in found.values)
        return Found(path, kind, how) if there else Absent(path, kind, how)

    def _in_desktop(self, path: str, case: int) -> Where:
        how = How("fixed", case)
        try:
            ask(dconf_below, self.machine.desktop_settings(), path)
        except NotThere:
            return Absent(path, "dconf", how)
        except Unreadable as error:
            return Nowhere(f"{path}: {error}")
        return Found(path, "dconf", how)

    def _several(self, place: Place, case: int) -> Where:
        try:
            if place.index is not None:
                source = self.choice(place.index.where)
                if source is None:
                    return Nowhere(self._why_not(place.index.where))
                if self.machine.look(source) is None:
                    return Nowhere(f"its index {source} is not there")
                found = by_index(self.machine, place, place.index, source, case)
            else:
                path = self.choice(place.each)
                if path is None:
                    return Nowhere(self._why_not(place.each))
                found = by_glob(self.machine, place, path, case)
        except MachineUnusable as error:
            return Nowhere(str(error))
        except Unreadable as error:
            return Nowhere(f"its index {source} {error}")
        if found.passed_over:
            reach(self.loaded, place, "passes over")
        if len(found.instances) > 1:
            reach(self.loaded, place, "several")
        if place.in_use is not None:
            told = self.take(place.in_use)
            if isinstance(told, Known):
                reach(self.loaded, place.in_use, "read")
                return mark_in_use(found, str(told.value), self.machine)
        return found

    def _judge(self, path: str, kind: PlaceKind, how: How) -> Where:
        told = how.rule not in ("fixed", "first of")
        if why := never_a_place(path, self.machine, told=told):
            return Nowhere(f"{path} is no place for it: {why} ({how})")
        try:
            entry = self.machine.look(path)
        except MachineUnusable as error:
            return Nowhere(f"{error} ({how})")
        if entry is None:
            return Absent(path, kind, how)
        if entry.kind == "link":
            return Nowhere(
                f"{path} is a link to {entry.target}, and links are not followed ({how})"
            )
        if entry.kind != kind:
            return Nowhere(f"{path} is a {entry.kind}, no {kind} ({how})")
        return Found(path, kind, how, self.machine.synced(path))

    # Paths and readings

    def path(self, template: str) -> str | None:
        """Return a path template as a path of this machine, or ``None`` if a place is nowhere."""
        try:
            return join(fill(template, self._value))
        except LookupError:
            return None

    def _value(self, name: str) -> str:
        if name in ROOTS:
            return self.machine.root(name)
        if name in self._parts:
            return self._parts[name].replace("/", "_")
        if name == "installation":
            if self.installation is None:
                raise LookupError("the application is not here")
            return parent(self.installation.sign)
        base, _, attribute = name.partition(".")
        if base in self._lenders:
            return self._lenders[base]._value(attribute)
        where = self._single(base)
        if isinstance(where, Instance):
            return where.name if attribute == "name" else where.path
        if isinstance(where, Nowhere):
            raise LookupError(where.reason)
        return where.path

    def _single(self, name: str) -> Found | Absent | Nowhere | Instance:
        """Return the one place that is meant: of several, the one in use or the only one."""
        if name in self._within:
            return self._within[name]
        if name not in self.loaded.recipe.places:
            return Nowhere(f'"{name}" is not known here')
        where = self.place(name)
        if not isinstance(where, Several):
            return where
        used = [i for i in where.instances if i.in_use]
        if len(used) == 1 or len(where.instances) == 1:
            return (used or list(where.instances))[0]
        if not where.instances:
            return Nowhere(f'none of "{name}" is there')
        return Nowhere(f'"{name}" is several ({where}), and which is in use is not known')

    def choice(self, choice: str | PerPlatform | None) -> str | None:
        """Return the path here that a platform map or template says, or ``None``."""
        template = self._here(choice) if choice is not None else None
        return None if template is None else self.path(template)

    def _here(self, choice: str | PerPlatform) -> str | None:
        """Return what a text or platform map says for this platform."""
        if isinstance(choice, PerPlatform):
            own = choice.of(self.machine.platform) is not None
            reach(self.loaded, choice, self.machine.platform if own else "else")
        return on_platform(choice, self.machine.platform)

    def take(self, reading: Reading) -> Known | Unknown:
        """Take a reading here; parameters must have been given by ``with_parts``."""
        if not self.holds(reading.for_):
            return Unknown("the recipe's reading is not for this machine")
        if reading.key is not None:
            return take_from_registry(self.machine, reading)
        if reading.settings is not None:
            return take_from_desktop(self.machine, reading)
        if reading.command is not None:
            return self._printed(reading)
        path = self.choice(reading.file_read)
        if path is None:
            return Unknown(self._why_not(reading.file_read))
        return take_reading(self.machine, reading, path, self._parts)

    def with_parts(self, parts: Mapping[str, str]) -> Finder:
        """Return a finder in whose readings each part has that value."""
        inner = self._twin()
        inner._parts = {**self._parts, **parts}
        return inner

    def reading(self, name: str) -> Known | Unknown:
        """Take the recipe's reading ``name`` here."""
        reading = self._case_of_reading(name)
        return reading if isinstance(reading, Unknown) else self.take(reading)

    def _case_of_reading(self, name: str) -> Reading | Unknown:
        """Return the first case of a reading that holds here."""
        cases = self.loaded.recipe.readings[name]
        case = next((case for case in cases if self.holds(case.for_)), None)
        if case is None:
            return Unknown("the recipe's reading is not for this machine")
        reach(self.loaded, case, "taken")
        return case

    def answer(self, name: str, item: Item) -> Answer:
        """Take a reading for ``item``; one that has a part as parameter is answered by part."""
        reading = self._case_of_reading(name)
        if isinstance(reading, Unknown):
            return reading
        wanted = sorted(reading.parameters & item.parts.keys())
        if not wanted:
            return self.take(reading)
        values: list[tuple[str, ...]] = []
        for part in wanted:
            found = self.part_values(part, item)
            if isinstance(found, Unknown):
                return found
            values.append(found)
        answers = []
        for combination in product(*values):
            inner = self.with_parts(dict(zip(wanted, combination, strict=True)))
            answers.append((" / ".join(combination), inner.take(reading)))
        return ByPart(", ".join(wanted), tuple(answers))

    def part_values(self, part: str, item: Item) -> tuple[str, ...] | Unknown:
        """Return the values a part of ``item`` has here."""
        given = item.parts[part]
        if not isinstance(given, str):
            return given
        found = self.reading(given)
        if isinstance(found, Unknown):
            return Unknown(f"{part}: {found.reason}")
        return found.value if isinstance(found.value, tuple) else (str(found.value),)

    # Programs

    def commands(self) -> tuple[str, ...]:
        """Return the commands that readings would start, as a person is asked about them."""
        asked = [r for r in self._all_readings() if r.command is not None]
        return tuple(
            dict.fromkeys(f"{self._shown(r.command or ())} ({_HOMES[r.home]})" for r in asked)
        )

    def _shown(self, command: Sequence[str]) -> str:
        """Return a command as it would be started, as far as that is known without starting it."""
        name, *arguments = command
        words = [self.programs().get(name, name)]
        for argument in arguments:
            try:
                words.append(fill(argument, self._value))
            except (WideTrailError, LookupError):
                words.append(argument)
        return " ".join(words)

    def _all_readings(self) -> list[Reading]:
        recipe = self.loaded.recipe
        cases = [r for c in recipe.recognise for r in (c.release, c.edition) if r is not None]
        places = [p for cs in recipe.places.values() for p in cs]
        told = [r for p in places for r in (p.told_by, p.in_use) if r is not None]
        return [*cases, *told, *(case for cs in recipe.readings.values() for case in cs)]

    def _printed(self, reading: Reading) -> Known | Unknown:
        assert reading.command is not None
        name, *arguments = reading.command
        shown = " ".join(reading.command)
        if not self.ask_programs:
            return Unknown(f"`{shown}` would tell, and programs are not asked")
        program = self.programs().get(name)
        if program is None:
            return Unknown(f"{name} is not installed")
        try:
            filled = [fill(a, self._value) for a in arguments]
            if reading.home == "real":
                done = self.machine.start(program, filled, seconds=30)
            else:
                copies = self._copies() if reading.home == "copy" else []
                with self.machine.scratch(copies) as scratch:
                    done = scratch.start(program, filled, seconds=30)
        except (WideTrailError, LookupError) as error:
            return Unknown(f"`{shown}` did not answer: {error}")
        if done.status != 0:
            return Unknown(f"`{shown}` ended with {done.status}: {done.errors.strip()[:200]}")
        return take_from_text(self.machine, reading, done.output, f"`{shown}`")

    def _copies(self) -> list[str]:
        found: list[str] = []
        for name in self.loaded.recipe.places:
            where = self.place(name)
            if isinstance(where, Several):
                found.extend(i.path for i in where.instances)
            elif isinstance(where, Found) and where.kind in ("folder", "file"):
                found.append(where.path)
        return found

    def locks(self) -> list[str]:
        """Return the lock files that are there, which say that the program is open."""
        return [path for path in self.lock_paths() if self._kind(path) is not None]

    def lock_paths(self) -> list[str]:
        """Return where the lock files are while the program is open."""
        locks = self.loaded.recipe.application.lock
        ways = ((inner, lock) for lock in locks for inner in self._each_way(lock))
        paths = (inner.choice(lock) for inner, lock in ways)
        return list(dict.fromkeys(path for path in paths if path is not None))

    def _each_way(self, choice: str | PerPlatform) -> list[Finder]:
        """Return a finder for each instance of the places that ``choice`` names."""
        ways = [self]
        template = on_platform(choice, self.machine.platform) or ""
        for name in self.loaded.recipe.places:
            where = self.place(name) if f"{{{name}" in template else None
            if isinstance(where, Several):
                ways = [way.within(name, i) for way in ways for i in where.instances]
        return ways

    def programs(self) -> dict[str, str]:
        """Return where each of the application's programs is or would be."""
        listed = self.loaded.recipe.application.programs.items()
        found = {}
        for name, choice in listed:
            text = self._here(choice)
            path = self._program(text) if text is not None else None
            if path is not None:
                found[name] = path
        return found

    def _program(self, text: str) -> str | None:
        return self.machine.command(text) if is_command(text) else self.path(text)


_HOMES = {
    None: "in an empty home",
    "empty": "in an empty home",
    "copy": "in a copy of its places",
    "real": "in the real home",
}


def _latest(installation: Installation) -> tuple[tuple[int, int, str], ...]:
    return installation.release.order if installation.release is not None else ()


def _in_range(text: str | None, release: Release | None) -> bool:
    if text is None:
        return True
    return release is not None and release in parse_releases(text)
