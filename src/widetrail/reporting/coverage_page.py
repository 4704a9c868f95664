"""What rehearsals reached of recipes as one HTML page: each recipe by line, and who reached what.

The figure is a matrix: a row for each branch, a column for each rehearsal, a mark where it came
there.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from widetrail.lazily import dataclass
from widetrail.rehearsing.coverage import Branch, Coverage
from widetrail.reporting.html import make_page

STEP, LETTER, TOP = 14, 5.8, 190
"""Pixels: of a cell, of a letter of a name, and of the room for the names of rehearsals."""


@dataclass(frozen=True)
class _Column:
    name: str
    x: int


@dataclass(frozen=True)
class _Row:
    branch: Branch
    name: str
    y: int
    dots: tuple[int, ...]
    apart: bool


@dataclass(frozen=True)
class _OnLine:
    name: str
    missing: bool
    why: str
    count: int


@dataclass(frozen=True)
class _Line:
    number: int
    text: str
    branches: tuple[_OnLine, ...]

    @property
    def kind(self) -> str:
        """How the line is shown."""
        if any(branch.missing for branch in self.branches):
            return "miss"
        return "hit" if any(branch.count for branch in self.branches) else ""

    @property
    def mark(self) -> str:
        """The same as a sign, for those who see no colours."""
        return {"miss": "✗", "hit": "✓"}.get(self.kind, "")


class _Drawn:
    """One recipe's coverage with where each mark of its figure is."""

    def __init__(self, covered: Coverage) -> None:
        self.covered = covered
        names = [_cut(name.replace(".rehearsal.yaml", "")) for name in covered.rehearsals]
        shown = [_short(branch) for branch in covered.branches]
        self.left = round(LETTER * (max(map(len, shown), default=0) + 5)) + 10
        self.columns = [_Column(n, self.left + 10 + STEP * k) for k, n in enumerate(names)]
        at = dict(zip(covered.rehearsals, (c.x for c in self.columns), strict=True))
        self.rows = [
            _Row(
                branch,
                text,
                TOP + STEP * number,
                tuple(at[name] for name in covered.reached[branch]),
                bool(branch.unreachable or branch.unproved),
            )
            for number, (branch, text) in enumerate(zip(covered.branches, shown, strict=True))
        ]
        self.right = self.left + 10 + STEP * len(names)
        self.width = self.right + TOP - 40
        self.height = TOP + STEP * len(self.rows)
        self.lines = list(_lines(covered))

    @property
    def apart(self) -> str:
        """What does not count, in words."""
        ruled_out, explained = self.covered.ruled_out, self.covered.explained
        told = [f"{ruled_out} cannot be reached"] if ruled_out else []
        told += [f"{explained} explained"] if explained else []
        return ", ".join(told)


def _cut(name: str) -> str:
    """Return the name of a rehearsal in the room there is."""
    return name if len(name) < 32 else f"{name[:30]}…"


def _short(branch: Branch) -> str:
    """Return a branch in the room there is, from its end."""
    return branch.words if len(branch.words) < 62 else f"…{branch.words[-61:]}"


def _lines(covered: Coverage) -> Iterator[_Line]:
    by_line: dict[int, list[_OnLine]] = {}
    missing = set(covered.missing)
    for branch in covered.branches:
        mine = _OnLine(
            branch.name,
            branch in missing,
            branch.unreachable or branch.unproved,
            len(covered.reached[branch]),
        )
        by_line.setdefault(branch.line, []).append(mine)
    for number, text in enumerate(covered.lines, start=1):
        yield _Line(number, text, tuple(by_line.get(number, ())))


def render_coverage(covered: Sequence[Coverage]) -> str:
    """Return what rehearsals reached of each recipe as HTML that needs nothing beside itself."""
    pages = [_Drawn(one) for one in covered]
    title = "What the rehearsals reached"
    return make_page("coverage.html", title, pages=pages, top=TOP)
