"""The globs of ``take`` and ``leave``: ``*``, ``?``, ``[…]`` within a name, ``**`` over folders.

``x/**`` stands for the folder ``x`` and all that is in it.
"""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterable
from functools import lru_cache

from widetrail.formats.flaws import flaw


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
    """A set of globs, matched against paths with ``/`` relative to a place.

    Matching takes time in proportion to the length of the path times that of the globs, whatever
    they are.
    """

    def __init__(self, patterns: Iterable[str], *, ignore_case: bool) -> None:
        self._fold = fold if ignore_case else str
        self._matches = [re.compile(_expression(self._fold(p))).fullmatch for p in patterns]

    def __call__(self, path: str) -> bool:
        """Return whether any of the globs matches ``path``."""
        path = self._fold(path)
        return any(match(path) for match in self._matches)


def fold(name: str) -> str:
    """Return what all spellings have in common that a volume takes for one name, where it does."""
    return name.casefold() if name.isascii() else unicodedata.normalize("NFC", name).casefold()


def _segments_of(pattern: str) -> list[str]:
    """Return the segments of a glob; several ``**`` one after the other say what one does."""
    segments = pattern.split("/")
    return [s for n, s in enumerate(segments) if s != "**" or n == 0 or segments[n - 1] != "**"]


@lru_cache(maxsize=4096)
def _expression(pattern: str) -> str:
    """Return the expression of a glob.

    What stands between two ``**`` matches where it does so first, which is never worse: so nothing
    is tried twice.
    """
    groups: list[list[str]] = [[]]
    for segment in _segments_of(pattern):
        if segment == "**":
            groups.append([])
        else:
            groups[-1].append(segment_expression(segment))
    first, *rest = groups
    if not rest:
        return "/".join(first)
    *middle, last = rest
    begin = "".join(f"{segment}/" for segment in first)
    inner = "".join(f"(?>{_DOWN}*?{''.join(f'{s}/' for s in group)})" for group in middle)
    if last:
        return f"{begin}{inner}{_DOWN}*{'/'.join(last)}"
    if not middle:  # "x/**" stands for x too
        return f"{'/'.join(first)}(?s:/.*)?" if first else "(?s:.+)"
    *middle, above = middle
    inner = "".join(f"(?>{_DOWN}*?{''.join(f'{s}/' for s in group)})" for group in middle)
    return f"{begin}{inner}(?>{_DOWN}*?{'/'.join(above)}(?![^/]))(?s:/.*)?"


_DOWN = "(?:[^/]+/)"
"""A folder and what parts it from what is in it."""


def segment_expression(segment: str) -> str:
    """Return the expression of one name with ``*``, ``?`` and ``[…]``; each piece between two ``*``
    matches where it does so first."""
    pieces = [""]
    position = 0
    while position < len(segment):
        char = segment[position]
        close = segment.find("]", position + 2)
        if char == "*":
            pieces.append("")
        elif char == "?":
            pieces[-1] += "[^/]"
        elif char == "[" and close != -1:
            inner = segment[position + 1 : close].replace("\\", "\\\\").replace("[", "\\[")
            pieces[-1] += f"(?!/)[{'^' + inner[1:] if inner.startswith('!') else inner}]"
            position = close
        else:
            pieces[-1] += re.escape(char)
        position += 1
    first, *rest = pieces
    if not rest:
        return first
    middle = "".join(f"(?>[^/]*?{piece})" for piece in rest[:-1] if piece)
    return f"{first}{middle}[^/]*{rest[-1]}"
