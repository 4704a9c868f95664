"""What an application tells on one machine: readings of its files, its registry and itself."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import field
from itertools import product
from typing import Self

from widetrail.errors import WideTrailError
from widetrail.finding.globbing import kind_at
from widetrail.finding.readings import (
    take_from_desktop,
    take_from_registry,
    take_from_text,
    take_reading,
    take_recorded,
)
from widetrail.finding.resolver import Resolver
from widetrail.finding.values import (
    Absent,
    Answer,
    ByPart,
    Found,
    Known,
    Several,
    Unknown,
    part_label,
)
from widetrail.lazily import dataclass
from widetrail.machine import Channels
from widetrail.recipe import Item, Reading
from widetrail.recipe.by_platform import PerPlatform, on_platform
from widetrail.recipe.places import Recognition
from widetrail.recipe.templates import braces, fill


@dataclass(frozen=True, eq=False)
class Finder(Resolver):
    """Answers where the things of one recipe are on one machine, and what they say.

    Programs are started only with ``ask_programs``, and only to read what they print.
    ``recognising.find_application`` makes one.
    """

    ask_programs: bool = False
    answers: Callable[[str], str | None] = field(default=lambda name: None)
    """What a person answered to what the recipe asks for, by its name."""

    def take(self, reading: Reading) -> Known | Unknown:
        """Take a reading here; parameters must have been given by ``with_parts``."""
        if not self.holds(reading.for_):
            return Unknown(_NOT_HERE)
        if (recorded := self.machine.answers) and (asked := self.asked(reading)) in recorded:
            return take_recorded(self.machine, reading, recorded[asked], asked)
        if reading.key is not None:
            return take_from_registry(self.machine, reading)
        if reading.settings is not None:
            return take_from_desktop(self.machine, reading)
        if reading.command is not None:
            return self._printed(reading)
        path = self.choice(reading.file_read)
        if path is None:
            return Unknown(self.why_not(reading.file_read))
        return take_reading(self.machine, reading, path, self.parts)

    @property
    def recognition(self) -> Recognition | None:
        """The recipe's case by which the application was recognised, if it was."""
        here = self.installation
        return self.loaded.recipe.recognise[here.case] if here is not None else None

    def asked(self, reading: Reading) -> str:
        """Return what a reading asks here: of what, which value in it, as what, of which parts."""
        path = self.choice(reading.file_read) if reading.file_read is not None else None
        command = self._shown(reading.command) if reading.command is not None else None
        of = sorted((reading.parameters | _named_in(reading)) & self.parts.keys())
        return " | ".join(
            (
                path or command or reading.key or reading.settings or "",
                *filter(None, (reading.at, reading.as_)),
                *(f"{part}: {self.parts[part]}" for part in of),
            )
        )

    def reading(self, name: str) -> Known | Unknown:
        """Take the recipe's reading ``name`` here."""
        reading = self.case_of_reading(name)
        return Unknown(_NOT_HERE) if reading is None else self.take(reading)

    def case_of_reading(self, name: str) -> Reading | None:
        """Return the first case of a reading that holds here."""
        cases = self.loaded.recipe.readings[name]
        case = next((case for case in cases if self.holds(case.for_)), None)
        if case is not None:
            self.decide(case, "taken")
        return case

    def parts_asked(self, reading: Reading, item: Item) -> list[str]:
        """Return the parts of ``item`` that a reading has as parameters, in order."""
        return sorted((reading.parameters | _named_in(reading)) & item.parts.keys())

    def answer(self, name: str, item: Item) -> Answer:
        """Take a reading for ``item``; one that has a part as parameter is answered by part."""
        reading = self.case_of_reading(name)
        if reading is None:
            return Unknown(_NOT_HERE)
        wanted = self.parts_asked(reading, item)
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
            answers.append((part_label(combination), inner.take(reading)))
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

    def pinnable(self) -> dict[str, str]:
        """Return the path of each place that is one folder or file and can be told."""
        found = {name: self.place(name) for name in self.loaded.recipe.places}
        return {
            name: where.path
            for name, where in found.items()
            if isinstance(where, Found | Absent) and where.kind in ("folder", "file")
        }

    def candidates(self, name: str) -> list[tuple[str, str]]:
        """Return the paths that a place might be, each with the program's name for it."""
        where = self.place(name)
        if isinstance(where, Several):
            return [(instance.path, instance.name) for instance in where.instances]
        among = where.how.among if isinstance(where, Found | Absent) else ()
        return [(path, "") for path in among if kind_at(self.machine, path) is not None]

    def doubtful(self) -> dict[str, tuple[str, ...]]:
        """Return the paths that a place might be, by the names of those places of which the recipe
        cannot tell which one is real: it takes the first."""
        found = {name: self.candidates(name) for name in self.loaded.recipe.places}
        return {
            name: tuple(path for path, _ in there)
            for name, there in found.items()
            if len(there) > 1 and isinstance(self.place(name), Found)
        }

    def untold(self, name: str) -> str:
        """Return where a place would be if nothing told it, or an empty text."""
        case = self.case_of(name)
        return (self.choice(case.where) if case is not None else None) or ""

    def programs(self) -> dict[str, str]:
        """Return where each of the application's programs is or would be."""
        if self._seen.programs is None:
            self._seen.programs = self._find_programs()
        return dict(self._seen.programs)

    def _find_programs(self) -> dict[str, str]:
        listed = self.loaded.recipe.application.programs.items()
        found = {}
        for name, choice in listed:
            text = self.on_this_platform(choice)
            path = self.program_at(text) if text is not None else None
            if path is not None:
                found[name] = path
        return found

    # Programs

    def locks(self) -> list[str]:
        """Return the lock files that are there, which say that the program is open."""
        return [path for path in self.lock_paths() if kind_at(self.machine, path) is not None]

    def lock_paths(self) -> list[str]:
        """Return where the lock files are while the program is open."""
        locks = self.loaded.recipe.application.lock
        ways = ((inner, lock) for lock in locks for inner in self._each_way(lock))
        paths = (inner.choice(lock) for inner, lock in ways)
        return list(dict.fromkeys(path for path in paths if path is not None))

    def _each_way(self, choice: str | PerPlatform) -> list[Self]:
        """Return a finder for each instance of the places that ``choice`` names."""
        ways = [self]
        template = on_platform(choice, self.machine.platform) or ""
        for name in self.loaded.recipe.places:
            where = self.place(name) if f"{{{name}" in template else None
            if isinstance(where, Several):
                ways = [way.within(name, i) for way in ways for i in where.instances]
        return ways

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
                words.append(fill(argument, self.value_of))
            except (WideTrailError, LookupError):
                words.append(argument)
        return " ".join(words)

    def _all_readings(self) -> list[Reading]:
        recipe = self.loaded.recipe
        known = [r for c in recipe.recognise for r in (c.sign.prints, c.release, c.edition)]
        cases = [r for r in known if r is not None]
        places = [p for cs in recipe.places.values() for p in cs]
        told = [r for p in places for r in (p.set_in, p.in_use) if r is not None]
        return [*cases, *told, *(case for cs in recipe.readings.values() for case in cs)]

    def _printed(self, reading: Reading) -> Known | Unknown:
        assert reading.command is not None
        name, *arguments = reading.command
        shown = " ".join(reading.command)
        if not self.ask_programs:
            return Unknown(f"only `{shown}` prints it; add --ask-programs")
        program = self.programs().get(name)
        if program is None:
            return Unknown(f"{name} is not installed")
        try:
            filled = [fill(a, self.value_of) for a in arguments]
            channels = Channels(self._said_to(reading))
            if reading.home == "real":
                done = self.machine.start(program, filled, 30, channels)
            else:
                copies = self._copies() if reading.home == "copy" else []
                with self.machine.scratch(copies) as scratch:
                    done = scratch.start(program, filled, 30, channels)
        except (WideTrailError, LookupError) as error:
            return Unknown(f"`{shown}` did not answer: {error}")
        if done.status not in (reading.exit or (0,)):
            return Unknown(f"`{shown}` ended with {done.status}: {done.errors.strip()[:200]}")
        return take_from_text(self.machine, reading, done.output, f"`{shown}`")

    def _said_to(self, reading: Reading) -> bytes:
        """Return what a command is given on standard input.

        Raises:
            LookupError: It is something that was not answered here.
        """
        if reading.stdin is None:
            return b""

        def known(name: str) -> str:
            if name not in self.loaded.recipe.asks:
                return self.value_of(name)
            if (answer := self.answers(name)) is None:
                raise LookupError(f"{name} is asked for in a walk only")
            return answer

        return f"{fill(reading.stdin, known)}\n".encode()

    def _copies(self) -> list[str]:
        found: list[str] = []
        for name in self.loaded.recipe.places:
            where = self.place(name)
            if isinstance(where, Several):
                found.extend(i.path for i in where.instances)
            elif isinstance(where, Found) and where.kind in ("folder", "file"):
                found.append(where.path)
        return found


_NOT_HERE = "the recipe's reading is not for this machine"


def _named_in(reading: Reading) -> set[str]:
    """Return the names in braces of the file or the command that a reading is from."""
    where = reading.file_read or ""
    texts = [where] if isinstance(where, str) else [text for _, text in where.texts()]
    texts += reading.command or ()
    return {brace.name for text in texts for brace in braces(text)}


_HOMES = {
    None: "in an empty home",
    "empty": "in an empty home",
    "copy": "in a copy of its places",
    "real": "in the real home",
}
