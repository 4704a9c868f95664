"""Recipes of an older version of the language, brought up to this one; comments and layout stay.

Version 0 is the language as it was before its words were settled: it had other words for some keys
and values (``old_words``). A word is replaced only where the language has no such word any more and
has the new one, so that a name of a person's that looks like an old word stays.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from typing import NamedTuple

import yaml

from widetrail.findings import Finding
from widetrail.formats.documents import check
from widetrail.lazily import dataclass
from widetrail.old_words import COVERS_OLD, NEW_WORDS
from widetrail.recipe.models import Recipe
from widetrail.recipe.routes import Notation
from widetrail.recipe.settings import Settings

CURRENT_LANGUAGE = "1"
"""The version of the language that this release reads and writes."""

OLDER_LANGUAGES = ("0",)
"""The versions that are brought up."""

_MOST = 400
"""Words of one recipe that are replaced, at most."""

_VERSION = re.compile(r"""^(recipe:[ \t]*)(["']?)([^\s#"']+)\2(?=[ \t]*(#.*)?\r?$)""", re.MULTILINE)


@dataclass(frozen=True)
class Upgraded:
    """A recipe as it was and as it is in this version of the language, by its file."""

    file: str
    before: str
    after: str


def is_older(text: str) -> bool:
    """Return whether a recipe says that it is of an older version of the language."""
    found = _VERSION.search(text)
    return found is not None and found[3] in OLDER_LANGUAGES


def upgraded(text: str, kinds: Mapping[str, type[Settings]]) -> str:
    """Return the text of a recipe in this version of the language; ``kinds`` are the step kinds
    with the models of their settings."""
    if is_older(text):
        text = _VERSION.sub(rf"\g<1>{CURRENT_LANGUAGE}", text, count=1)
    refused = set[tuple[int, str]]()
    for _ in range(_MOST):
        changes = _changes(text, kinds)
        change = next((one for one in changes if (one.start, one.new) not in refused), None)
        if change is None:
            break
        changed = f"{text[: change.start]}{change.new}{text[change.end :]}"
        if change.finding in {_known_by(one) for one in _findings(changed, kinds)}:
            refused.add((change.start, change.new))
        else:
            text = changed
    return text


class _Change(NamedTuple):
    """An old word at a place in a text, the new one, and by what its finding is known."""

    start: int
    end: int
    new: str
    finding: tuple[int, int, str]


def _findings(text: str, kinds: Mapping[str, type[Settings]]) -> tuple[Finding, ...]:
    return check(Recipe, text, "", Notation(kinds))[2]


def _known_by(finding: Finding) -> tuple[int, int, str]:
    return finding.line, finding.column, finding.rule


def _changes(text: str, kinds: Mapping[str, type[Settings]]) -> Iterator[_Change]:
    """Give the old words that stand where something is found wrong: at it, or as its value."""
    spots = {(f.line - 1, f.column - 1): _known_by(f) for f in _findings(text, kinds)}
    for key, value in _scalars(text):
        for node in (key, value):
            word = NEW_WORDS.get(node.value)
            new = word if word is not None else _AT_LEAST if node.value == COVERS_OLD else None
            for at in (node, key) if new is not None else ():
                found = spots.get((at.start_mark.line, at.start_mark.column))
                if found is not None and new is not None:
                    yield _Change(node.start_mark.index, node.end_mark.index, new, found)


_AT_LEAST = "{at_least: old}"


def _scalars(text: str) -> Iterator[tuple[yaml.ScalarNode, yaml.ScalarNode]]:
    """Give each word of a text with the key that it is the value of, or with itself."""
    try:
        waiting: list[yaml.Node | None] = [yaml.compose(text, Loader=yaml.CSafeLoader)]
    except yaml.YAMLError:
        return
    while waiting:
        node = waiting.pop(0)
        if isinstance(node, yaml.MappingNode):
            for key, value in node.value:
                if isinstance(key, yaml.ScalarNode):
                    yield key, value if isinstance(value, yaml.ScalarNode) else key
                waiting.append(value)
        elif isinstance(node, yaml.SequenceNode):
            yield from ((one, one) for one in node.value if isinstance(one, yaml.ScalarNode))
            waiting.extend(node.value)
