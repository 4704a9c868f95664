"""Whether what a program prints shows anything: it must change when its machine does.

A print-out that is the same whatever is there proves no move. So it is taken once more for each
recipe, on a copy of a machine on which nothing is left of what the recipe's items stand for.
"""

from __future__ import annotations

import shutil
import tempfile
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace
from pathlib import Path

from widetrail.errors import WideTrailError
from widetrail.finding import find_application
from widetrail.finding.stores import Store, StoreKind, store_kind
from widetrail.finding.values import things_at
from widetrail.findings import Finding
from widetrail.formats.documents import mark_at
from widetrail.machine import FolderMachine
from widetrail.recipe import Loaded
from widetrail.rehearsing.batch import Job, rehearsal_of
from widetrail.rehearsing.rehearsal import Rehearsal
from widetrail.rehearsing.rehearsed import Rehearsed
from widetrail.rehearsing.screens import screen_of, starter
from widetrail.rehearsing.stage import fast_folder, machines_near, prepared_copy
from widetrail.workers import Crew, Killed


def constant_screens(
    ran: Iterable[tuple[Job, Rehearsed]], crew: Crew | None = None
) -> list[Finding]:
    """Return a finding for each recipe whose program prints the same where nothing is left.

    Of the rehearsals that passed and look at the screen, the first of each recipe is taken, with
    its old machine.
    """
    first: dict[str, Job] = {}
    for job, result in ran:
        if job.tried.looks and result.passed and result.recipes:
            first.setdefault(result.recipes[0], job)
    found = dict((crew or Crew()).each(_judge_screens_of, list(first.values())))
    judged = [found[number] for number in sorted(found)]
    return [one for findings in judged if not isinstance(findings, Killed) for one in findings]


def _judge_screens_of(job: Job) -> tuple[Finding, ...]:
    """Return the finding of a rehearsal whose program prints the same where nothing is left."""
    rehearsal = rehearsal_of(job)
    return tuple(_judged(rehearsal, rehearsal.recipes(), job.machines))


def _judged(
    rehearsal: Rehearsal, loaded: tuple[Loaded, ...], machines: Path | None
) -> Iterator[Finding]:
    source = machines or machines_near(rehearsal.path)
    side = rehearsal.file.old
    with tempfile.TemporaryDirectory(prefix="widetrail-screen-", dir=fast_folder()) as folder:
        whole, bare = Path(folder) / "whole", Path(folder) / "bare"
        for copy in (whole, bare):
            prepared_copy(source / side.machine, copy, side, loaded)
        _take_all(FolderMachine(bare), loaded)
        screen = screen_of(rehearsal.file, loaded[0])
        assert screen is not None, "what is printed was looked at"
        machines_of = [FolderMachine(m) for m in (whole, bare)]
        program = find_application(machines_of[0], loaded[0])
        one, other = (
            starter(replace(program, machine=m), screen, rehearsal.file.all_hands)()
            for m in machines_of
        )
        if (one.status, one.output) == (other.status, other.output):
            at, _ = mark_at(loaded[0].tree, ("application", "screen"))
            message = "what the program prints is the same where nothing of its items is left"
            hint = "Use a command that prints what a person sees, such as lists and counts"
            yield Finding(
                loaded[0].file,
                at.line,
                at.column,
                "constant-screen",
                "application.screen",
                message,
                hint,
            )


def _take_all(machine: FolderMachine, recipes: Sequence[Loaded]) -> None:
    """Remove all that the items of the first recipe stand for, on a copy of a machine."""
    lenders = {loaded.id: find_application(machine, loaded) for loaded in recipes[1:]}
    finder = find_application(machine, recipes[0], lenders=lenders)
    for item in recipes[0].recipe.items.values():
        for path, kind in things_at(finder.place(item.from_)):
            if (store := store_kind(item, path, kind)) in ("registry", "dconf"):
                _empty(machine, store, path)
            elif (host := machine.host(path)).is_dir():
                shutil.rmtree(host)
            else:
                host.unlink(missing_ok=True)


def _empty(machine: FolderMachine, kind: StoreKind | None, place: str) -> None:
    assert kind is not None
    store = Store(machine, kind, place)
    try:
        store.change(dict.fromkeys(store.read()))
    except WideTrailError:  # what cannot be changed stays, and then shows the same
        return
