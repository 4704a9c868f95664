"""Rehearsing: the whole trail on copies of two machines, with the real engine.

The machines of the rehearsal are never changed: they are copied first. While one station works,
the other one is out of reach, and before the last look the parcel is too.
"""

from __future__ import annotations

import os
import re
import tempfile
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import Executor, ThreadPoolExecutor, wait
from contextlib import contextmanager
from dataclasses import replace
from datetime import datetime
from pathlib import Path

from widetrail.errors import InputUnusable, WideTrailError
from widetrail.finding import find_application
from widetrail.licence.service import Service
from widetrail.machine import Effects, FolderMachine, medium_of
from widetrail.parcel import Along, Parcel, set_out
from widetrail.planning import Choices, ChoiceWords, Plan, make_plan, read_choices
from widetrail.recipe import Loaded, Station
from widetrail.recipe.decisions import Decisions
from widetrail.rehearsing.expectations import (
    MOST_TOLD,
    Difference,
    Judge,
    Printed,
    judge_machine,
    judge_screen,
)
from widetrail.rehearsing.fault_injection import Happening
from widetrail.rehearsing.machine_copies import changes, contents
from widetrail.rehearsing.machines_in_reach import PARCEL
from widetrail.rehearsing.maker import licence_files, serials_on, serving_copy, words_on
from widetrail.rehearsing.outcome_check import (
    all_of,
    allowed_on_old,
    as_planned,
    below,
    changed_on_new,
    judge_seats,
    never_begun,
    noticed,
    refused,
)
from widetrail.rehearsing.rehearsal import Rehearsal
from widetrail.rehearsing.rehearsal_file import RehearsalFile, Side
from widetrail.rehearsing.rehearsed import Rehearsed
from widetrail.rehearsing.rehearsed_walks import RehearsedWalks, Walked
from widetrail.rehearsing.screens import printing_again, printing_of, screen_of
from widetrail.rehearsing.stage import (
    RUN,
    canary,
    fast_folder,
    machines_near,
)
from widetrail.rehearsing.stage_hands import StageHands
from widetrail.walking import (
    make_report,
)
from widetrail.walking.item_context import open_signs


def rehearse(
    rehearsal: Rehearsal,
    now: datetime,
    machines: Path | None = None,
    *,
    keep: Path | None = None,
    recipes: Sequence[Loaded] | None = None,
) -> Rehearsed:
    """Run one rehearsal on copies of its machines.

    ``machines`` is the folder that holds them; without it, a folder of that name is looked for
    beside the rehearsal and in the folders above it. The copies are removed at the end, unless
    ``keep`` says into which folder, which is not there yet, they go. ``recipes`` are taken instead
    of those that lie beside the rehearsal.

    Raises:
        InputUnusable: The recipe or a machine is not there.
        DocumentUnusable: The recipe has findings.
    """
    loaded = tuple(recipes) if recipes is not None else rehearsal.recipes()
    source = machines or machines_near(rehearsal.path)
    begun, decisions = time.monotonic(), Decisions()
    with _folder(keep) as folder, canary(folder / "home") as touched:
        run = _run(rehearsal, folder, source, loaded, now, decisions, quick=recipes is not None)
    found = [
        Difference("the account's own home", "nothing there is touched", f"{path} was {what}")
        for path, what in list(touched.items())[:MOST_TOLD]
    ]
    run = _without(folder, run)
    return replace(
        run,
        differences=(*run.differences, *found),
        seconds=time.monotonic() - begun,
        branches=frozenset(decisions.taken),
        kept=str(keep) if keep is not None else "",
    )


def _without(folder: Path, run: Rehearsed) -> Rehearsed:
    """Return what came of a run without the folder of its copies, which is another each time:
    machines are told by their names."""

    def told(text: str) -> str:
        for inner in ("here", "away"):
            text = text.replace(f"{folder / inner}{os.sep}", "")
        return text

    differences = tuple(
        replace(one, what=told(one.what), expected=told(one.expected), found=told(one.found))
        for one in run.differences
    )
    old, new = told(run.old_screen), told(run.new_screen)
    return replace(run, differences=differences, old_screen=old, new_screen=new)


@contextmanager
def _folder(keep: Path | None) -> Iterator[Path]:
    if keep is None:
        with tempfile.TemporaryDirectory(prefix="widetrail-rehearsal-", dir=fast_folder()) as made:
            yield Path(made)
        return
    keep.mkdir(parents=True)
    yield keep


def _run(
    rehearsal: Rehearsal,
    folder: Path,
    source: Path,
    recipes: Sequence[Loaded],
    now: datetime,
    decisions: Decisions,
    *,
    quick: bool,
) -> Rehearsed:
    file = rehearsal.file
    stage = None
    told = Rehearsed(
        str(rehearsal.path),
        rehearsal.title,
        (),
        case=rehearsal.case,
        recipes=tuple(loaded.id for loaded in recipes),
    )
    try:
        with (
            serving_copy(file.maker, source, folder / "maker") as service,
            ThreadPoolExecutor(1) as aside,
        ):
            stage = _Stage(folder, rehearsal, recipes, service, decisions, aside, quick=quick)
            return stage.run(now, told, source)
    except InputUnusable as error:
        if not error.codes:
            found = Difference("the trail", "to be walked to its end", all_of(error))
            return replace(told, differences=(found,))
        return replace(told, differences=tuple(refused(file, error)))
    except WideTrailError as error:
        return replace(told, differences=tuple(refused(file, error)))
    finally:
        if stage is not None:
            stage.all_back()


class _Stage(RehearsedWalks):
    """The copies of a rehearsal's machines, and moving them in and out of reach."""

    def __init__(
        self,
        folder: Path,
        rehearsal: Rehearsal,
        recipes: Sequence[Loaded],
        service: Service | None,
        decisions: Decisions,
        aside: Executor,
        *,
        quick: bool,
    ) -> None:
        """``quick`` has a sealed parcel open from the start: its passphrase takes a second.
        Programs print in ``aside`` while something else is done.
        """
        self._quick = quick
        self._here, self._away = folder / "here", folder / "away"
        self._here.mkdir()
        self._away.mkdir()
        self._rehearsal, self._file, self._recipes = rehearsal, rehearsal.file, recipes
        self._service, self._decisions, self._aside = service, decisions, aside
        file = self._file
        self._sides: dict[Station, Side] = {"old": file.old, "new": file.new}
        if file.between is not None:
            self._sides["between"] = file.between
        self._station: Station = "old"
        self._meddled: set[Station] = set()
        medium = self._here / PARCEL
        self._happening = Happening(file.stops, medium, self._pull, self._meddle)
        self._hands = StageHands(file.all_hands)
        self._hands.take_away = self._pull

    def run(self, now: datetime, told: Rehearsed, machines: Path) -> Rehearsed:
        file, recipes = self._file, self._recipes
        self._copy(machines, self._here, "old")
        old = self._open("old")
        before = contents(old)
        printing = self._aside.submit(self._first_printing_of(old, before))
        others = [station for station in self._sides if station != "old"]
        if any(self._sides[station].prepare for station in others):
            wait([printing])  # what they do may show in what old prints
        self._copy(machines, self._away, *others)  # out of reach while old prints
        shown = printing.result()
        self.all_back()
        new = self._open("new")
        before_new = contents(new) if file.until == "undone" else {}
        own_before = self._own_print(new)
        serials = serials_on(old, recipes)
        sealed = file.seal()
        plan = self._planned(old, new, now, sealed=sealed is not None)
        told = replace(
            told,
            moved=True,
            old_screen=shown.text,
            changed=tuple(dict.fromkeys(changed_on_new(plan, old, new))),
        )
        folder = self._here / PARCEL
        along = Along(choices=choices_of(file, recipes), sealed=sealed)
        set_out(folder, plan, recipes, RUN, now, old.effects, along)
        walked = Walked()
        parcel = Parcel(folder, Effects())
        if self._quick and sealed is not None:
            parcel.seal = sealed[0]
        if file.until != "plan":
            parcel = self._walk(parcel, plan, now, walked)
        found = [*self._judged(parcel, plan, walked)]
        machine = self._alone("new")
        printing = self._aside.submit(self._screen_anew(machine))
        old = FolderMachine(self._away / file.old.machine)
        licences = below(old, [*licence_files(old, recipes), *file.old.changes_itself])
        changed = changes(before, contents(old), [*allowed_on_old(old, plan), *licences])
        shown_new = printing.result()
        found += self._looked_at_last(plan, machine, serials)
        if changed and "old" not in self._meddled:
            found.append(Difference("old", "nothing changed", ", ".join(changed[:MOST_TOLD])))
        if file.until == "undone":
            found += self._undo("new", before_new, now, below(new, file.new.changes_itself))
            found += self._undo("old", before, now, licences)
            found += self._printed_as_before(own_before)
        if file.expect.screen is not None:
            found.extend(judge_screen(file.expect.screen, shown, shown_new))
        return replace(told, differences=tuple(found), new_screen=shown_new.text)

    def _planned(
        self, old: FolderMachine, new: FolderMachine, now: datetime, *, sealed: bool
    ) -> Plan:
        return make_plan(
            self._recipes,
            old,
            new,
            medium_of(self._here),
            now,
            choices_of(self._file, self._recipes),
            sealed=sealed,
            decisions=self._decisions,
        )

    def _judged(self, parcel: Parcel, plan: Plan, walked: Walked) -> Iterator[Difference]:
        """Judge what the plan, the walks and the report tell."""
        file, report = self._file, make_report(parcel)
        self._say_routes(plan, report)
        judge = Judge(as_planned(file), self._recipes, plan, report)
        found = [*walked.differences, *judge.items()]
        found += [never_begun(stop.step) for stop in self._happening.left if file.until != "plan"]
        if file.expect.refused and not found:
            found.append(Difference("refused", ", ".join(file.expect.refused), "nothing was"))
        yield from found
        told_of = file.expect.notices or ()
        for one in plan.neither:
            if not any(re.search(pattern, one.words) for pattern in told_of):
                wanted = "each file to be covered by the recipe"
                yield Difference(one.place, wanted, one.words)
        if file.expect.notices is not None:
            yield from noticed(file.expect.notices, plan.notices)

    def _looked_at_last(
        self, plan: Plan, new: FolderMachine, serials: dict[str, str]
    ) -> list[Difference]:
        """Judge what is on both machines in the end, and who holds their licences."""
        there = {"new": words_on(new, self._recipes)}
        on_new = [*self._last_look("new", new)]
        old = self._alone("old")
        there["old"] = words_on(old, self._recipes)
        found = [*self._last_look("old", old), *on_new]
        first = self._recipes[0].id
        return [*found, *judge_seats(first, self._file, plan, there, serials, self._service)]

    def _screen_anew(self, machine: FolderMachine) -> Callable[[], Printed]:
        """Return what gives what the program prints, started anew: what is open is closed first."""
        loaded = self._recipes[0]
        close = loaded.recipe.application.close
        finder = find_application(machine, loaded)
        if close and finder.installation is not None and open_signs(finder):
            machine.start(finder.programs()[close[0]], close[1:])
        return self._printing_of(machine)

    def _first_printing_of(
        self, old: FolderMachine, held: Mapping[str, str]
    ) -> Callable[[], Printed]:
        """Return what gives what is printed on old before anything is done."""
        if not self._quick or self._service is not None:
            return self._printing_of(old)
        screen = screen_of(self._file, self._recipes[0])
        return printing_again(old, self._recipes[0], screen, self._file.all_hands, held)

    def _printing_of(self, machine: FolderMachine) -> Callable[[], Printed]:
        screen = screen_of(self._file, self._recipes[0])
        return printing_of(machine, self._recipes[0], screen, self._file.all_hands)

    def _own_print(self, new: FolderMachine) -> Printed:
        """Return what is printed on new where files do not tell whether it is as it was: what a
        program keeps lies in what it changes by itself."""
        if self._file.until == "undone" and self._file.new.changes_itself:
            return self._printing_of(new)()
        return Printed("")

    def _printed_as_before(self, before: Printed) -> Iterator[Difference]:
        own = self._own_print(self._alone("new"))
        if own != before:
            told = (one.text.strip()[:200] for one in (before, own))
            yield Difference("screen, undone", *told)

    def _last_look(self, station: Station, machine: FolderMachine) -> Iterator[Difference]:
        expected = self._file.expect.at_the_end.get(station)
        if expected is not None:
            yield from judge_machine(station, expected, machine, self._recipes[0])


def choices_of(file: RehearsalFile, recipes: Sequence[Loaded]) -> Choices:
    """Return what a rehearsal chooses of the items of its recipes."""
    words = ChoiceWords(
        only=file.only,
        without=file.without,
        outside=_as_words(file.outside),
        routes=_as_words(file.routes),
        duplicates=_as_words(file.duplicates),
        to=_as_words(file.to),
        real=_as_words(file.real),
        release_after=file.release_after or "verifying",
    )
    chosen = read_choices(recipes, words)
    parts = {
        f"{recipes[0].id}.{item}.{part}": tuple(map(str, values))
        for item, named in file.choose.items()
        for part, values in named.items()
    }
    return replace(chosen, parts={**chosen.parts, **parts}, ask_programs=file.ask_programs)


def _as_words(chosen: Mapping[str, str]) -> list[str]:
    """Return what is chosen as a person says it."""
    return [f"{name}={value}" for name, value in chosen.items()]
