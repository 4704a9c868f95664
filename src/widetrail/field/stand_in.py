"""A program of a rebuilt machine: it ends as the real one did in the field.

It is started with the file that says how, and then with what the real one was started with. It
makes the files that the real one made, of their sizes and with nothing in them.
"""

from __future__ import annotations

import json
import os
import re
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from widetrail.field.calls_told import Call


def play(calls: Sequence[Call], given: Sequence[str]) -> int:
    """Do what the call did that was given these arguments; one that is not known does nothing.

    Raises:
        ValueError: It made something that would not lie on this machine.
    """
    alike = [call for call in calls if len(call["arguments"]) == len(given)]
    for is_so in (_is, _is_called_otherwise):
        for call in alike:
            if all(map(is_so, call["arguments"], given)):
                return _do(call, given)
    return 0


def _do(call: Call, given: Sequence[str]) -> int:
    for folder in call.get("folders", ()):
        _here(folder).mkdir(parents=True, exist_ok=True)
    for number, text in call.get("makes", {}).items():
        path = _here(given[int(number)])
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text, encoding="utf-8")
    sys.stdout.writelines(f"{line}\n" for line in call.get("prints", ()))
    if call["status"]:
        sys.stderr.write("it ends as it did in the field\n")
    return call["status"]


def _here(path: str) -> Path:
    """Return where a path of the machine lies here: its disks are in the environment.

    Raises:
        ValueError: It lies on none of them.
    """
    disks: dict[str, str] = json.loads(os.environ.get("FOLDER_MACHINE_DISKS", "{}"))
    for mount in sorted(disks, key=len, reverse=True):
        if path.startswith(mount) and ".." not in path.split("/"):
            return Path(disks[mount], path[len(mount) :].lstrip("/"))
    raise ValueError(f"{path} is not on this machine")


def _is(told: str, given: str) -> bool:
    parts = re.split(r"\{[^}]*\}", told)
    return re.fullmatch(".*".join(map(re.escape, parts)), given, re.DOTALL) is not None


def _is_called_otherwise(told: str, given: str) -> bool:
    """Return whether an argument is the same, but for how a file is called that travels: a recipe
    may call it by the day, or by a name in which another one was made up."""
    return told.startswith("{parcel}/") or _is(told, given)


if __name__ == "__main__":
    path, *arguments = sys.argv[1:]
    sys.exit(play(json.loads(Path(path).read_text(encoding="utf-8")), arguments))
