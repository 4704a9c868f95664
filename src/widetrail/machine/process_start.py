"""A program as it is started, and what it may use."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from pathlib import Path

from widetrail.lazily import dataclass


@dataclass(frozen=True)
class Limits:
    """How many processes a program may have with those it starts, and bytes of memory in all."""

    processes: int
    memory: int


@dataclass(frozen=True)
class Start:
    """A program as it is started: its command, whole environment and folder, and what it is called
    where it is told.

    ``handles`` are open files that it is given, ``left`` tells what it left running where that ends
    with it, and ``limits`` is what it may use.
    """

    command: Sequence[str]
    env: Mapping[str, str]
    folder: Path
    shown: str
    handles: tuple[int, ...] = ()
    left: Callable[[], tuple[str, ...]] | None = None
    limits: Limits | None = None
