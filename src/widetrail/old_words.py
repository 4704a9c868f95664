"""Words of the recipe language that were replaced, so that a finding can name the new one."""

from __future__ import annotations

from collections.abc import Container, Mapping

NEW_WORDS: Mapping[str, str] = {
    "arm": "branch",
    "at least": "at_least",
    "await": "wait",
    "ended_by": "finally",
    "holds": "contains",
    "on": "at_the_end",
    "overwrite": "replace",
    "pass by": "skip",
    "passed_over": "rejected",
    "put aside": "back up",
    "put_aside": "backed_up",
    "stop": "refuse",
    "tells": "prints",
    "told_by": "set_in",
    "undone_by": "undo",
    "uses": "relies_on",
    "with": "set",
}
"""The new word, for a key or value, by the old one."""

COVERS_OLD = "covers old"
"""What a condition said that is written ``{at_least: old}`` now."""

SPELLINGS: Mapping[str, str] = {"recognize": "recognise", "license": "licence"}
"""American spellings that a recipe may use, with a warning; keys and kinds of items."""


def renamed(word: str, known: Container[str]) -> str:
    """Return a hint that names the new word for ``word``; an empty text if it is not an old one."""
    new = NEW_WORDS.get(word, "")
    return f'It is written "{new}" now' if new and new in known else ""
