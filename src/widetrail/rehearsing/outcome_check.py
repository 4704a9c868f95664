"""Judging a rehearsal as a whole: refusals, notices, what changed and what may."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path

from widetrail.errors import Obstructed, WideTrailError
from widetrail.licence.service import Service
from widetrail.licence.terms import Word
from widetrail.machine import FolderMachine
from widetrail.planning import Plan
from widetrail.recipe import Station
from widetrail.recipe.templates import plain
from widetrail.rehearsing.expectations import (
    Difference,
)
from widetrail.rehearsing.rehearsal_file import Expect, ExpectedItem, RehearsalFile
from widetrail.walking import (
    LegDone,
)


def refused(file: RehearsalFile, error: WideTrailError) -> Iterator[Difference]:
    """Judge that the trail was refused; it may have been expected."""
    wanted, found = set(file.expect.refused), set(error.codes)
    if not wanted:
        yield Difference("the trail", "to be walked to its end", all_of(error))
    elif wanted != found:
        told = f"{', '.join(sorted(found)) or 'no code'} ({all_of(error)})"
        yield Difference("refused", ", ".join(sorted(wanted)), told)


def all_of(error: WideTrailError) -> str:
    obstacles = error.obstacles if isinstance(error, Obstructed) else ()
    return "; ".join(map(str, [error, *obstacles]))


def as_planned(file: RehearsalFile) -> Expect:
    """Return what is expected; where only the plan is made, an item is planned at its best."""
    if file.until != "plan":
        return file.expect
    items = {
        name: item.model_copy(update={"state": "planned"}) if item.state == "carried" else item
        for name, item in file.expect.items.items()
    }
    return file.expect.model_copy(update={"items": items})


def never_begun(step: str) -> Difference:
    return Difference("stops", f"to happen at {step}", "the step was not started")


def noticed(wanted: Sequence[str], notices: Sequence[str]) -> Iterator[Difference]:
    """Give the notices that are missing, and those that nobody expects, where some are expected."""
    for text in wanted:
        if not any(re.search(text, notice) for notice in notices):
            yield Difference("notices", text, "; ".join(notices) or "none")
    for notice in notices:
        if not any(re.search(text, notice) for text in wanted):
            yield Difference("notices", "no other notice", notice)


def changed_on_new(plan: Plan, old: FolderMachine, new: FolderMachine) -> Iterator[str]:
    """Give what is another on new: the name of the account, and the drive of an item."""
    if old.user != new.user:
        yield "user"
    for item in plan.items:
        if item.old_path and item.new_path:
            if old.platform != new.platform:
                yield "platform"
            one, other = _volume(old, item.old_path), _volume(new, item.new_path)
            if one != other:
                yield "drive"


def _volume(machine: FolderMachine, path: str) -> str:
    try:
        return machine.room(path).volume
    except WideTrailError:
        return path.partition("/")[0]


def troubles_of(done: LegDone) -> list[Difference]:
    return [Difference("the end of the leg", "well", trouble) for trouble in done.troubles]


def allowed_on_old(old: FolderMachine, plan: Plan) -> list[Path]:
    """Return where the plan says that something changes on old: by commands, and by retiring."""
    mine = [step for step in plan.steps if step.station == "old"]
    told = [path for step in mine for path in step.changes]
    told += [path for step in mine for path in step.leaves]
    return below(old, map(plain, told))


def below(machine: FolderMachine, paths: Iterable[str]) -> list[Path]:
    return [machine.host(path).relative_to(machine.folder) for path in paths]


def judge_seats(
    first: str,
    file: RehearsalFile,
    plan: Plan,
    words: dict[str, dict[str, Word]],
    serials: dict[str, str],
    service: Service | None,
) -> Iterator[Difference]:
    """Tell where a licence is held by both, or one that is expected to move by another.

    ``first`` is the id of the recipe whose items are meant by their own names.
    """
    expected = as_planned(file).items
    for item in (i for i in plan.items if i.kind == "licence"):
        short = item.id.removeprefix(f"{first}.")
        asked = service if item.id in serials else None
        holders = asked.holders(serials[item.id]) if asked is not None else ()
        here = {station: words[station][item.id] for station in ("old", "new")}
        if list(here.values()) == ["active", "active"] or len(holders) > 1:
            yield Difference(f"{item.id}: who holds it", "one machine", "both")
            continue
        mine = expected.get(short, ExpectedItem())
        carried = mine.state == "carried"
        moved: dict[Station, Word] = {"old": "not", "new": "active"} if carried else {}
        for station, wanted in (moved | mine.seat).items():
            if here[station] != wanted:
                yield Difference(f"{item.id} on {station}", wanted, here[station])
        if not carried:
            continue
        if asked is not None and holders != (file.new.machine,):
            told = ", ".join(holders) or "nobody"
            yield Difference(f"{item.id}: who holds it", file.new.machine, told)
