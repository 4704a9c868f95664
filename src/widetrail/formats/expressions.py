"""A value out of a text by a regular expression with one group."""

from __future__ import annotations

import re

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
