"""The file of a catalogue: whose its recipes are, and what is asked of them."""

from __future__ import annotations

from collections.abc import Iterator
from fnmatch import fnmatchcase
from pathlib import Path
from typing import Annotated

from pydantic import AfterValidator, BeforeValidator, Field

from widetrail.errors import DocumentUnusable, InputUnusable
from widetrail.findings import Finding, errors_of
from widetrail.formats.documents import Model, check, mark_at, read_text
from widetrail.formats.flaws import flaw
from widetrail.formats.yaml_positions import Map
from widetrail.lazily import dataclass
from widetrail.machine.platforms import Platform
from widetrail.recipe.conditions import Words, one_or_many

FILE = "catalogue.yaml"


def _folder(text: str) -> str:
    if not text or text.startswith("/") or "\\" in text or ".." in text.split("/"):
        raise flaw(
            "folder", f'"{text}" must lie below the catalogue', "Write it with /, from there"
        )
    return text


Folder = Annotated[str, AfterValidator(_folder)]
Folders = Annotated[tuple[Folder, ...], BeforeValidator(one_or_many)]


class Owner(Model):
    """Who looks after recipes: a name, and where to write to."""

    name: str
    address: str = ""


class Group(Model):
    """Recipes of one owner: their ids, in which ``*`` stands for anything, and the platforms that
    each of them is for."""

    owner: str
    recipes: Words
    platforms: Annotated[tuple[Platform, ...], BeforeValidator(one_or_many)] = ()


class Policy(Model):
    """What is asked of each recipe: how many of a hundred branches are reached, how many days old a
    proof may be, and which owners may sign."""

    coverage: Annotated[int, Field(ge=0)] = 0
    proof_days: Annotated[int, Field(ge=1)] | None = None
    sign: Words = ()


class Allowed(Model):
    """Two recipes that may claim the same files, and why."""

    between: tuple[str, str]
    why: str


class CatalogueFile(Model):
    """What stands in ``catalogue.yaml``; folders are below its own."""

    catalogue: str
    recipes: Folders = ("recipes",)
    machines: Folder = "machines"
    history: str = ""
    owners: dict[str, Owner] = Field(default_factory=dict)
    groups: dict[str, Group] = Field(default_factory=dict)
    policy: Policy = Policy()
    overlaps: tuple[Allowed, ...] = ()


@dataclass(frozen=True)
class Catalogue:
    """A catalogue: its folder, what its file says, and where in it that stands."""

    folder: Path
    file: CatalogueFile
    tree: Map

    @property
    def path(self) -> Path:
        """Its file."""
        return self.folder / FILE

    @property
    def recipe_folders(self) -> list[Path]:
        """The folders of its recipes."""
        return [self.folder / name for name in self.file.recipes]

    @property
    def machines(self) -> Path:
        """The folder of its machines."""
        return self.folder / self.file.machines

    @property
    def history(self) -> Path | None:
        """Its history, where it has one."""
        return self.folder / self.file.history if self.file.history else None

    def groups_of(self, recipe: str) -> Iterator[tuple[str, Group]]:
        """Give the groups that a recipe is in, by their names."""
        for name, group in self.file.groups.items():
            if any(fnmatchcase(recipe, pattern) for pattern in group.recipes):
                yield name, group

    def finding(self, code: str, where: tuple[str | int, ...], message: str, hint: str) -> Finding:
        """Return a finding at a place of its file."""
        mark, walked = mark_at(self.tree, where)
        return Finding(
            str(self.path), mark.line, mark.column, code, ".".join(walked), message, hint
        )


def load_catalogue(folder: Path) -> Catalogue:
    """Load the catalogue in a folder, or whose file is named.

    Raises:
        InputUnusable: It is not there, or cannot be read.
        DocumentUnusable: Its file has findings that are errors.
    """
    path = folder if folder.name == FILE else folder / FILE
    if not path.is_file():
        todo = f"Write {FILE} there; docs/catalogue.md tells what it holds."
        raise InputUnusable("is no catalogue", where=str(folder), why=f"no {FILE}", todo=todo)
    value, tree, findings = check(CatalogueFile, read_text(path), str(path))
    if value is None:
        raise DocumentUnusable(str(path), errors_of(findings))
    return Catalogue(path.parent, value, tree)
