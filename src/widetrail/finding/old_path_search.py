"""What in a file still names paths that nothing may name any more, in whatever form.

Whole paths are looked for, never bare words: plain, with doubled or turned separators, percent-
encoded, with characters escaped as JSON or XML does, in any case where the platform has none.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from functools import lru_cache
from urllib.parse import quote

from widetrail.formats import Unreadable
from widetrail.formats.interface import Platform, Spot
from widetrail.formats.parser_process import ask
from widetrail.formats.texts import decode, unescaped
from widetrail.machine.paths import is_within, split

MOST = 4 * 1024 * 1024
"""Bytes of a file that is looked through, at most; larger ones hold pictures, sounds or records."""

SHOWN = 200
"""Characters of a line that are told, at most."""

_SEPARATOR = r"(?:[\\/]|%2[Ff]|%5[Cc])+"


def remnant_pattern(paths: Sequence[str], platform: Platform) -> str:
    """Return an expression for ``paths``, which are whole and of ``platform``, in any form."""
    told = sorted(dict.fromkeys(paths), key=len)
    outer = [p for n, p in enumerate(told) if not any(is_within(p, o, platform) for o in told[:n])]
    inner = "|".join(map(_path, reversed(outer)))  # what lies in one of them names it too
    return f"(?{'' if platform == 'linux' else 'i'}:(?:{inner})(?![\\w~-]))"


def _path(path: str) -> str:
    anchor, segments = split(path)
    names = ["".join(map(_char, segment)) for segment in segments]
    if path.startswith("//"):  # a share of that machine, which two separators begin
        return rf"(?:(?<![\w.~:-])|(?<=file:))[\\/]{{2,4}}{_SEPARATOR.join(names)}"
    drive = re.fullmatch(r"[A-Za-z]:", anchor)
    begin = f"{anchor[0]}(?::|\\||%3[Aa])" if drive else ""
    return rf"(?<![\w.~-]){begin}{_SEPARATOR}{_SEPARATOR.join(names)}"


@lru_cache(maxsize=1024)
def _char(char: str) -> str:
    forms = [re.escape(char)]
    encoded = quote(char, safe="", errors="surrogateescape")
    if encoded != char:
        forms.append(f"(?i:{encoded})")
    if not char.isascii():
        units = char.encode("utf-16-be", "surrogatepass")
        pairs = (units[n : n + 2].hex() for n in range(0, len(units), 2))
        forms.append("".join(rf"\\u(?i:{pair})" for pair in pairs))
    if char in "&'\"":
        forms.append({"&": "&amp;", "'": "&apos;", '"': "&quot;"}[char])
    return forms[0] if len(forms) == 1 else f"(?:{'|'.join(forms)})"


def find_remnants(data: bytes, pattern: str, copy: str = "") -> Iterator[Spot]:
    """Give each line of a file that ``pattern`` matches, with its number.

    Texts, property lists and databases (``copy`` is a file with the database's bytes) are looked
    through; other files, such as pictures, hold no settings.
    """
    if data.startswith(b"SQLite format 3\0"):
        if copy:
            from widetrail.formats.sqlite import texts_in  # few files are databases

            yield from ask(texts_in, copy, pattern, 100)
        return
    if data.startswith(b"bplist"):
        from widetrail.formats import plist

        yield from in_texts(_texts_of(ask(plist.parse, data)), pattern)
        return
    marked = data.startswith((b"\xff\xfe", b"\xfe\xff"))
    if not marked and b"\0" in data[:8192]:
        return
    try:
        text = decode(data)[0]
    except Unreadable:
        return
    expression = re.compile(pattern)
    escaped = "\\x" in text or "@Variant(" in text or "@ByteArray(" in text
    if not (escaped or expression.search(text)):
        return
    for number, line in enumerate(text.splitlines(), start=1):
        hidden = unescaped(line) if escaped else ()
        if expression.search(line) or any(expression.search(told) for told in hidden):
            yield Spot("", line.strip()[:SHOWN], number)


def in_texts(texts: Iterable[tuple[str, str]], pattern: str) -> Iterator[Spot]:
    """Give each text that ``pattern`` matches, with where it stands."""
    expression = re.compile(pattern)
    for where, text in texts:
        if expression.search(text):
            yield Spot(where, text[:SHOWN])


def _texts_of(value: object, where: str = "") -> Iterator[tuple[str, str]]:
    if isinstance(value, str):
        yield where, value
    elif isinstance(value, dict):
        for name, inner in value.items():
            yield from _texts_of(inner, f"{where}/{name}")
    elif isinstance(value, list):
        for number, inner in enumerate(value):
            yield from _texts_of(inner, f"{where}/{number}")
