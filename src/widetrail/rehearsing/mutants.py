"""Recipe mutations: one rule changed at a time, to see whether any rehearsal would notice.

A mutant is the recipe with one rule dropped, widened, narrowed, negated or swapped with another.
It is judged only by the rehearsals that went by that rule, until one fails: first those that did
what the rule says, and of those the ones that reach least.
A mutant that lint refuses is none; one that no rehearsal notices survives, and says which
rehearsal is missing.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import asdict, replace

import yaml

from widetrail.formats.documents import Where, mark_at
from widetrail.formats.quantities import show_count
from widetrail.lazily import dataclass
from widetrail.recipe import Loaded, examine
from widetrail.rehearsing.batch import Job, run_job
from widetrail.rehearsing.coverage import Explained, branches_of, show_where
from widetrail.rehearsing.mutations import changes_of
from widetrail.rehearsing.rehearsed import Rehearsed
from widetrail.rehearsing.stage import as_plain
from widetrail.steps import KINDS
from widetrail.workers import Crew, Killed


@dataclass(frozen=True)
class Mutant:
    """A changed recipe: where the rule stands that was changed, how, and its whole text.

    ``missing`` is the rehearsal that would notice it, in words.
    """

    recipe: str
    file: str
    line: int
    where: Where
    mutation: str
    change: str
    missing: str
    text: str


@dataclass(frozen=True)
class Judged:
    """What became of a mutant: the rehearsal that noticed it, and how many it was shown to.

    ``explained`` is the reason that is written down for its surviving.
    """

    mutant: Mutant
    killed_by: str = ""
    shown_to: int = 0
    explained: str = ""

    @property
    def unreached(self) -> bool:
        """Whether no rehearsal goes by the rule at all."""
        return not self.shown_to and not self.killed_by

    @property
    def survived(self) -> bool:
        """Whether nobody noticed it, and no reason is written down."""
        return not self.killed_by and not self.explained

    def as_json(self) -> dict[str, object]:
        """Return it as plain JSON values, without the whole text."""
        told = {k: v for k, v in asdict(self.mutant).items() if k != "text"}
        told |= {"at": show_where(self.mutant.where), "survived": self.survived}
        return {
            **told,
            "killed_by": self.killed_by,
            "shown_to": self.shown_to,
            "explained": self.explained,
        }


def show_mutant(judged: Judged) -> Iterator[str]:
    """Give the lines that tell of a mutant that survived."""
    mutant = judged.mutant
    where = show_where(mutant.where)
    yield f"{mutant.file}:{mutant.line}: {where}: {mutant.mutation}: {mutant.change}"
    shown = "no rehearsal uses it"
    if not judged.unreached:
        shown = f"{show_count(judged.shown_to, 'rehearsal')} did not notice"
    yield f"{shown}. Missing: {mutant.missing}"


Run = tuple[Job, Rehearsed]


def judge_mutants(
    loaded: Loaded,
    runs: Sequence[Run],
    crew: Crew | None = None,
    explained: Sequence[Explained] = (),
    tick: Callable[[int, int], None] = lambda done, total: None,
    every: int = 1,
) -> list[Judged]:
    """Return what became of each mutant of a recipe, or of one in ``every``.

    ``runs`` are rehearsals of it with what they came to unchanged; those that failed are left out.
    """
    known = [e for e in explained if e.mutation]
    mine = [run for run in runs if loaded.id in run[1].recipes and run[1].passed]
    mutants = list(mutants_of(loaded))[::every]
    found: dict[int, Judged] = {}
    tasks = [(mutant, _going_by(mutant, mine)) for mutant in mutants]
    for number, judged in (crew or Crew()).each(_judge, tasks):
        if isinstance(judged, Killed):  # it was noticed, though dearly
            judged = Judged(mutants[number], str(judged))
        why = next((e.why for e in known if _is_for(e, judged.mutant)), "")
        found[number] = replace(judged, explained="" if judged.killed_by else why)
        tick(len(found), len(mutants))
    return [found[number] for number in range(len(mutants))]


def _is_for(explained: Explained, mutant: Mutant) -> bool:
    where = show_where(mutant.where)
    return explained.at == where and mutant.mutation.startswith(explained.mutation)


def unneeded(explained: Sequence[Explained], judged: Sequence[Judged]) -> list[Explained]:
    """Return the reasons for mutants that nobody needs: each was noticed, or there is none."""
    mutants = [one.mutant for one in judged if one.explained]
    return [e for e in explained if e.mutation and not any(_is_for(e, m) for m in mutants)]


_Going = tuple[tuple[Job, str], ...]
"""Jobs with the recipe as the mutant has it, and the names of their rehearsals."""


def _going_by(mutant: Mutant, runs: Sequence[Run]) -> _Going:
    """Return the rehearsals that go by the mutant's rule, those first that most likely notice."""
    chosen = [run for run in runs if _goes_by(mutant, run[1])]
    chosen.sort(key=lambda run: (_is_unlikely(mutant, run[1]), len(run[1].branches)))
    found = []
    for job, result in chosen:
        texts = []
        for path in job.tried.recipe_files:
            own = str(path) == mutant.file
            text = mutant.text if own else path.read_text(encoding="utf-8")
            texts.append((str(path), text))
        found.append((replace(job, texts=tuple(texts), keep=None), result.short))
    return tuple(found)


def _goes_by(mutant: Mutant, result: Rehearsed) -> bool:
    """Return whether a rehearsal reached a branch of the rule's item, place or reading.

    What belongs to the recipe as a whole is gone by by all.
    """
    section = mutant.where[:2]
    if len(section) < 2 or section[0] not in ("places", "readings", "items"):
        return True
    mine = {branch.where for branch in result.branches if branch.recipe == mutant.recipe}
    if section[0] == "items" and len(mutant.where) > 3 and mutant.where[2] == "routes":
        section = mutant.where[:4]
        if mutant.mutation.startswith("swapped"):
            section = mutant.where[:2]
    if section[0] == "items":
        return any(where[: len(section)] == section for where in mine)
    return any(where[:2] == section for where in mine)


_WHERE_CUT_OFF = frozenset({"repeat", "changes", "undo"})
"""Keys of a step that tell what is done where a walk is cut off, or undone."""


def _is_unlikely(mutant: Mutant, result: Rehearsed) -> tuple[bool, bool]:
    """Return whether a rehearsal did not go the mutant's route, and whether nothing failed on it
    though the rule is for that."""
    where = mutant.where
    if where[0] != "items" or len(where) < 5 or where[4] != "legs":
        return False, False
    on_route = {b.branch for b in result.branches if b.where == where[:4]}
    cut_off = str(where[-1]) in _WHERE_CUT_OFF and "failed" not in on_route
    return "taken" not in on_route, cut_off


def _judge(task: tuple[Mutant, _Going]) -> Judged:
    """Return what became of a mutant that is shown to rehearsals, one after the other."""
    mutant, going = task
    for number, (job, name) in enumerate(going, start=1):
        try:
            result = run_job(job)
        except Exception as error:  # a mutant that breaks the walk was noticed, however it did
            return Judged(mutant, f"{name} ({type(error).__name__})", number)
        if not result.passed:
            return Judged(mutant, name, number)
    return Judged(mutant, "", len(going))


# Making them


NEVER_TAKEN = "never-taken"
"""The code of lint's warning that a route can never be taken."""


def mutants_of(loaded: Loaded) -> Iterator[Mutant]:
    """Give every mutant of a recipe that lint says nothing against, in the order of its lines."""
    tree = as_plain(loaded.tree)
    known = {_dumped(tree)}
    found = []
    beyond = {(*branch.where, branch.name) for branch in branches_of(loaded) if branch.unreachable}
    for where, mutation, told, missing, changed in changes_of(tree):
        text = _dumped(changed)
        if text in known or any(where[: len(branch)] == branch for branch in beyond):
            continue
        known.add(text)
        accepted, _ = examine(text, loaded.file, KINDS)
        if accepted is None or any(f.rule == NEVER_TAKEN for f in accepted.findings):
            continue  # lint tells of it, so no rehearsal has to
        if accepted.recipe != loaded.recipe:
            mark, _ = mark_at(loaded.tree, where)
            found.append(
                Mutant(loaded.id, loaded.file, mark.line, where, mutation, told, missing, text)
            )
    yield from sorted(found, key=lambda m: (m.line, show_where(m.where), m.mutation))


def _dumped(tree: object) -> str:
    """Return a recipe as a text; each has one of its own."""
    told: str = yaml.dump(
        tree, Dumper=yaml.CSafeDumper, allow_unicode=True, sort_keys=False, width=10_000
    )
    return told
