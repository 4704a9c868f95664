"""The file that says what a folder machine is: its platform, disks, programs and account."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from functools import lru_cache
from pathlib import Path
from typing import Annotated, Literal

from pydantic import AfterValidator, BeforeValidator, Field

from widetrail.errors import MachineUnusable
from widetrail.formats.documents import Model, YesNo, check, load, read_text
from widetrail.formats.flaws import flaw
from widetrail.formats.outside import names_in
from widetrail.formats.quantities import parse_size
from widetrail.machine.host import bytes_of
from widetrail.machine.platforms import PlatformName

FILE = "machine.yaml"

CONTENTS = "contents.txt"
"""The list in the folder of a machine whose files are stored by content (``shared_contents``)."""

REGISTRY = "registry.reg"

ANSWERS = "answers.json"
"""What readings tell on a machine without being taken, by what they ask (``Machine.answers``)."""


DESKTOP_SETTINGS = "desktop.dconf"


def _below(text: str) -> str:
    if not text or text.startswith(("/", "\\")) or ":" in text or ".." in text.split("/"):
        raise flaw("disk-folder", f'"{text}" must be a folder below the machine\'s own')
    return text


Size = Annotated[int, BeforeValidator(parse_size)]


class Disk(Model):
    """One volume: the folder that holds it, how large it is and how much of it is free."""

    folder: Annotated[str, AfterValidator(_below)]
    size: Size | None = None
    free: Size | None = None
    format: str = ""


class Program(Model):
    """An installed program: its path, and the command that plays it on this system.

    ``paths`` says what it is given where an argument names a file of the machine: the machine's own
    path, which a stand-in finds by its environment, or where that lies here (``host``), for a real
    program of this system. ``package`` is the system's package that brings it, and ``version`` that
    of the package when it was registered.
    """

    path: str
    start: tuple[str, ...] = Field(min_length=1)
    paths: Literal["", "machine", "host"] = ""
    package: str = ""
    version: str = ""


class Synced(Model):
    """A folder that a service keeps in step between machines."""

    folder: str
    service: str


class Share(Model):
    """A folder that lies on another computer of the network, and its name there."""

    folder: str
    share: str


class MachineFile(Model):
    """What ``machine.yaml`` holds.

    ``isolated`` tells that its programs are started in namespaces of their own, where this computer
    can do that; of a network they reach the services on loopback addresses that ``environment``
    names, and all there is where it is ``outside``.
    """

    machine: str
    identity: str = ""
    platform: PlatformName
    system: str
    user: str
    home: str = ""
    redirected: dict[str, str] = Field(default_factory=dict)
    environment: dict[str, str] = Field(default_factory=dict)
    synced: tuple[Synced, ...] = ()
    shares: tuple[Share, ...] = ()
    disks: dict[str, Disk] = Field(min_length=1)
    programs: tuple[Program, ...] = ()
    running: tuple[str, ...] = ()
    administrator: YesNo = False
    network: Literal["yes", "no", "outside"] = "yes"
    read_only: YesNo = False
    isolated: YesNo = False


def machine_file_of(folder: Path) -> MachineFile:
    """Return what the file in a machine's folder says, wherever its other files are.

    Raises:
        MachineUnusable: There is none.
        DocumentUnusable: It has findings.
    """
    if not (folder / FILE).is_file():
        raise MachineUnusable(
            "is not a folder machine",
            where=str(folder),
            why=f"it holds no {FILE}" if folder.is_dir() else "folder not found",
            todo=f"Name a folder that holds {FILE}.",
        )
    return _read_machine_file(folder / FILE)


def _read_machine_file(path: Path) -> MachineFile:
    """Return what a machine's file says; the same text is read once.

    Raises:
        InputUnusable: The file cannot be read.
        DocumentUnusable: It has findings that are errors.
    """
    return _parsed(read_text(path)) or load(MachineFile, path)


@lru_cache(maxsize=64)
def _parsed(text: str) -> MachineFile | None:
    return check(MachineFile, text, FILE)[0]


def environments_of(told: str) -> Iterator[tuple[int, dict[str, str]]]:
    """Give the environment of every process that has ``told``, a variable with its value, in it."""
    if sys.platform.startswith("linux"):
        wanted = told.encode("utf-8", "surrogateescape")
        for name in filter(str.isdecimal, names_in("/proc")):
            try:
                data = bytes_of(f"/proc/{name}/environ")
            except OSError:
                continue
            if wanted in data:
                texts = data.decode("utf-8", "surrogateescape").split("\0")
                if told in texts:
                    yield int(name), dict(text.partition("=")[::2] for text in texts)
        return
    import psutil

    name, _, value = told.partition("=")
    for process in psutil.process_iter():
        try:
            environment = process.environ()
        except (psutil.Error, OSError):
            continue
        if environment.get(name) == value:
            yield process.pid, environment
