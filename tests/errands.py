"""Acts for the tests of many machines: what may go wrong with an errand, as workers import it."""

from __future__ import annotations

import os
import time
from contextlib import suppress
from pathlib import Path


def half(value: int) -> int:
    """Half a number, slowly enough that several are on their way at a time."""
    time.sleep(0.05)
    return value // 2


def deadly(value: int) -> int:
    """Half a number; the worker dies of 7."""
    if value == 7:
        time.sleep(0.3)
        os._exit(9)
    return half(value)


def endless(value: int) -> int:
    """Half a number; of 7 the worker hangs."""
    if value == 7:
        time.sleep(3600)
    return half(value)


def hungry(value: int) -> int:
    """Half a number; of 7 the worker runs out of memory."""
    if value == 7:
        kept = [bytes([number]) * 50_000_000 for number in range(20)]
        time.sleep(60)
        return len(kept)
    return half(value)


def filling(value: tuple[str, int]) -> int:
    """Half a number; on the way a folder of this computer is as full as can be for a while."""
    folder, number = value
    with suppress(OSError), Path(folder, str(os.getpid())).open("wb") as file:
        while True:
            file.write(bytes(65536))
            file.flush()
    time.sleep(0.2)
    Path(folder, str(os.getpid())).unlink()
    return half(number)


def noted(value: tuple[str, int]) -> int:
    """Add a line to a file of this computer, which workers in a test share."""
    file, number = value
    with Path(file).open("a") as lines:
        lines.write(f"{number}\n")
    return half(number)
