"""Copies of a machine's folder, and what two of them differ in."""

from __future__ import annotations

import os
import shutil
import stat
import subprocess
import sys
from collections.abc import Sequence
from pathlib import Path

from widetrail.formats import digest
from widetrail.machine import FolderMachine
from widetrail.machine.host import READ_MOST, bytes_of
from widetrail.machine.own_folders import OWN_STATE
from widetrail.rehearsing.shared_contents import copy_shared, is_shared


def copy_machine(source: Path, folder: Path) -> None:
    """Copy a machine's folder whole; where the system has a command for that, it is quicker. One
    that is stored by content becomes an ordinary one.

    Raises:
        MachineUnusable: Something of what is stored is not there.
    """
    if is_shared(source):
        copy_shared(source, folder)
        return
    command = shutil.which("cp") if sys.platform.startswith("linux") else None
    if command is not None:
        done = subprocess.run([command, "-a", "--", source, folder], check=False)
        if done.returncode == 0:
            return
        shutil.rmtree(folder, ignore_errors=True)
    shutil.copytree(source, folder, symlinks=True)


def contents(machine: FolderMachine) -> dict[str, str]:
    """Return a digest for each of the person's files: all but the tool's own state.

    Of a file that is larger than ``READ_MOST`` its size, times and blocks stand for it.
    """
    own = machine.host(machine.root("state")) / OWN_STATE
    apart = {str(own), *map(str, own.parents)}
    found: dict[str, str] = {}
    _gather(str(machine.folder), "", str(own), apart, found)
    return found


def _gather(folder: str, below: str, own: str, apart: set[str], found: dict[str, str]) -> None:
    with os.scandir(folder) as entries:
        for entry in entries:
            if entry.is_symlink() or entry.path == own:
                continue
            name = f"{below}{entry.name}"
            if entry.is_dir():
                if entry.path not in apart:
                    found[name] = "folder"
                _gather(entry.path, f"{name}/", own, apart, found)
            else:
                found[name] = _fact(entry)


def _fact(entry: os.DirEntry[str]) -> str:
    status = entry.stat()
    if status.st_size > READ_MOST:
        return f"{status.st_size} {status.st_mtime_ns} {getattr(status, 'st_blocks', 0)}"
    return digest(bytes_of(entry.path)) if stat.S_ISREG(status.st_mode) else "other"


def changes(before: dict[str, str], after: dict[str, str], allowed: Sequence[Path]) -> list[str]:
    """Return the names that differ, but for those at or below a path that may change."""
    differing = [n for n in before.keys() | after.keys() if before.get(n) != after.get(n)]
    return sorted(n for n in differing if not any(Path(n).is_relative_to(a) for a in allowed))
