"""Where a program is tried: copies of a machine, on which it is started and what it prints is read.

The machine itself is never changed. What a program prints by chance, such as a time, is found by
starting it twice, and is not compared.
"""

from __future__ import annotations

import re
import tempfile
import time
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from difflib import SequenceMatcher
from pathlib import Path

from widetrail.errors import InputUnusable, WentWrong
from widetrail.lazily import dataclass
from widetrail.machine import Channels, Completed, Effects, FolderMachine
from widetrail.machine.paths import base
from widetrail.rehearsing.machine_copies import copy_machine
from widetrail.rehearsing.stage import fast_folder
from widetrail.tracing.minimal import least
from widetrail.tracing.parts import take_away
from widetrail.tracing.record import Part

SECONDS = 60
"""Seconds that one start of a program may take."""

APART = 1.1
"""Seconds between two starts, so that a clock that is printed has moved."""

Change = Callable[[FolderMachine], None]

_CHANCE = re.compile(r"[0-9a-fA-F]*\d[0-9a-fA-F]*")


@dataclass(frozen=True)
class Screen:
    """What a program printed, and its exit status."""

    status: int
    text: str

    @property
    def lines(self) -> list[str]:
        return self.text.splitlines()


class Lab:
    """Copies of one machine, and a command that prints what a person sees."""

    def __init__(self, folder: Path, program: str, screen: Sequence[str]) -> None:
        """Look at what the program prints.

        Raises:
            InputUnusable: There is no such machine or program, it fails, or prints nothing, or
                something else each time.
        """
        if not folder.is_dir():
            raise InputUnusable("machine not found", where=str(folder))
        self.folder, self.screen, self.trials = folder, tuple(screen), 0
        machine = FolderMachine(folder)
        self.program, self.user = installed(machine, program), machine.user
        self.unstable: tuple[str, ...] = ()
        self._known: dict[frozenset[Part], Screen] = {}
        self.usual = self.after(lambda machine: None)
        self._insist_it_shows()
        time.sleep(APART)
        self._mask(self.after(lambda machine: None))

    def _insist_it_shows(self) -> None:
        if self.usual.status != 0 or not self.usual.text.strip():
            raise InputUnusable(
                "prints nothing that can be compared",
                where=" ".join(self.screen),
                why=f"its exit status is {self.usual.status}, it prints {self.usual.text[:200]!r}",
                todo="Name a command that prints what a person sees, such as lists and counts.",
            )

    def _mask(self, again: Screen) -> None:
        one, other = self.usual.lines, again.lines
        differing = {_masked(a) for a, b in zip(one, other, strict=False) if a != b}
        self.unstable = tuple(sorted(differing))
        if not self.same(again):
            raise InputUnusable(
                "prints something else each time",
                where=" ".join(self.screen),
                why=first_difference(self.usual, again)[1],
                todo="Name a command that prints the same while nothing changes.",
            )

    @contextmanager
    def copy(
        self, effects: Effects | None = None, of: Path | None = None
    ) -> Iterator[FolderMachine]:
        """Lend a copy of the machine, or of the one in the folder ``of``."""
        with tempfile.TemporaryDirectory(
            prefix="widetrail-trace-", dir=fast_folder(), ignore_cleanup_errors=True
        ) as above:
            folder = Path(above) / self.folder.name
            copy_machine(of or self.folder, folder)
            yield FolderMachine(folder, effects)

    def look(self, machine: FolderMachine) -> Screen:
        """Return what the program prints on a machine; one that does not end is told as text."""
        self.trials += 1
        try:
            done = run(machine, self.screen)
        except WentWrong as error:
            return Screen(-1, str(error))
        return Screen(done.status, done.output.replace(str(machine.folder), str(self.folder)))

    def after(self, change: Change) -> Screen:
        """Return what the program prints on a copy that was changed."""
        with self.copy() as machine:
            change(machine)
            return self.look(machine)

    def without(self, parts: Sequence[Part]) -> Screen:
        """Return what it prints without parts; the same ones are tried once."""
        gone = frozenset(parts)
        if gone not in self._known:
            self._known[gone] = self.after(lambda machine: take_away(machine, parts))
        return self._known[gone]

    def least(self, parts: Sequence[Part]) -> list[Part]:
        """Return the least of ``parts`` with which it prints the same; all else stays."""

        def enough(kept: Sequence[Part]) -> bool:
            keeps = frozenset(kept)
            return self.same(self.without([part for part in parts if part not in keeps]))

        return least(parts, enough)

    def same(self, screen: Screen) -> bool:
        """Return whether a print-out is the usual one, but for what changes by chance."""
        return screen.status == self.usual.status and self._steady(screen) == self._steady(
            self.usual
        )

    def _steady(self, screen: Screen) -> list[str]:
        return steady(screen.text, self.unstable)

    def difference(self, screen: Screen) -> tuple[str, str]:
        """Return the first line that differs: as usual, and in ``screen``."""
        one = Screen(self.usual.status, "\n".join(self._steady(self.usual)))
        return first_difference(one, Screen(screen.status, "\n".join(self._steady(screen))))


def installed(machine: FolderMachine, wanted: str) -> str:
    """Return the path of an installed program, by its path or name, with or without an ending.

    Raises:
        InputUnusable: It is not installed, or several are called so.
    """
    programs = [program.path for program in machine.file.programs]
    names = {path: base(path) for path in programs}
    for found in (
        [path for path in programs if path == wanted],
        [path for path, name in names.items() if name == wanted],
        [path for path, name in names.items() if name.rpartition(".")[0] == wanted],
    ):
        if len(found) == 1:
            return found[0]
    raise InputUnusable(
        "program not found",
        where=wanted,
        why=f"{machine.name} has {', '.join(sorted(names.values())) or 'none'}",
    )


def run(machine: FolderMachine, command: Sequence[str], typed: str = "") -> Completed:
    """Run a command that begins with the name of a program.

    Raises:
        InputUnusable: There is no such program.
        WentWrong: It did not end in time, or printed without end.
    """
    program = installed(machine, command[0])
    return machine.start(program, command[1:], SECONDS, Channels(typed.encode()))


def first_difference(one: Screen, other: Screen) -> tuple[str, str]:
    """Return the first line that two print-outs differ in, of each; or how they ended.

    A line that only one of them has is told beside an empty text.
    """
    matcher = SequenceMatcher(None, one.lines, other.lines, autojunk=False)
    for tag, begin, end, other_begin, other_end in matcher.get_opcodes():
        if tag != "equal":
            return (
                " ".join(one.lines[begin:end][:1]).strip(),
                " ".join(other.lines[other_begin:other_end][:1]).strip(),
            )
    return f"exit status {one.status}", f"exit status {other.status}"


def alike(one: Screen, other: Screen) -> int:
    """Return how many lines two print-outs share."""
    return (Counter(one.lines) & Counter(other.lines)).total()


def steady(printed: str, unstable: Sequence[str]) -> list[str]:
    """Return the lines of a print-out, those that change by chance with ``#`` for what does."""
    masked = ((line, _masked(line)) for line in printed.splitlines())
    return [short if short in unstable else line for line, short in masked]


def _masked(line: str) -> str:
    return _CHANCE.sub("#", line)
