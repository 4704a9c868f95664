"""The words that this tool itself writes, so that any other can be told from them."""

from __future__ import annotations

import ast
import re
from collections.abc import Iterable, Iterator
from functools import lru_cache
from pathlib import Path

import yaml

import widetrail
from widetrail.machine.own_folders import OWN_STATE
from widetrail.machine.platforms import PLATFORMS
from widetrail.recipe import Loaded
from widetrail.steps.run_storage import OWN, PURPOSES

_SAMPLES = ("scaffold.py", "testing", "demo.py")
"""Files and folders of the package in which names of made-up people stand."""


@lru_cache(maxsize=1)
def own_words() -> frozenset[str]:
    """Return every word in the texts of this package, without capitals."""
    top = Path(widetrail.__file__).parent
    words = set[str]()
    for path in sorted(top.rglob("*.py")):
        if not set(_SAMPLES) & {path.name, *path.relative_to(top).parts}:
            for text in _texts(ast.parse(path.read_text(encoding="utf-8"))):
                words.update(word.casefold() for word in re.findall(r"\w+", text))
    return frozenset(words)


def _texts(tree: ast.Module) -> Iterator[str]:
    """Give the texts and names of fields of a module, without its docstrings."""
    told = {
        id(node.value) for node in ast.walk(tree) if isinstance(node, ast.Expr)
    }  # docstrings stand alone
    for node in ast.walk(tree):
        if isinstance(node, ast.Constant) and isinstance(node.value, str) and id(node) not in told:
            yield node.value
        elif isinstance(node, ast.AnnAssign) and isinstance(node.target, ast.Name):
            yield node.target.id


def public_names(recipes: Iterable[Loaded]) -> frozenset[str]:
    """Return the names that recipes and systems have by themselves: parts of their paths, and the
    words of their texts."""
    found = {OWN_STATE, OWN, *PURPOSES}
    for loaded in recipes:
        found.update(f"{loaded.id}.{name}" for name in loaded.recipe.listed)
        for text in _scalars(loaded.text):
            for part in re.split(r"[\\/]", text):
                found.update((part, *re.findall(r"\w+", part), *re.findall(r"[\w.\-]+", part)))
    for rules in PLATFORMS.values():
        system = rules.sample.system
        home = rules.home(system, "")
        for path in (home, *rules.roots(system, home).values()):
            found.update(part for part in re.split(r"[\\/]", path) if part)
    return frozenset(one for one in found if one)


def _scalars(text: str) -> Iterator[str]:
    waiting: list[yaml.Node | None] = [yaml.compose(text, Loader=yaml.CSafeLoader)]
    while waiting:
        node = waiting.pop()
        if isinstance(node, yaml.ScalarNode):
            yield str(node.value)
        elif isinstance(node, yaml.MappingNode):
            waiting.extend(part for pair in node.value for part in pair)
        elif isinstance(node, yaml.SequenceNode):
            waiting.extend(node.value)
