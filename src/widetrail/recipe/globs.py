"""The globs of ``take`` and ``leave``: ``*``, ``?``, ``[…]`` within a name, ``**`` over folders.

``x/**`` stands for the folder ``x`` and all that is in it.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from functools import lru_cache

from widetrail.formats.checked import flaw


def check_glob(text: str) -> str:
    """Return ``text`` if it is a sound glob below a place.

    Raises:
        PydanticCustomError: It is empty, absolute, climbs, or uses ``\\``.
    """
    if not text:
        raise flaw("glob", "an empty glob matches nothing")
    if "\\" in text or text.startswith("/") or re.match(r"[A-Za-z]:", text):
        raise flaw("glob", f'"{text}" must lie below the place', "Write it with /, from the place")
    for segment in text.split("/"):
        if segment in ("", ".", ".."):
            raise flaw("glob", f'"{text}" holds an empty, "." or ".." segment')
        if "**" in segment and segment != "**":
            raise flaw("glob", f'"**" must stand alone between / in "{text}"')
    return text


class Globs:
    """A set of globs, matched against paths with ``/`` relative to a place."""

    def __init__(self, patterns: Iterable[str], *, ignore_case: bool) -> None:
        flags = re.IGNORECASE if ignore_case else 0
        self._matches = [re.compile(_expression(p), flags).fullmatch for p in patterns]

    def __call__(self, path: str) -> bool:
        """Return whether any of the globs matches ``path``."""
        return any(match(path) for match in self._matches)


@lru_cache(maxsize=4096)
def _expression(pattern: str) -> str:
    segments = pattern.split("/")
    parts: list[str] = []
    for number, segment in enumerate(segments):
        last = number == len(segments) - 1
        if segment != "**":
            parts.append(segment_expression(segment) + ("" if last else "/"))
        elif last:
            if parts and parts[-1].endswith("/"):
                parts[-1] = parts[-1][:-1]
            parts.append("(?s:/.*)?" if parts else "(?s:.*)")
        elif number == 0 or segments[number - 1] != "**":
            parts.append("(?:[^/]+/)*")
    return "".join(parts)


def segment_expression(segment: str) -> str:
    out, position = [], 0
    while position < len(segment):
        char = segment[position]
        close = segment.find("]", position + 2)
        if char == "*":
            out.append("[^/]*")
        elif char == "?":
            out.append("[^/]")
        elif char == "[" and close != -1:
            inner = segment[position + 1 : close].replace("\\", "\\\\").replace("[", "\\[")
            out.append(f"(?!/)[{'^' + inner[1:] if inner.startswith('!') else inner}]")
            position = close
        else:
            out.append(re.escape(char))
        position += 1
    return "".join(out)
