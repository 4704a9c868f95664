"""A value out of a text by a regular expression with one group."""

from __future__ import annotations

import re

from widetrail.formats.flaws import flaw
from widetrail.formats.interface import Located, NotThere


def matches(expression: str, text: str) -> bool:
    """Return whether the expression matches anywhere in the text."""
    return re.search(expression, text) is not None


def read_text_value(text: str, expression: str) -> list[Located]:
    """Return every match of the expression's one group, with its line.

    Raises:
        NotThere: Nothing matches.
    """
    found = [
        Located(match.group(1), text.count("\n", 0, match.start(1)) + 1)
        for match in re.finditer(expression, text, re.MULTILINE)
    ]
    if not found:
        raise NotThere(f"has nothing that matches {expression}")
    return found


def check_one_group(text: str) -> str:
    """Return an expression that has one group.

    Raises:
        PydanticCustomError: It is not an expression, or has another number of groups.
    """
    try:
        groups = re.compile(text).groups
    except re.error as error:
        raise flaw("expression", f'"{text}" is not a regular expression: {error}') from error
    if groups != 1:
        raise flaw("expression", f"expected one group in the expression; found {groups}")
    return text
