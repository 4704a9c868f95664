"""Recipes rehearsed on copies of machines, with what the rehearsals reach and notice."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import field
from datetime import UTC, datetime
from pathlib import Path

from widetrail.findings import Finding
from widetrail.lazily import dataclass
from widetrail.library.recipes import Where, load_recipe
from widetrail.recipe import Loaded
from widetrail.rehearsing import Rehearsal, Rehearsed, collect_rehearsals, constant_screens
from widetrail.rehearsing.batch import Job, jobs_of, run_many
from widetrail.rehearsing.coverage import Coverage, coverage_of, load_unproved
from widetrail.rehearsing.history import Standing, Why, open_history
from widetrail.rehearsing.inputs import InputDigests, Inputs
from widetrail.rehearsing.mutants import Judged, judge_mutants
from widetrail.rehearsing.result_texts import findings_of
from widetrail.rehearsing.stage import exposed


@dataclass(frozen=True)
class Rehearsals:
    """The rehearsals that were run, with their results in the same order.

    ``findings`` are of the recipes and machines as a whole; those in ``constant`` say that a
    program prints the same whatever is there.
    """

    listed: tuple[tuple[Job, Rehearsal], ...]
    results: tuple[Rehearsed, ...]
    findings: tuple[Finding, ...]
    constant: tuple[Finding, ...]
    inputs: tuple[Inputs, ...] = ()
    """What each of them tried, as it was before they were run."""
    unchanged: tuple[tuple[Rehearsal, Standing], ...] = ()
    """Rehearsals that were not run again: they passed, and all that they try is the same."""
    why: Mapping[str, tuple[Why, ...]] = field(default_factory=dict)
    """Why the others were, by their names, where only what changed was to be run."""

    @property
    def passed(self) -> bool:
        """Whether each came out as it expects."""
        return all(result.passed for result in self.results) and not self.constant

    @property
    def recipes(self) -> tuple[Loaded, ...]:
        """Each recipe that was rehearsed, once."""
        files = dict.fromkeys(path for _, one in self.listed for path in one.recipe_files)
        return tuple(load_recipe(path) for path in files)

    def remember(self, history: Where) -> int:
        """Add the results to the history at a path, which is made where it is not there; return
        how many runs were added.

        Raises:
            InputUnusable: It is no history, or cannot be written.
        """
        with open_history(Path(history), add=True) as known:
            return known.add(zip(self.inputs, self.results, strict=True))

    def coverage(self) -> tuple[Coverage, ...]:
        """Return for each recipe which of its branches the rehearsals reached."""
        unproved = ((one, load_unproved(Path(one.file))) for one in self.recipes)
        return tuple(coverage_of(one, self.results, reasons) for one, reasons in unproved)

    def mutants(self, recipe: Loaded, *, jobs: int = 1) -> list[Judged]:
        """Change ``recipe`` one rule at a time; return for each change whether it was noticed."""
        runs = [(*one, result) for one, result in zip(self.listed, self.results, strict=True)]
        return judge_mutants(recipe, runs, jobs, load_unproved(Path(recipe.file)))


def rehearse(
    paths: Iterable[Where],
    *,
    machines: Where | None = None,
    jobs: int = 1,
    keep: Where | None = None,
    changed_since: Where | None = None,
    shown: Callable[[Rehearsed], None] = lambda result: None,
) -> Rehearsals:
    """Run the rehearsals that ``paths`` name, on copies of their machines.

    ``paths`` are files, folders with all below them, or recipes with the rehearsals beside them.
    ``jobs`` run at a time; ``shown`` is called with each result as it comes. ``keep`` is a new
    folder for the machines as they were in the end. With a history as ``changed_since``, only
    those are run that did not pass with the very recipes, machines, programs and Wide Trail.

    Raises:
        InputUnusable: A file or a machine cannot be read.
        DocumentUnusable: A file has findings that are errors.

    Example:
        >>> rehearsed = rehearse(["recipes/huemoss.trail.yaml"])
        >>> rehearsed.passed, [covered.percent for covered in rehearsed.coverage()]
        (True, [100.0])
    """
    near = None if machines is None else Path(machines)
    kept = None if keep is None else Path(keep)
    named = collect_rehearsals([Path(path) for path in paths])
    listed = jobs_of(named, datetime.now(UTC), near, kept)
    digests = InputDigests(near)
    inputs = {one.name: digests.of(one) for _, one in listed}
    standings = _standings(inputs, changed_since)
    unchanged = tuple((one, standings[one.name]) for _, one in listed if _holds(standings, one))
    listed = [(job, one) for job, one in listed if not _holds(standings, one)]
    tried = tuple(inputs[one.name] for _, one in listed)
    results: Sequence[Rehearsed] = run_many([job for job, _ in listed], jobs, shown)
    ran = zip((rehearsal for _, rehearsal in listed), results, strict=True)
    constant = tuple(constant_screens(ran, near))
    open_ones = dict.fromkeys(found for _, one in listed for found in exposed(one, near))
    others = {one.recipe_files[0] for one, _ in unchanged}  # of which not all is seen here
    whole = [
        result
        for (_, one), result in zip(listed, results, strict=True)
        if one.recipe_files[0] not in others
    ]
    findings = (*findings_of(whole), *constant, *open_ones)
    why = {name: standing.why for name, standing in standings.items() if standing.why}
    return Rehearsals(tuple(listed), tuple(results), findings, constant, tried, unchanged, why)


def _standings(inputs: Mapping[str, Inputs], history: Where | None) -> dict[str, Standing]:
    """Return how each rehearsal stands in a history, by its name; nothing where none is asked."""
    if history is None:
        return {}
    if not Path(history).exists():  # the first runs make it
        return dict.fromkeys(inputs, Standing("", ("never",)))
    with open_history(Path(history)) as known:
        return {name: known.standing(one) for name, one in inputs.items()}


def _holds(standings: Mapping[str, Standing], rehearsal: Rehearsal) -> bool:
    standing = standings.get(rehearsal.name)
    return standing is not None and not standing.why
