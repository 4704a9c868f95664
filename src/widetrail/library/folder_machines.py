"""Machine folders: the programs on them, named states to come back to, and differences."""

from __future__ import annotations

import difflib
import os
import re
import shutil
from collections.abc import Iterator
from pathlib import Path
from typing import Literal

import yaml

from widetrail.errors import InputUnusable
from widetrail.lazily import dataclass
from widetrail.library.recipes import Where
from widetrail.machine import FolderMachine
from widetrail.machine.machine_file import FILE, Program
from widetrail.machine.packages import programs_of
from widetrail.machine.platforms.linux import LINUX
from widetrail.rehearsing.machine_copies import contents, copy_machine
from widetrail.rehearsing.shared_contents import is_shared, prune, share, unshare

SAVED = ".saved"
"""The folder beside machine folders that holds their named states."""

_NAME = re.compile(r"\w[\w .-]{0,63}")
_TEXT_MOST = 256 * 1024

Change = Literal["added", "removed", "changed"]


@dataclass(frozen=True)
class Difference:
    """A file or folder that two machine folders do not have alike.

    ``path`` is below the machine's folder, ``size`` in bytes that on the second one (on the first
    where it was removed; 0 for a folder), and ``lines`` are the lines that differ, as ``diff -u``
    writes them, where both are short texts.
    """

    path: str
    change: Change
    size: int
    lines: tuple[str, ...] = ()


def add_program(folder: Where, package: str) -> tuple[Program, ...]:
    """Register the programs of a Debian package that is installed here on a machine folder.

    ``machine.yaml`` is written anew, with all else as it was, and an empty file stands for each
    program. Returns what was added; nothing where all of it was there.

    Raises:
        InputUnusable: There is no such machine, or the package is not installed.

    Example:
        >>> [program.path for program in add_program("machines/shed", "nano")]  # doctest: +SKIP
        ['/usr/bin/nano', '/usr/bin/rnano']
    """
    machine = FolderMachine(Path(folder))
    if machine.platform != LINUX.name:
        why = f"{machine.name} is a machine of {machine.platform}"
        raise InputUnusable("Debian's programs run on Linux only", where=str(folder), why=why)
    found = programs_of(package)
    there = {program.path for program in machine.file.programs}
    fresh = tuple(program for program in found if program.path not in there)
    if fresh:
        file = machine.folder / FILE
        file.write_text(_with_programs(file.read_text("utf-8"), fresh), "utf-8")
    for program in found:  # by its file it is recognised, and a rehearsal can remove it
        at = machine.host(program.path)
        at.parent.mkdir(parents=True, exist_ok=True)
        at.touch(0o755)
    return fresh


def _with_programs(text: str, programs: tuple[Program, ...]) -> str:
    """Return the text of a machine's file with more programs at the end of its list."""
    root = yaml.compose(text, yaml.SafeLoader)
    assert isinstance(root, yaml.MappingNode)  # it was read as a machine's file
    told = [
        {
            "path": one.path,
            "start": list(one.start),
            "package": one.package,
            "version": one.version,
        }
        for one in programs
    ]
    entries = [
        yaml.safe_dump(one, default_flow_style=True, sort_keys=False, width=1000).strip()
        for one in told
    ]
    listed = next((v for k, v in root.value if k.value == "programs"), None)
    if listed is None:
        end = "" if text.endswith("\n") else "\n"
        return f"{text}{end}programs:\n" + "".join(f"  - {entry}\n" for entry in entries)
    if listed.flow_style or not listed.value:
        own = [text[e.start_mark.index : e.end_mark.index].strip() for e in listed.value]
        block = "\n" + "\n".join(f"  - {entry}" for entry in [*own, *entries])
        start, end_at = listed.start_mark.index, listed.end_mark.index
        return f"{text[:start].rstrip(' ')}{block}{text[end_at:]}"
    indent = " " * listed.start_mark.column
    last = listed.value[-1].end_mark.index
    if "\n" in text[last:] and not text[:last].endswith("\n"):
        last = text.index("\n", last) + 1
    before = text[:last] if text[:last].endswith("\n") else f"{text[:last]}\n"
    return before + "".join(f"{indent}- {entry}\n" for entry in entries) + text[last:]


def _in_one_line(value: object) -> str:
    told = yaml.safe_dump(value, default_flow_style=True, sort_keys=False, width=1000)
    return str(told).strip()


def share_machine(folder: Where, base: Where | None = None) -> int:
    """Store the files of a machine folder by content, once for all machines beside it; return how
    many bytes were not there yet. It can be rehearsed on as before.

    ``base`` is a machine beside it that is stored so: only what is other than on it is listed.

    Raises:
        InputUnusable: There is no such machine, it is stored so already, or the base is not.

    Example:
        >>> share_machine("machines/bothy") > 0
        True
    """
    if not is_shared(Path(folder)):
        FolderMachine(Path(folder))  # it is one
    return share(Path(folder), None if base is None else Path(base))


def unshare_machine(folder: Where) -> int:
    """Bring the files of a machine folder back that are stored by content; return how many bytes
    nobody needs then, which are removed.

    Raises:
        InputUnusable: It is not stored so, or something of it is not there.

    Example:
        >>> _ = share_machine("machines/bothy")
        >>> unshare_machine("machines/bothy") > 0
        True
    """
    unshare(Path(folder))
    return prune(Path(folder).resolve().parent)


def saved_states(folder: Where) -> tuple[str, ...]:
    """Return the names of the states that were saved of a machine folder, in order.

    Raises:
        OSError: They cannot be listed.

    Example:
        >>> saved_states("machines/potting-shed")
        ()
    """
    states = _states(Path(folder))
    return tuple(sorted(os.listdir(states))) if states.is_dir() else ()


def save_machine(folder: Where, name: str) -> Path:
    """Save the state of a machine folder under a name, and return where it lies.

    Raises:
        InputUnusable: There is no such machine, the name cannot be one, or it is taken.

    Example:
        >>> save_machine("machines/potting-shed", "before the release").name
        'before the release'
    """
    machine = FolderMachine(Path(folder))
    state = _state(Path(folder), name)
    if state.exists():
        raise InputUnusable(
            "already exists", where=str(state), todo="Choose another name, or delete that state."
        )
    state.parent.mkdir(parents=True, exist_ok=True)
    copy_machine(machine.folder, state)
    return state


def restore_machine(folder: Where, name: str) -> None:
    """Make a machine folder what it was when a state was saved; what it is now is lost.

    Raises:
        InputUnusable: There is no such state.

    Example:
        >>> _ = save_machine("machines/potting-shed", "clean")
        >>> restore_machine("machines/potting-shed", "clean")
    """
    at = Path(folder).resolve()
    state = _state(at, name)
    if not state.is_dir():
        known = ", ".join(saved_states(at)) or "none"
        raise InputUnusable("state not found", where=name, todo=f"Available: {known}")
    fresh, gone = at.with_name(f"{at.name}.restored"), at.with_name(f"{at.name}.before")
    for left in (fresh, gone):  # of a call that was cut off
        shutil.rmtree(left, ignore_errors=True)
    copy_machine(state, fresh)
    if at.exists():
        at.rename(gone)
    fresh.rename(at)
    shutil.rmtree(gone, ignore_errors=True)


def machine_differences(one: Where, other: Where) -> tuple[Difference, ...]:
    """Return what two machine folders, or saved states of them, do not have alike.

    What the tool itself keeps on them is left out.

    Raises:
        InputUnusable: One of them is none.

    Example:
        >>> shed = "machines/potting-shed"
        >>> machine_differences(shed, shed)
        ()
    """
    folders = [FolderMachine(Path(folder)) for folder in (one, other)]
    before, after = (contents(folder) for folder in folders)
    return tuple(_differences(folders[0].folder, folders[1].folder, before, after))


def _differences(
    one: Path, other: Path, before: dict[str, str], after: dict[str, str]
) -> Iterator[Difference]:
    for path in sorted(before.keys() | after.keys()):
        old, new = before.get(path), after.get(path)
        if old == new:
            continue
        at = other / path if new is not None else one / path
        size = at.stat().st_size if "folder" not in (old, new) else 0
        if old is None:
            yield Difference(path, "added", size)
        elif new is None:
            yield Difference(path, "removed", size)
        else:
            yield Difference(path, "changed", size, _lines(one / path, other / path))


def _lines(one: Path, other: Path) -> tuple[str, ...]:
    texts = []
    for at in (one, other):
        if not at.is_file() or at.stat().st_size > _TEXT_MOST:
            return ()
        try:
            texts.append(at.read_text("utf-8").splitlines())
        except UnicodeDecodeError:
            return ()
    old, new = texts
    return tuple(difflib.unified_diff(old, new, lineterm="", n=1))[2:]


def _states(folder: Path) -> Path:
    at = folder.resolve()
    return at.parent / SAVED / at.name


def _state(folder: Path, name: str) -> Path:
    if _NAME.fullmatch(name) is None:
        raise InputUnusable(
            "not a name for a state",
            where=name,
            todo="Use letters, digits, spaces, dots, - and _, beginning with a letter or digit.",
        )
    return _states(folder) / name
