"""Lists in the values of a file: the texts that stand in them, and their addresses."""

from __future__ import annotations

import plistlib
import re
from collections.abc import Iterator

from widetrail.formats import Unreadable
from widetrail.formats.forms import FORMS
from widetrail.formats.parser_process import ask
from widetrail.formats.trees import pointer_to
from widetrail.formats.xml import repeated_texts

_ENTRY = re.compile(r"(.*)/\d+/([^/]+)")
_XML_ENTRY = re.compile(r"\[\d+\]")


def inner_texts(form: str, data: bytes) -> dict[str, str]:
    """Return the texts that stand in lists of a file, each by its address; none of a form that has
    no lists, or of a file that cannot be read."""
    try:
        if form == "xml":
            return ask(repeated_texts, data)
        value = FORMS[form].value if form in FORMS else None
        return dict(_texts(ask(value, data, ""), "")) if value is not None else {}
    except Unreadable:
        return {}


def _texts(value: object, at: str, *, inside: bool = False) -> Iterator[tuple[str, str]]:
    if isinstance(value, str) and inside:
        yield at, value
    elif isinstance(value, list):
        for number, inner in enumerate(value):
            yield from _texts(inner, f"{at}/{number}", inside=True)
    elif isinstance(value, dict):
        for name, inner in value.items():
            yield from _texts(inner, pointer_to(at, name), inside=inside)


def any_entry(form: str, at: str) -> str:
    """Return an address that leads to the same in every entry of the lists on its way."""
    if form == "xml":
        return _XML_ENTRY.sub("", at)
    return "/".join("*" if name.isdecimal() else name for name in at.split("/"))


def entry_of(at: str) -> tuple[str, str] | None:
    """Return the address of the list and the key in an entry of it, of a value that stands in one
    and is reached by a pointer."""
    match = _ENTRY.fullmatch(at)
    return (match[1], match[2]) if match is not None else None


def empty_list(form: str) -> str:
    """Return a list without entries as a form has it."""
    return plistlib.dumps({"value": []}).decode() if form == "plist" else "[]"
