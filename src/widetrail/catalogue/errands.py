"""An errand: one value of a batch, done on another machine as if it were done here.

What it takes is laid out below a folder of the worker at the very paths that it has where it comes
from, and that folder is taken out of all texts that come back: so the outcome is the same as at
home. A rehearsal has the process for itself, since it is told by the environment where programs
are.
"""

from __future__ import annotations

import dataclasses
import errno
import os
import shutil
import sys
import threading
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from widetrail.catalogue.errand_inputs import lay_out
from widetrail.errors import WideTrailError
from widetrail.lazily import dataclass
from widetrail.rehearsing.batch import Job
from widetrail.rehearsing.stage import fast_folder

LITTLE = 8 * 1024 * 1024
"""Free bytes below which a worker is not fit for an errand: what it tells may come of that."""

_LOOK = 0.05
"""Seconds between two looks at how much is free."""


@dataclass(frozen=True)
class Errand:
    """What is to be done with a value, and where that comes from.

    ``files`` are the paths of what it takes with their digests, ``session`` is whose errands share
    them. ``engine`` tells which Wide Trail it wants, and after ``longest`` seconds the worker that
    does it is given up.
    """

    act: Callable[[Any], Any]
    value: Any
    files: tuple[tuple[str, str], ...]
    cwd: str
    session: str
    engine: str
    longest: float


@dataclass(frozen=True)
class Unfit:
    """A worker cannot do errands, and why; another one may."""

    why: str
    is_other_version: bool = False


_ALONE = threading.Lock()
_LAID: dict[Path, str] = {}
"""What was laid out in this process, with its digest."""


def do_errand(
    errand: Errand, inputs: Sequence[bytes], scratch: Path, engine: str, give_up: Callable[[], None]
) -> Any:
    """Do an errand with what it takes, below a folder of one's own; return what it came to.

    ``engine`` tells which Wide Trail is here; ``give_up`` is called where it takes too long.
    """
    if errand.engine != engine:
        return Unfit("it has another version of Wide Trail", is_other_version=True)
    top = scratch.resolve() / errand.session
    value = _moved(errand.value, lambda path: _below(top, str(path)))
    with _ALONE:
        try:
            _lay_out_all(errand, inputs, top)
        except OSError as error:
            if error.errno in _FULL:
                return Unfit("its disk is full")
            raise
        with (
            _looking_for_room(scratch) as full,
            _at(_below(top, errand.cwd)),
            _bounded(errand.longest, give_up),
        ):
            result = errand.act(value) if not full else None
    return Unfit(full[0]) if full else _home_again(result, str(top))


_FULL = (errno.ENOSPC, errno.EDQUOT)


def _lay_out_all(errand: Errand, inputs: Sequence[bytes], top: Path) -> None:
    for (path, known_by), data in zip(errand.files, inputs, strict=True):
        at = _below(top, path)
        if _LAID.get(at) == known_by:
            continue
        if at.is_dir():
            shutil.rmtree(at)  # of another worker's process, or it was changed since
        at.unlink(missing_ok=True)
        lay_out(data, at)
        _LAID[at] = known_by
    _below(top, errand.cwd).mkdir(parents=True, exist_ok=True)


def end_session(scratch: Path, session: str) -> None:
    """Remove what was laid out for a session."""
    top = scratch.resolve() / session
    shutil.rmtree(top, ignore_errors=True)
    for path in [path for path in _LAID if path.is_relative_to(top)]:
        del _LAID[path]


def _below(top: Path, path: str) -> Path:
    return top / Path(path).relative_to("/")


@contextmanager
def _looking_for_room(scratch: Path) -> Iterator[list[str]]:
    """Lend a list that holds why a worker is not fit, once there was too little room at any time:
    what is made on the way is gone in the end."""
    folders = dict.fromkeys((scratch, Path(fast_folder() or scratch)))
    found: list[str] = []
    over = threading.Event()

    def look() -> None:
        for folder in folders:
            if not found and shutil.disk_usage(folder).free < LITTLE:
                found.append(f"its disk is full at {folder}")

    def watch() -> None:
        while not over.wait(_LOOK):
            look()

    look()
    watcher = threading.Thread(target=watch, daemon=True)
    watcher.start()
    try:
        yield found
    finally:
        over.set()
        watcher.join()


@contextmanager
def _at(folder: Path) -> Iterator[None]:
    before = Path.cwd()
    os.chdir(folder)
    try:
        yield
    finally:
        os.chdir(before)


@contextmanager
def _bounded(seconds: float, give_up: Callable[[], None]) -> Iterator[None]:
    timer = threading.Timer(seconds, give_up)
    timer.daemon = True
    timer.start()
    try:
        yield
    finally:
        timer.cancel()


# Paths, there and back


def _moved(value: Any, to: Callable[[Path], Path]) -> Any:
    """Return a value with each whole path in it led elsewhere."""
    return _with(value, lambda one: to(one) if isinstance(one, Path) and one.is_absolute() else one)


def _home_again(value: Any, top: str) -> Any:
    """Return a value whose texts and paths do not name the folder they were made below."""

    def home(one: Any) -> Any:
        if isinstance(one, str):
            return one.replace(top, "")
        return Path(str(one).replace(top, "")) if isinstance(one, Path) else one

    return _with(value, home)


def _with(value: Any, change: Callable[[Any], Any]) -> Any:
    """Return a value with each part of it changed: of lists, mappings and objects."""
    if isinstance(value, WideTrailError):
        kept = {name: _with(one, change) for name, one in vars(value).items()}
        value.__dict__.update(kept)
        value.args = tuple(_with(one, change) for one in value.args)
        return value
    if dataclasses.is_dataclass(value) and not isinstance(value, type):
        told = {
            field.name: _with(getattr(value, field.name), change)
            for field in dataclasses.fields(value)
            if field.init
        }
        return dataclasses.replace(value, **told)
    if isinstance(value, tuple):
        parts = [_with(one, change) for one in value]
        return type(value)(*parts) if hasattr(value, "_fields") else tuple(parts)
    if isinstance(value, list | frozenset | set):
        return type(value)(_with(one, change) for one in value)
    if isinstance(value, Mapping) and type(value) is dict:
        return {_with(k, change): _with(one, change) for k, one in value.items()}
    return change(value)


def jobs_in(value: Any) -> Iterator[Job]:
    """Give the jobs that a value holds."""
    if isinstance(value, Job):
        yield value
    elif isinstance(value, tuple):
        for one in value:
            yield from jobs_in(one)


def python_here() -> str:
    """Return which Python this is, as far as outcomes depend on it."""
    return f"{sys.implementation.name} {sys.version_info.major}.{sys.version_info.minor}"
