"""Fakes of programs, cargo and people."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import field
from typing import Any, BinaryIO

from widetrail.formats import digest
from widetrail.lazily import dataclass
from widetrail.machine import Channels, Completed, Entry
from widetrail.steps import Asked, CargoEntry, Step, Task

Play = Callable[[Sequence[str]], Completed]
"""Told a command; does what its program would, and returns how that ended."""


def _well(command: Sequence[str]) -> Completed:
    return Completed(0, "", "")


@dataclass(kw_only=True)
class FakePrograms:
    """A ``steps.contexts.Programs``: ``play`` does what a program would."""

    play: Play = _well
    secret_names: frozenset[str] = frozenset()
    ran: list[tuple[str, ...]] = field(default_factory=list)
    at_the_end: list[tuple[str, ...]] = field(default_factory=list)
    settled: list[str] = field(default_factory=list)
    kept: list[str] = field(default_factory=list)
    hidden: dict[str, str] = field(default_factory=dict)
    room: str = "/state/run/made"

    def command(self, step: Step, command: Sequence[str]) -> tuple[str, tuple[str, ...]]:
        """Return a command as it stands."""
        return command[0], tuple(command[1:])

    def run(
        self,
        step: Step,
        command: Sequence[str],
        seconds: float,
        channels: Channels = Channels(),  # noqa: B008 - it is frozen
    ) -> Completed:
        """Play a command."""
        self.ran.append(tuple(command))
        if channels.began is not None:
            channels.began(1, 0.0)
        return self.play(command)

    def at_end(self, step: Step, command: Sequence[str]) -> None:
        """Keep what is to be run at the end."""
        self.at_the_end.append(tuple(command))

    def settle_down(self, places: Sequence[str], item: str) -> None:
        """Keep what is made durable."""
        self.settled += places

    def await_ended(self, pid: int, started: float) -> None:
        """See ``Programs``; what was played has ended."""

    def room_for_made(self, item: str) -> str:
        """Return the folder for what programs make."""
        return self.room

    def keep(self, item: str, names: Iterable[str]) -> None:
        """Keep the names of what goes into the parcel."""
        self.kept += names

    def secrets(self, step: Step) -> frozenset[str]:
        """Return the names of secrets."""
        return self.secret_names

    def secret(self, step: Step, name: str, value: str) -> None:
        """Keep a secret."""
        self.hidden[name] = value

    def masked(self, text: str) -> str:
        """Return a text without any secret."""
        for name, value in self.hidden.items():
            text = text.replace(value, f"‹{name}›")
        return text


@dataclass(kw_only=True)
class FakeCargo:
    """A ``steps.contexts.Cargo``: what is packed stays in memory, by item and path."""

    files: dict[tuple[str, str], bytes] = field(default_factory=dict)
    entries: list[CargoEntry] = field(default_factory=list)
    medium_is_there: str = ""
    is_sealed: bool = False

    @property
    def packing(self) -> FakeCargo:
        """Itself."""
        return self

    @property
    def packed(self) -> FakeCargo:
        """Itself."""
        return self

    def add(
        self,
        item: str,
        entries: Iterable[Entry],
        open_file: Callable[[str], BinaryIO],
        moved: Callable[[int, int], None] = lambda size, files: None,
        attributes: Callable[[str], Mapping[str, bytes]] = lambda path: {},
    ) -> tuple[int, int]:
        """Pack entries; see ``Packing``."""
        count = size = 0
        for entry in entries:
            data = b""
            if entry.kind == "file":
                with open_file(entry.path) as file:
                    data = file.read()
                count, size = count + 1, size + len(data)
            self.put(item, entry, data)
        moved(0, 0)
        return count, size

    def put(self, item: str, entry: Entry, data: bytes) -> None:
        """Have an entry lie in the cargo."""
        self.files[item, entry.path] = data
        kind: Any = entry.kind
        self.entries.append(
            CargoEntry(
                item,
                entry.path,
                kind,
                len(data),
                entry.mtime,
                entry.mode,
                entry.target,
                digest(data) if entry.kind == "file" else "",
            )
        )

    def of(self, item: str, after: int = 0) -> Iterator[CargoEntry]:
        """Give the entries of an item after the first ``after``."""
        return iter([entry for entry in self.entries if entry.item == item][after:])

    def tally(self, item: str) -> tuple[int, int, int]:
        """Return how many entries there are, how many are files, and the bytes of these."""
        files = [entry for entry in self.of(item) if entry.kind in ("file", "hard")]
        return len(list(self.of(item))), len(files), sum(entry.size for entry in files)

    def get(self, item: str, path: str) -> CargoEntry | None:
        """Return an entry of an item."""
        return next((entry for entry in self.of(item) if entry.path == path), None)

    def chunks(self, entry: CargoEntry) -> Iterator[bytes]:
        """Give the bytes of a file."""
        yield self.files[entry.item, entry.path]

    def insist(self, entry: CargoEntry) -> None:
        """See ``Packed``; what is in memory is what was packed."""

    def medium(self) -> Callable[[], str]:
        """Return what says whether the medium is there."""
        return lambda: self.medium_is_there

    def take_along(self) -> str:
        """Return where the parcel is said to be now."""
        return "/state/run/parcel"


@dataclass(kw_only=True)
class FakePeople:
    """A ``steps.contexts.People``: ``replies`` by name, and whether a person does their tasks."""

    replies: Mapping[str, str] = field(default_factory=dict)
    does: bool = True
    asked: list[Asked] = field(default_factory=list)
    tasks: list[Task] = field(default_factory=list)

    def ask(self, asked: Asked) -> str | None:
        """Return the reply to a question."""
        self.asked.append(asked)
        return self.replies.get(asked.name)

    def have_done(self, step: Step, task: Task) -> bool:
        """Return whether the person does it."""
        self.tasks.append(task)
        return self.does
