"""What a rehearsal tries, by digests: recipes, itself, machines, programs, and Wide Trail.

Machines are told apart by the names, kinds, permission bits and contents in their folders, not by
times, which a checkout does not keep. Of a program outside of its machine the file that is started
counts, or the whole package where Python starts a module.
"""

from __future__ import annotations

import hashlib
import os
import stat
import sys
from collections.abc import Iterable, Iterator, Mapping
from functools import cached_property
from importlib.util import find_spec
from itertools import chain
from pathlib import Path
from typing import Literal, get_args

import widetrail
from widetrail.errors import InputUnusable, WideTrailError
from widetrail.formats import digest
from widetrail.formats.outside import open_regular
from widetrail.lazily import dataclass
from widetrail.machine.host_programs import host_command
from widetrail.machine.machine_file import Program, machine_file_of
from widetrail.rehearsing.shared_contents import is_shared, shared_facts
from widetrail.rehearsing.stage import machines_near
from widetrail.rehearsing.tried import Tried

Input = Literal["recipe", "rehearsal", "machines", "programs", "engine"]
"""What a rehearsal depends on; the engine is Wide Trail, with the Python that runs it."""

INPUTS: tuple[Input, ...] = get_args(Input)

INPUT_WORDS: Mapping[str, str] = {
    "recipe": "the recipe",
    "rehearsal": "the rehearsal",
    "machines": "its machines",
    "programs": "their programs",
    "engine": "Wide Trail",
}
"""What each of them is called."""


@dataclass(frozen=True)
class Inputs:
    """What a rehearsal is known by, and the digest of each thing that it tries: an empty one of
    what cannot be read; of machines that are not there, and their programs, none."""

    recipe: str
    rehearsal: str
    case_name: str
    digests: Mapping[Input, str]

    @property
    def whose(self) -> tuple[str, str, str]:
        """The rehearsal, as a history knows it."""
        return self.recipe, self.rehearsal, self.case_name

    @property
    def whole_digest(self) -> str:
        """One digest of all that it tries, as a history's runs have it."""
        return "".join(self.digests.get(what, "") for what in INPUTS)


class InputDigests:
    """Digests of what rehearsals try; what several have in common is read once."""

    def __init__(self, machines: Path | None = None) -> None:
        """``machines`` is the folder that holds the machines, as for ``rehearse``."""
        self._machines = machines
        self._known: dict[Path, str] = {}
        self._programs_of: dict[Path, str] = {}
        self._near: dict[Path, Path | None] = {}
        self._together: dict[tuple[Path, tuple[str, ...], str], dict[Input, str]] = {}

    def know(self, path: Path, digest: str) -> None:
        """Be told the digest (SHA-256) of a file that was read by now."""
        self._known[path] = digest

    def of(self, tried: Tried) -> Inputs:
        """Return what a rehearsal tries."""
        recipes = tried.recipe_files
        digests: dict[Input, str] = {
            "recipe": _joined(map(self._digest, recipes)),
            "rehearsal": self._digest(tried.path),
            "engine": self.engine,
        }
        digests |= self._of_machines(tried)
        names = recipes[0].name, tried.path.name
        return Inputs(*names, tried.case, digests)

    def _of_machines(self, tried: Tried) -> dict[Input, str]:
        source = self._machines or self._machines_near(tried.path)
        if source is None:
            return {}
        played = source, tried.machines, tried.maker
        if played not in self._together:
            self._together[played] = self._all_of(*played)
        return self._together[played]

    def _all_of(self, source: Path, machines: tuple[str, ...], maker: str) -> dict[Input, str]:
        folders = [source / name for name in machines]
        if not all(folder.is_dir() for folder in folders):
            return {}
        services = [source.parent / maker] if maker else []
        return {
            "machines": _joined(map(self._digest, [*folders, *services])),
            "programs": _joined(map(self._programs, folders)),
        }

    def _machines_near(self, path: Path) -> Path | None:
        if path.parent not in self._near:
            try:
                self._near[path.parent] = machines_near(path)
            except InputUnusable:
                self._near[path.parent] = None
        return self._near[path.parent]

    @cached_property
    def engine(self) -> str:
        """The digest of Wide Trail and the Python that runs it."""
        own = self._digest(Path(widetrail.__file__).parent)
        return _joined((widetrail.__version__, sys.version, own))

    def _digest(self, path: Path) -> str:
        if path not in self._known:
            try:
                self._known[path] = tree_digest(path)
            except (OSError, WideTrailError):  # the rehearsal tells it, where it needs it
                self._known[path] = ""
        return self._known[path]

    def _programs(self, folder: Path) -> str:
        if folder not in self._programs_of:
            try:
                programs = machine_file_of(folder).programs
            except WideTrailError as error:  # the rehearsal tells it
                return digest(str(error).encode())
            self._programs_of[folder] = _joined(chain.from_iterable(map(self._played_by, programs)))
        return self._programs_of[folder]

    def _played_by(self, program: Program) -> Iterator[str]:
        """Give the digests of a program's entry and of what plays it on this system; nothing of
        what is not there."""
        yield digest("\0".join((program.path, *program.start)).encode())
        first, *arguments = program.start
        try:
            command = Path(host_command(first))
        except WideTrailError:
            return
        if command != Path(sys.executable):  # that is part of the engine
            yield self._digest(command)
        for before, argument in zip(("", *arguments), arguments, strict=False):
            if before == "-m":
                yield from map(self._digest, _package_of(argument))
            elif Path(argument).is_absolute() and Path(argument).is_file():
                yield self._digest(Path(argument))


def _package_of(module: str) -> Iterator[Path]:
    """Give where the package of a module is installed: its folder, or its file."""
    try:
        found = find_spec(module.partition(".")[0])
    except (ImportError, ValueError):
        return
    if found is not None and found.submodule_search_locations:
        yield from map(Path, found.submodule_search_locations)
    elif found is not None and found.origin is not None and Path(found.origin).is_file():
        yield Path(found.origin)


def _joined(digests: Iterable[str]) -> str:
    """Return one digest of several things, an empty one where one of them is not known."""
    told = list(digests)
    return digest("\0".join(told).encode("utf-8", "surrogatepass")) if all(told) else ""


def tree_digest(path: Path) -> str:
    """Return the digest of a file, or of all names in a folder with what stands behind them; what
    is compiled of Python's sources does not count.

    Raises:
        OSError: Something cannot be read.
    """
    real = os.path.realpath(path)
    if not Path(real).is_dir():
        return _file_digest(real)
    hashed = hashlib.sha256()
    for fact in _shared_facts(path) if is_shared(path) else _facts(real, ""):
        hashed.update(os.fsencode(fact) + b"\0")
    return hashed.hexdigest()


def _file_digest(path: str) -> str:
    with os.fdopen(open_regular(path), "rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def _shared_facts(folder: Path) -> Iterator[str]:
    """Give the very facts of a machine that is stored by content."""
    for path, one in shared_facts(folder):
        if one.kind == "link":
            yield f"link {path} {one.to}"
        elif "__pycache__" not in path.split("/"):
            told = f" {one.digest}" if one.kind == "file" else ""
            yield f"{one.kind} {one.mode} {path}{told}"


def _facts(folder: str, below: str) -> Iterator[str]:
    with os.scandir(folder) as listed:
        entries = sorted(listed, key=lambda entry: entry.name)
    for entry in entries:
        status, name = entry.stat(follow_symlinks=False), f"{below}{entry.name}"
        bits = stat.S_IMODE(status.st_mode)
        if stat.S_ISDIR(status.st_mode):
            if entry.name != "__pycache__":
                yield f"folder {bits} {name}"
                yield from _facts(entry.path, f"{name}/")
        elif stat.S_ISLNK(status.st_mode):
            yield f"link {name} {os.readlink(entry.path)}"
        elif stat.S_ISREG(status.st_mode):
            yield f"file {bits} {name} {_file_digest(entry.path)}"
        else:
            yield f"other {name}"
