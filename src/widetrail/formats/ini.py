"""Ini files: ``[section]``, ``key = value``, comments with ``;`` or ``#``.

There is no standard; this follows what the profile functions of Windows and most toolkits
accept: sections and keys are compared without case, white space around them does not count, a
value in double quotes is taken without them, the first of two equal keys counts.
"""

from __future__ import annotations

from widetrail.formats.interface import Located, NotThere
from widetrail.formats.texts import decode


def read_ini(data: bytes, at: str) -> Located:
    """Return the value at ``section/key`` (``key`` alone: before the first section).

    Raises:
        NotThere: There is no such section or key.
    """
    section, _, key = at.rpartition("/")
    current, seen = "", not section
    for number, line in enumerate(decode(data)[0].splitlines(), start=1):
        text = line.strip()
        if text.startswith("[") and "]" in text:
            current = text[1 : text.index("]")].strip()
            seen = seen or _same(current, section)
        elif text and text[0] not in ";#" and "=" in text and _same(current, section):
            name, _, value = text.partition("=")
            if _same(name.strip(), key):
                return Located(_unquoted(value.strip()), number)
    missing = f'has no key "{key}" in [{section}]' if seen else f"has no section [{section}]"
    raise NotThere(missing)


def _same(one: str, other: str) -> bool:
    return one.casefold() == other.casefold()


def _unquoted(value: str) -> str:
    if len(value) > 1 and value[0] == value[-1] == '"':
        return value[1:-1]
    return value
