"""A stand-in that is open: its lock lies there, with its process, until it is told to end."""

from __future__ import annotations

import os
import signal
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path


@contextmanager
def held_open(lock: Path) -> Iterator[None]:
    """Be open: whoever finds the lock may tell this process to end, which takes the lock away."""
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
    lock.parent.mkdir(parents=True, exist_ok=True)
    try:
        lock.write_text(str(os.getpid()))
        yield
    finally:
        lock.unlink()


def tell_to_end(lock: Path) -> None:
    """Ask whoever holds a lock to end, if there is one."""
    if lock.exists():
        os.kill(int(lock.read_text()), signal.SIGTERM)
