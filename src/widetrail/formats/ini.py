"""Ini files: ``[section]``, ``key = value``, comments with ``;`` or ``#``.

There is no standard; this follows what the profile functions of Windows and most toolkits
accept: sections and keys are compared without case, white space around them does not count, a
value in double quotes is taken without them, the first of two equal keys counts.
"""

from __future__ import annotations

from fnmatch import fnmatchcase

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
                return Located(unquoted(value.strip()), number)
    missing = f'has no key "{key}" in [{section}]' if seen else f"has no section [{section}]"
    raise NotThere(missing)


def ini_sections(data: bytes, pattern: str) -> list[dict[str, str]]:
    """Return each section whose name matches the glob ``pattern``, as its keys and values.

    Keys are in small letters; the name of the section stands under ``[]``.
    """
    found: list[dict[str, str]] = []
    current: dict[str, str] | None = None
    for line in decode(data)[0].splitlines():
        text = line.strip()
        if text.startswith("[") and "]" in text:
            name = text[1 : text.index("]")].strip()
            current = {"[]": name} if fnmatchcase(name.casefold(), pattern.casefold()) else None
            if current is not None:
                found.append(current)
        elif current is not None and text and text[0] not in ";#" and "=" in text:
            key, _, value = text.partition("=")
            current.setdefault(key.strip().casefold(), unquoted(value.strip()))
    return found


def _same(one: str, other: str) -> bool:
    return one.casefold() == other.casefold()


def unquoted(value: str) -> str:
    """Return a value without the double quotes around it, if it has both."""
    if len(value) > 1 and value[0] == value[-1] == '"':
        return value[1:-1]
    return value
