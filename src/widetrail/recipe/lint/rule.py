"""A lint rule: what one finding is, and what finds it."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Literal, NamedTuple

from widetrail.formats.documents import Where
from widetrail.lazily import dataclass
from widetrail.recipe.lint.whole import Whole


class Struck(NamedTuple):
    """Where a rule struck: its code, the keys that lead there, what is wrong, a hint, how grave."""

    code: str
    where: Where
    message: str
    hint: str = ""
    severity: Literal["error", "warning"] = "error"


@dataclass(frozen=True)
class LintRule:
    """One rule. ``find`` gives where a recipe, sound in its parts, is against it.

    ``of_absence``: it finds what is missing elsewhere, which nobody can say while parts are broken.
    """

    find: Callable[[Whole], Iterator[Struck]]
    of_absence: bool = False
