"""Programs of a folder machine as this computer runs them: commands, arguments, what they print."""

from __future__ import annotations

import os
import shutil
import sys
from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path

from widetrail.errors import MachineUnusable
from widetrail.machine.interface import Completed
from widetrail.machine.machine_file import FILE
from widetrail.machine.platforms import PlatformRules

PYTHON = "python"
"""What a folder machine calls the Python that runs Wide Trail."""


def host_command(name: str) -> str:
    if name == PYTHON:
        return sys.executable
    beside = Path(sys.executable).parent / name
    found = str(beside) if beside.is_file() else shutil.which(name)
    if found is None:
        raise MachineUnusable(
            "command not found", where=name, todo="Install the program that provides it."
        )
    return found


def in_machine_paths(done: Completed, disks: Mapping[str, str]) -> Completed:
    """Return what a program printed with the machine's own paths for those of this system.

    ``disks`` are the folders of the machine's disks by where they are mounted.
    """
    output, printed = done.output, done.printed
    for mount, host in sorted(disks.items(), key=lambda at: -len(at[1])):
        output = output.replace(f"{host}/", f"{mount}/").replace(host, mount or "/")
        printed = printed.replace(os.fsencode(f"{host}/"), os.fsencode(f"{mount}/"))
    return replace(done, output=output, printed=printed)


def insist_not_here(text: str, program: str) -> None:
    """Insist that an argument names nothing of this computer itself.

    Raises:
        MachineUnusable: It does, and nothing tells whether the program would take it for that.
    """
    above = os.path.dirname(text.rstrip("/"))  # noqa: PTH120 - a text of the machine
    if above.count("/") > 1 and os.path.isdir(above):  # noqa: PTH112
        raise MachineUnusable(
            "this computer itself might be changed",
            where=text,
            why=f"{program} is played here, and {above} is a real folder too",
            todo=f"Say in {FILE} which paths it is given: paths: machine, or paths: host.",
        )


def _needed_here(home: str) -> dict[str, str]:
    """Return what programs of this system need beside, whichever computer they play a part of."""
    if sys.platform == "win32":
        return {"USERPROFILE": home, "SYSTEMROOT": os.environ.get("SYSTEMROOT", "C:\\Windows")}
    return {}


def environment_here(
    rules: PlatformRules, known: Mapping[str, str], told: Mapping[str, str]
) -> dict[str, str]:
    """Return the environment of a program that plays one of another computer here.

    ``known`` are the roots and the account by name, ``told`` what it is given besides.
    """
    given, own = (
        {name: known[what] for name, what in some.items()}
        for some in (rules.given_variables, rules.own_variables)
    )
    return {
        "PATH": os.pathsep.join([str(Path(sys.executable).parent), os.defpath]),
        "LANG": "C.UTF-8",
        "PYTHONUTF8": "1",
        "HOME": known["home"],
        **_needed_here(known["home"]),
        **given,
        **told,
        **own,
    }
