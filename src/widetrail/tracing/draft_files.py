"""What a draft is written as: the recipe, its rehearsals and their machines, for each platform."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from widetrail.errors import DocumentUnusable, InputUnusable
from widetrail.lazily import dataclass
from widetrail.machine import FolderMachine
from widetrail.recipe import SUFFIX as RECIPE_SUFFIX
from widetrail.recipe import examine
from widetrail.rehearsing import SUFFIX as REHEARSAL_SUFFIX
from widetrail.rehearsing.stage import MACHINES
from widetrail.steps import KINDS
from widetrail.tracing.draft_platforms import as_one
from widetrail.tracing.draft_rehearsal import rehearsal_text, side_of
from widetrail.tracing.draft_samples import Samples
from widetrail.tracing.drafting import Draft


@dataclass(frozen=True)
class Drafted:
    """What was written, and the questions that are left open.

    ``rehearsals`` are on one platform each, ``across`` from one to another.
    """

    recipe: Path
    rehearsals: tuple[Path, ...]
    across: tuple[Path, ...]
    machines: tuple[Path, ...]
    questions: tuple[str, ...]


def write_drafts(drafts: Sequence[Draft], folder: Path) -> Drafted:
    """Write one recipe for all platforms that drafts are of, its rehearsals and their machines.

    Raises:
        InputUnusable: Something of it is there already, nothing is to be taken, two drafts are of
            one platform, or their programs are shown by different commands.
        DocumentUnusable: The draft makes no recipe.
    """
    return _Writing(drafts, folder).all()


class _Writing:
    def __init__(self, drafts: Sequence[Draft], folder: Path) -> None:
        self._drafts, self._folder = drafts, folder
        self._app = drafts[0].naming.id
        self._questions: dict[str, None] = {}

    def all(self) -> Drafted:
        recipe = self._folder / f"{self._app}{RECIPE_SUFFIX}"
        pairs = [(old, new) for old in self._drafts for new in self._drafts]
        rehearsals = {pair: self._folder / self._rehearsal(*pair) for pair in pairs}
        machines = [self._machine(d, side) for d in self._drafts for side in ("old", "new")]
        for path in (recipe, *rehearsals.values(), *machines):
            if path.exists():
                raise InputUnusable("already exists", where=str(path), todo="Name another folder.")
        text = as_one(self._drafts)
        loaded, findings = examine(text, str(recipe), KINDS)
        if loaded is None:
            raise DocumentUnusable(str(recipe), findings)
        self._folder.mkdir(parents=True, exist_ok=True)
        recipe.write_text(text, encoding="utf-8")
        said = "\n".join(line for line in text.splitlines() if not line.startswith("#"))
        samples = {draft: self._samples(draft, said) for draft in self._drafts}
        for (old, new), path in rehearsals.items():
            begun = FolderMachine(self._machine(old, "old"))
            ended = FolderMachine(self._machine(new, "new"))
            sides = [
                side_of(begun.folder, samples[old].changed_at_starts(begun)),
                side_of(ended.folder, samples[new].changed_at_starts(ended)),
            ]
            items = old.expected(name for name in loaded.recipe.items if name in old.items)
            told = rehearsal_text(old.trace, begun.user, self._app, items, sides)
            path.write_text(told, encoding="utf-8")
        for draft in self._drafts:
            self._questions |= dict.fromkeys(draft.questions)
        return Drafted(
            recipe,
            tuple(path for (old, new), path in rehearsals.items() if old is new),
            tuple(path for (old, new), path in rehearsals.items() if old is not new),
            tuple(machines),
            tuple(self._questions),
        )

    def _samples(self, draft: Draft, said: str) -> Samples:
        samples = Samples(draft.trace, draft.machine, draft.places, said)
        old, new = (self._machine(draft, side) for side in ("old", "new"))
        self._questions |= dict.fromkeys(samples.make_old(old))
        self._questions |= dict.fromkeys(samples.make_new(new, new.name))
        return samples

    def _machine(self, draft: Draft, side: str) -> Path:
        return self._folder / MACHINES / "-".join((self._app, *self._of(draft), side))

    def _rehearsal(self, old: Draft, new: Draft) -> str:
        told = self._of(old) if old is new else (*self._of(old), "to", *self._of(new))
        return f"{'-'.join((self._app, *told))}{REHEARSAL_SUFFIX}"

    def _of(self, draft: Draft) -> tuple[str, ...]:
        """Return what tells one platform's files apart, where there are several."""
        return (draft.machine.platform,) if len(self._drafts) > 1 else ()
