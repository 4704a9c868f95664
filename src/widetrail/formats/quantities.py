"""Sizes as people write them."""

from __future__ import annotations

import re

from widetrail.formats.flaws import flaw

_UNITS = {"B": 1, "KIB": 2**10, "MIB": 2**20, "GIB": 2**30, "TIB": 2**40}


def parse_size(text: object) -> int:
    """Return the bytes of a size such as ``2 GiB`` or ``512 B``.

    Raises:
        PydanticCustomError: It is not a number with a unit.
    """
    if not isinstance(text, str):
        raise flaw("size", "expected a size such as 2 GiB")
    match = re.fullmatch(r"(\d{1,15}(?:\.\d{1,6})?)\s*([KMGT]iB|B)", text.strip(), re.IGNORECASE)
    if match is None:
        hint = "Write a number and B, KiB, MiB, GiB or TiB"
        raise flaw("size", f'"{text}" is not a size', hint)
    return int(float(match.group(1)) * _UNITS[match.group(2).upper()])


def show_count(count: int, what: str) -> str:
    """Return a number of things for people; ``what`` is one of them."""
    if count == 1:
        return f"1 {what}"
    if what.endswith("y") and what[-2] not in "aeou":
        return f"{count:,} {what[:-1]}ies"
    return f"{count:,} {what}{'es' if what.endswith(('s', 'x', 'ch', 'sh')) else 's'}"


def show_files(count: int) -> str:
    """Return a number of files for people."""
    return show_count(count, "file")


def show_size(size: int) -> str:
    """Return ``size`` bytes for people: three digits or so, and a unit."""
    amount, unit = float(size), "B"
    for unit in ("B", "KiB", "MiB", "GiB", "TiB"):
        if amount < 1000 or unit == "TiB":
            break
        amount /= 1024
    return f"{size} B" if unit == "B" else f"{amount:.1f} {unit}"


def show_duration(seconds: float) -> str:
    """Return how long something takes: ``40 s``, ``12 min``, ``2 h 5 min``."""
    whole = round(seconds)
    if whole < 100:
        return f"{whole} s"
    minutes = round(whole / 60)
    hours, rest = divmod(minutes, 60)
    return f"{hours} h {rest} min" if hours else f"{minutes} min"


def show_time(moment: str) -> str:
    """Return a time of the logbook (ISO 8601, UTC) for people; an empty one was not yet."""
    return f"{moment[:10]} {moment[11:16]} UTC" if moment else "not walked yet"
