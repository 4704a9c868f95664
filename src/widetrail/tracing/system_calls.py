"""What a program asks the system for, as ``strace`` tells it (Linux).

Sources: strace(1), and the manual pages of the calls that take a path.
"""

from __future__ import annotations

import codecs
import posixpath
import re
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from dataclasses import field, replace
from functools import cache
from pathlib import Path

from widetrail.lazily import dataclass
from widetrail.machine import Effects
from widetrail.machine.effects import Writing
from widetrail.machine.process_start import Start
from widetrail.machine.processes import Began, Ran

PROGRAM = "strace"

CALLS_MOST = 2_000_000
"""Calls that are looked at of one run; what a program asks for beyond is not seen, and told."""

_OPTIONS = ("-ff", "-qqq", "-y", "--seccomp-bpf", "-s", "1", "-e", "trace=%file,chdir")

_CALL = re.compile(rb"(\w+)\((.*)\)\s+= (-?\d+|\?)(?: (E\w+))?")
_WORD = re.compile(rb'(?:(AT_FDCWD|\d+)(?:<((?:[^>\\]|\\.)*)>)?, )?"((?:[^"\\]|\\.)*)"')


@dataclass
class Calls:
    """The paths that a program asked for, as the system has them: each with what was done to it.

    ``started`` are the programs it became, ``more`` tells that it did more than was looked at.
    """

    opened: set[str] = field(default_factory=set)
    listed: set[str] = field(default_factory=set)
    written: set[str] = field(default_factory=set)
    made: set[str] = field(default_factory=set)
    removed: set[str] = field(default_factory=set)
    missed: set[str] = field(default_factory=set)
    looked: set[str] = field(default_factory=set)
    started: list[str] = field(default_factory=list)
    more: bool = False


@cache
def why_not() -> str:
    """Return why system calls cannot be watched here; an empty text where they can."""
    if not sys.platform.startswith("linux"):
        return "this system is not Linux"
    found = shutil.which(PROGRAM)
    if found is None:
        return "strace is not installed"
    with tempfile.TemporaryDirectory(prefix="widetrail-") as folder:
        command = [found, *_OPTIONS, "-o", f"{folder}/calls", "--", "/bin/sh", "-c", ":"]
        done = subprocess.run(command, capture_output=True, text=True, timeout=20, check=False)
    return "" if done.returncode == 0 else f"strace does not work here: {done.stderr.strip()}"


class WatchingEffects(Effects):
    """Effects whose programs are run with their calls watched; ``calls`` are those of the last."""

    def __init__(self) -> None:
        super().__init__()
        self.calls = Calls()

    def run(
        self,
        start: Start,
        *,
        seconds: float,
        stdin: bytes = b"",
        output: Writing | None = None,
        began: Began | None = None,
    ) -> Ran:
        with tempfile.TemporaryDirectory(prefix="widetrail-") as folder:
            files = Path(folder) / "calls"
            watched = [shutil.which(PROGRAM) or PROGRAM, *_OPTIONS, "-o", str(files), "--"]
            try:
                return super().run(
                    replace(start, command=[*watched, *start.command]),
                    seconds=seconds,
                    stdin=stdin,
                    output=output,
                    began=began,
                )
            finally:
                self.calls = _read_calls(Path(folder), str(start.folder))


def _read_calls(folder: Path, begun_in: str) -> Calls:
    """Read what ``strace -ff`` wrote into ``folder``, one file for each process."""
    calls, seen = Calls(), 0
    for path in sorted(folder.iterdir()):
        with path.open("rb") as lines:
            here = begun_in
            for line in lines:
                seen += 1
                if seen > CALLS_MOST:
                    calls.more = True
                    return calls
                here = _take(line, here, calls)
    return calls


def _take(line: bytes, here: str, calls: Calls) -> str:
    """Take one line in; return the folder that the process is in afterwards."""
    match = _CALL.match(line)
    if match is None:
        return here
    name, told, error = match[1].decode(), match[2], match[4]
    paths = list(_paths(told, here))
    if not paths:
        return here
    if error is not None:
        if error in (b"ENOENT", b"ENOTDIR"):
            calls.missed.add(paths[0])
        return here
    if name in ("open", "openat", "openat2", "creat"):
        _opened(paths[0], told, name, calls)
    elif name in ("execve", "execveat"):
        calls.started.append(paths[0])
    elif name == "chdir":
        return paths[0]
    elif name.startswith(("mkdir", "mknod")):
        calls.made.add(paths[0])
    elif name.startswith(("unlink", "rmdir")):
        calls.removed.add(paths[0])
    elif name.startswith("rename"):
        calls.removed.add(paths[0])
        calls.made.update(paths[1:])
    elif name.startswith(("link", "symlink")):
        calls.made.add(paths[-1])
    elif name.startswith(("truncate", "chmod", "fchmodat", "utime", "setxattr")):
        calls.written.add(paths[0])
    else:
        calls.looked.add(paths[0])
    return here


def _opened(path: str, told: bytes, name: str, calls: Calls) -> None:
    if b"O_DIRECTORY" in told:
        calls.listed.add(path)
    elif name == "creat" or b"O_CREAT" in told:
        calls.made.add(path)
    elif b"O_WRONLY" in told or b"O_RDWR" in told:
        calls.written.add(path)
    else:
        calls.opened.add(path)


def _paths(told: bytes, here: str) -> Iterator[str]:
    """Give the paths of a call in their order, whole."""
    for match in _WORD.finditer(told):
        text = _text(match[3])
        if text.startswith("/"):
            yield posixpath.normpath(text)
        elif text:
            base = _text(match[2]) if match[2] is not None else here
            yield posixpath.normpath(posixpath.join(base, text))


def _text(escaped: bytes) -> str:
    return codecs.escape_decode(escaped)[0].decode("utf-8", "surrogateescape")
