"""The programs of this system's packages, as the package manager of Debian knows them."""

from __future__ import annotations

import os
import shutil
import subprocess
from collections.abc import Iterator
from pathlib import Path

from widetrail.errors import MachineUnusable
from widetrail.machine.machine_file import Program

_FOLDERS = ("/usr/bin", "/usr/games", "/usr/sbin", "/usr/local/bin", "/bin", "/sbin")


def programs_of(package: str) -> tuple[Program, ...]:
    """Return the programs that a package which is installed here brings, with its version.

    Raises:
        MachineUnusable: It is not installed, brings none, or this system has no such packages.
    """
    version = installed_version(package)
    if not version:
        raise MachineUnusable(
            "package not installed", where=package, todo=f"Install it: apt install {package}"
        )
    found = tuple(
        Program(path=path, start=(path,), package=package, version=version)
        for path in sorted(_commands(package))
    )
    if not found:
        raise MachineUnusable(
            "package has no programs", where=package, why=f"none lies in {', '.join(_FOLDERS)}"
        )
    return found


def installed_version(package: str) -> str:
    """Return the version of a package that is installed here; an empty text where it is not.

    Raises:
        MachineUnusable: This system has no such packages.
    """
    told = _asked("-W", "-f", "${db:Status-Abbrev}\t${Version}", "--", package)
    status, _, version = told.partition("\t")
    return version if status.startswith("ii") else ""


def _commands(package: str) -> Iterator[str]:
    for line in _asked("-L", package).splitlines():
        path = Path(line)
        if str(path.parent) in _FOLDERS and path.is_file() and os.access(path, os.X_OK):
            yield line


def _asked(*arguments: str) -> str:
    """Return what ``dpkg-query`` prints; nothing where it does not know the package."""
    command = shutil.which("dpkg-query")
    if command is None:
        raise MachineUnusable(
            "packages cannot be found",
            where="this computer",
            why="only Debian's packages are known, and dpkg-query is not installed",
            todo="Write the program into machine.yaml by hand.",
        )
    done = subprocess.run(
        [command, *arguments], capture_output=True, text=True, errors="replace", check=False
    )
    return done.stdout if done.returncode == 0 else ""
