"""What a rehearsal came to."""

from __future__ import annotations

from pathlib import Path

from widetrail.lazily import dataclass
from widetrail.recipe.decisions import Decision
from widetrail.rehearsing.expectations import (
    Difference,
)


@dataclass(frozen=True)
class Rehearsed:
    """A rehearsal that was run: its differences, and what the program printed on both sides.

    ``seconds`` is how long it took, ``branches`` what it reached of its recipes, ``moved`` whether
    a plan was made, ``changed`` what was another on new then (``user``, ``drive``, ``platform``),
    ``kept`` where its machines lie now.
    """

    file: str
    title: str
    differences: tuple[Difference, ...]
    old_screen: str = ""
    new_screen: str = ""
    case: str = ""
    recipes: tuple[str, ...] = ()
    seconds: float = 0.0
    branches: frozenset[Decision] = frozenset()
    changed: tuple[str, ...] = ()
    moved: bool = False
    kept: str = ""

    @property
    def passed(self) -> bool:
        """Whether everything was as expected."""
        return not self.differences

    @property
    def short(self) -> str:
        """The name of its file, with its case in brackets."""
        name = Path(self.file).name
        return f"{name}[{self.case}]" if self.case else name

    @property
    def told(self) -> str:
        """Its differences as a text, a few lines each."""
        lines = [self.title]
        for one in self.differences:
            where = f" ({one.where})" if one.where else ""
            lines += [
                f"{one.what}{where}",
                f"  expected: {one.expected}",
                f"  found:    {one.found}",
            ]
        return "\n".join(lines)
