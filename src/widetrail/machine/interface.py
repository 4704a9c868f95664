"""What a machine is to the rest of Wide Trail.

A path in these signatures is the machine's own, with ``/`` (``D:/Post``), unless it is a
``pathlib.Path``: that one is where the same thing lies for the system Wide Trail runs on, and it
never enters a plan, journal or report.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import AbstractContextManager
from dataclasses import field
from typing import Any, BinaryIO, Literal, NamedTuple, Protocol

from widetrail.formats.outside import SafePath
from widetrail.lazily import dataclass
from widetrail.machine.effects import Effects, Writing
from widetrail.machine.platforms import Platform, PlatformRules
from widetrail.machine.processes import Began
from widetrail.machine.registries import Registry

EntryKind = Literal["file", "folder", "link", "hard", "other"]
"""``hard`` is a further name of a file that has several, once one name of it was met."""


class Entry(NamedTuple):
    """One name in a tree: its path relative to where the walk began, and its status.

    ``size`` in bytes (0 unless a file), ``mtime`` in nanoseconds since 1970, ``mode`` the
    permission bits, ``target`` what a link says. ``file_id`` is the same for all names of one file
    that has several, and empty where it has one; ``is_sparse`` tells that it has holes.
    ``number`` is that of the file on its volume, and ``changed`` when its status was changed last,
    in nanoseconds since 1970: both are the volume's own, and hold for one machine only.
    """

    path: str
    kind: EntryKind
    size: int
    mtime: int
    mode: int
    target: str = ""
    file_id: str = ""
    is_sparse: bool = False
    number: str = ""
    changed: int = 0

    def another_name(self, first: str) -> Entry:
        """Return this name as another one of the file that ``first`` names."""
        return self._replace(kind="hard", size=0, target=first)


@dataclass(frozen=True)
class Room:
    """The volume a path lies on: its name for people, and its free bytes."""

    volume: str
    free: int


@dataclass(frozen=True)
class Completed:
    """How a program ended: its exit status (negative: the signal that ended it) and what it
    printed, its lines ended by a line feed whatever it ended them with; ``printed`` are the bytes
    of that, ``left`` a line for each process it left running.
    """

    status: int
    output: str
    errors: str
    printed: bytes = b""
    left: tuple[str, ...] = ()


def printed_text(printed: bytes, errors: str = "strict") -> str:
    """Return what a program printed as text, each line ended by a line feed alone.

    Raises:
        UnicodeDecodeError: It is not UTF-8, and ``errors`` is ``strict``.
    """
    return printed.decode("utf-8", errors).replace("\r\n", "\n")


@dataclass(frozen=True)
class Channels:
    """What a program is given beside its arguments, and where its output goes.

    ``began`` is told its process before it runs; see ``Effects.run``.
    """

    stdin: bytes = b""
    env: Mapping[str, str] = field(default_factory=dict)
    output: Writing | None = None
    began: Began | None = None


class Opened(Protocol):
    """A folder of a machine that was opened: what is below it is read without following links."""

    def open(self, path: str) -> BinaryIO:
        """Open the regular file at ``path`` below the folder for reading."""

    def attributes(self, path: str) -> Mapping[str, bytes]:
        """Return the extended attributes of ``path`` below the folder; as ``Machine``."""


class Machine(Protocol):
    """A computer whose files are read, and changed through ``effects`` only.

    Reading raises ``MachineUnusable`` with the machine's own path where something is not there,
    may not be read, or is reached through a link; it never follows a link below a root.
    """

    name: str
    identity: str
    platform: Platform
    system: str
    user: str
    administrator: bool
    network: bool
    effects: Effects

    @property
    def rules(self) -> PlatformRules:
        """The rules of its platform."""

    @property
    def read_only(self) -> bool:
        """Whether nothing of it may be changed, such as the disk of a dead computer: its journal
        then lies on this computer."""

    def root(self, name: str) -> str:
        """Return the folder that a root of the recipe language stands for."""

    def variables(self) -> Mapping[str, str]:
        """Return the environment variables that settings of this account may name."""

    def command(self, name: str) -> str | None:
        """Return where the command ``name`` is installed, or ``None``."""

    def synced(self, path: str) -> str:
        """Return the service that keeps ``path`` in step between machines, or an empty text."""

    @property
    def registry(self) -> Registry:
        """Its registry; one that nothing can be asked where its platform knows of none."""

    def edit_desktop(self, changes: Mapping[str, str | None]) -> None:
        """Set values of the desktop's settings by their whole paths; ``None`` resets one.

        Raises ``Unreadable`` where there are none that can be changed, ``EffectFailed`` where the
        system refuses.
        """

    def desktop_settings(self) -> bytes:
        """Return the desktop's settings database as text (``dconf dump /``).

        Raises ``Unreadable`` where there is none.
        """

    def scratch(self, copies: Sequence[str]) -> AbstractContextManager[Machine]:
        """Lend a machine like this one that holds only its programs and copies of ``copies``."""

    def look(self, path: str) -> Entry | None:
        """Return what is at ``path`` itself, or ``None`` where nothing is."""

    def walk(self, path: str, deepest: int | None = ...) -> Iterator[Entry]:
        """Give everything below the folder ``path``, folders before what is in them, sorted.

        ``deepest`` is how many levels are looked at; without it all are.
        """

    def open(self, path: str) -> BinaryIO:
        """Open the regular file at ``path`` for reading."""

    def opened(self, path: str) -> AbstractContextManager[Opened]:
        """Open the folder at ``path``, to read many files below it."""

    def attributes(self, path: str) -> Mapping[str, bytes]:
        """Return the extended attributes that the account's programs set, where there are any."""

    def shares(self) -> tuple[tuple[str, str], ...]:
        """Return the folders that other machines see too, each with its name everywhere.

        They are shares of a network, and folders that a service keeps in step.
        """

    def read(self, path: str, most: int = ...) -> bytes:
        """Return a whole file of at most ``most`` bytes."""

    def host(self, path: str) -> SafePath:
        """Return where ``path`` lies for the system Wide Trail runs on."""

    def room(self, path: str) -> Room:
        """Return the volume that holds, or would hold, ``path``."""

    def disks(self) -> tuple[str, ...]:
        """Return where the machine's volumes begin: drives (``C:``) or mount points (``/``)."""

    def running(self, program: str) -> list[str]:
        """Return a line for each running process of the program installed at ``program``."""

    def start(
        self,
        program: str,
        arguments: Sequence[str],
        seconds: float = ...,
        channels: Channels = ...,
    ) -> Completed:
        """Run the program installed at ``program`` to its end, in an empty working folder.

        Raises ``WentWrong`` where it was stopped, since it did not end in time or printed without
        end.
        """

    def launch(self, program: str, arguments: Sequence[str]) -> None:
        """Start the program installed at ``program`` for a person; it goes on by itself."""

    def facts(self) -> Mapping[str, str]:
        """Return what a plan notes about the machine: platform, system, user."""

    @property
    def answers(self) -> Mapping[str, Any]:
        """What readings tell here by what they ask, where that was recorded and is not looked for:
        on machines that were made of a report. Values are plain: texts, lists and mappings."""
