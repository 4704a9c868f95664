"""Rehearsal files: two machines, what is prepared, and the outcome that is expected."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from itertools import product
from pathlib import Path

from widetrail.errors import DocumentUnusable, InputUnusable
from widetrail.findings import Finding, errors_of
from widetrail.formats.documents import check_tree, read_text
from widetrail.formats.yaml_positions import Map, Seq, read_marked
from widetrail.lazily import dataclass
from widetrail.recipe import SUFFIX as RECIPE_SUFFIX
from widetrail.recipe import Loaded, load_recipe
from widetrail.rehearsing.rehearsal_file import Differing, RehearsalFile
from widetrail.steps import KINDS

SUFFIX = ".rehearsal.yaml"


@dataclass(frozen=True)
class Rehearsal:
    """A rehearsal with where it lies, so that its recipe and machines are found beside it.

    ``case`` names the row of its table that it is, where it has one.
    """

    path: Path
    file: RehearsalFile
    case: str = ""

    @property
    def name(self) -> str:
        """Where it lies, with its case in brackets."""
        return f"{self.path}[{self.case}]" if self.case else str(self.path)

    @property
    def title(self) -> str:
        """What it tries, in words."""
        return f"{self.file.rehearsal}: {self.case}" if self.case else self.file.rehearsal

    def recipes(self) -> tuple[Loaded, ...]:
        """Load the recipes, which lie beside it.

        Raises:
            InputUnusable: One is not there.
            DocumentUnusable: One has findings.
        """
        return tuple(load_recipe(path, KINDS) for path in self.recipe_files)

    @property
    def arrives(self) -> bool:
        """Whether all is expected to arrive, and nothing to happen on the way."""
        file = self.file
        all_carried = all(item.state == "carried" for item in file.expect.items.values())
        differs = any(
            isinstance(value, Differing)
            for item in file.expect.items.values()
            for value in item.checks.values()
        )
        plain = not file.stops and not file.expect.refused and file.until != "plan"
        return plain and all_carried and not differs

    @property
    def recipe_files(self) -> tuple[Path, ...]:
        """Where its recipes lie, the one that is rehearsed first."""
        names = self.file.recipe
        return tuple(self.path.parent / f"{name}{RECIPE_SUFFIX}" for name in names)


def load_rehearsal(path: Path) -> Rehearsal:
    """Load the rehearsal at ``path``; of a table, its first case.

    Raises:
        InputUnusable: It cannot be read.
        DocumentUnusable: It has findings.
    """
    return load_rehearsals(path)[0]


def load_rehearsals(path: Path) -> tuple[Rehearsal, ...]:
    """Load the rehearsal at ``path``, or each case of its table (``each``).

    A row of the table holds what is otherwise in that case: maps are merged, all else is replaced.
    Several tables by name give each row of one with each of the others.

    Raises:
        InputUnusable: It cannot be read.
        DocumentUnusable: It has findings.
    """
    tree, findings = read_marked(read_text(path), str(path))
    rows, wrong = _rows(tree, str(path)) if isinstance(tree, Map) else ([], ())
    found: list[Rehearsal] = []
    collected = [*findings, *wrong]
    if tree is None and not findings:
        collected.append(Finding(str(path), 1, 1, "mapping", "", "expected a mapping of keys"))
    whole = [("", tree)] if isinstance(tree, Map) else []
    for case, merged in rows or whole:
        value, more = check_tree(RehearsalFile, merged, str(path))
        collected.extend(more)
        if value is not None:
            found.append(Rehearsal(path, value, case))
    errors = errors_of(tuple(dict.fromkeys(collected)))
    if errors or not found:
        raise DocumentUnusable(str(path), errors)
    return tuple(found)


def _rows(tree: Map, file: str) -> tuple[list[tuple[str, Map]], tuple[Finding, ...]]:
    """Return each case of a rehearsal's table with the whole of its file, and what is wrong."""
    each = tree.pop("each", None)
    if each is None:
        return [], ()
    tables = list(each.values()) if isinstance(each, Map) and each else [each]
    wrong = [
        Finding(file, row.mark.line, row.mark.column, "each", "each", _NO_ROW)
        for table in tables
        for row in (table if isinstance(table, Seq) and table else [each])
        if not (isinstance(row, Map) and isinstance(row.get("case"), str))
    ]
    if wrong:
        return [], tuple(wrong)
    found = []
    for rows in product(*tables):
        merged = tree
        for row in rows:
            merged = _merged(merged, {k: v for k, v in row.items() if k != "case"}, row)
        found.append((", ".join(row["case"] for row in rows), merged))
    return found, ()


_NO_ROW = 'expected a list of maps, each with a "case" that names it'


def _merged(one: Map, other: Mapping[str, object], at: Map) -> Map:
    result = Map({**one})
    result.mark, result.keys_at = one.mark, {**one.keys_at}
    for key, value in other.items():
        mine = one.get(key)
        if isinstance(mine, Map) and isinstance(value, Map):
            value = _merged(mine, value, value)
        result[key] = value
        result.keys_at[key] = at.keys_at[key]
    return result


def rehearsals_in(folders: Iterable[Path]) -> list[Rehearsal]:
    """Return each case of the rehearsals that lie in ``folders`` themselves.

    Raises:
        InputUnusable: One cannot be read.
        DocumentUnusable: One has findings.
    """
    files = (
        file for folder in dict.fromkeys(folders) for file in sorted(folder.glob(f"*{SUFFIX}"))
    )
    return [one for file in files for one in load_rehearsals(file)]


def collect_rehearsals(paths: Iterable[Path]) -> list[Path]:
    """Return the rehearsal files that ``paths`` name: files, and folders with all below them; a
    recipe names those beside it that rehearse it.

    Raises:
        InputUnusable: A path is not there, or holds no rehearsal.
        DocumentUnusable: A rehearsal beside a recipe has findings.
    """
    found: list[Path] = []
    for path in paths:
        inside = [path]
        if path.is_dir():
            inside = sorted(path.rglob(f"*{SUFFIX}"))
        elif path.name.endswith(RECIPE_SUFFIX) and path.is_file():
            name = path.name.removesuffix(RECIPE_SUFFIX)
            beside = sorted(path.parent.glob(f"*{SUFFIX}"))
            inside = [p for p in beside if name in load_rehearsal(p).file.recipe]
        if not inside or not path.exists():
            why = "file not found"
            if path.exists():
                why = f"no *{SUFFIX} is {'in' if path.is_dir() else 'beside'} it"
            raise InputUnusable("nothing to rehearse", where=str(path), why=why)
        found.extend(inside)
    return list(dict.fromkeys(found))
