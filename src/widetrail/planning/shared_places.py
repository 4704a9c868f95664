"""Places that several items share: what each takes, and what none does."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from widetrail.errors import Halted, MachineUnusable
from widetrail.finding import (
    Absent,
    Found,
    tally,
)
from widetrail.formats.companions import database_of
from widetrail.machine.own_folders import own_below
from widetrail.machine.paths import is_within, join, key
from widetrail.planning.draft import Draft, Subject, entries_to_pack
from widetrail.planning.plan import (
    Neither,
    PlannedItem,
)
from widetrail.planning.route_choice import copies
from widetrail.recipe import Globs, Item


def take_once(draft: Draft) -> None:
    """Have what several items take be carried by one of them: the first that names it itself.

    An item that takes all of its place leaves what others of the place name to them.
    """
    owners: dict[str, str] = {}
    sharing = [(p, s) for p, s, chosen in draft.items if copies(chosen.route) and not p.store]
    sharing = [
        (planned, subject)
        for planned, subject in sharing
        if any(other is not subject and _overlap(subject, other) for _, other in sharing)
    ]
    for planned, subject in sorted(sharing, key=lambda pair: pair[0].whole):
        machine = subject.finder.machine
        entries = [e for e in entries_to_pack(subject, planned.carved) if e.kind != "folder"]
        place = planned.old_path
        paths = {
            e.path: key(place if planned.single else join(place, e.path), machine.platform)
            for e in entries
        }
        taken = [below for below, path in paths.items() if path in owners]
        owners |= {path: planned.id for path in paths.values() if path not in owners}
        number = next(n for n, (p, *_) in enumerate(draft.items) if p.id == planned.id)
        if taken and len(taken) == len(paths):
            what = f"{planned.id} covers nothing that {owners[paths[taken[0]]]} does not cover too"
            todo = "Leave one of them out (--without), or give each a take of its own."
            draft.obstacles.append(Halted(what, where=place, todo=todo, codes=["claims"]))
        elif taken:
            carved = tuple(sorted({*planned.carved, *taken}))
            count = tally(entries_to_pack(subject, carved))
            draft.items[number] = (
                planned.model_copy(
                    update={
                        "carved": carved,
                        "shared": True,
                        "files": count.files,
                        "size": count.size,
                    }
                ),
                subject,
                draft.items[number][2],
            )


def _overlap(one: Subject, other: Subject) -> bool:
    """Return whether two items' places are one, or one lies in the other."""
    mine, theirs, platform = one.old_place, other.old_place, one.finder.machine.platform
    if not (isinstance(mine, Found) and isinstance(theirs, Found)):
        return False
    return is_within(mine.path, theirs.path, platform) or is_within(
        theirs.path, mine.path, platform
    )


def taken_by_none(subjects: Sequence[Subject]) -> Iterator[Neither]:
    """Give what of a place no item takes, nor any leaves on purpose."""
    by_place: dict[str, list[Subject]] = {}
    for subject in subjects:
        if isinstance(subject.old_place, Found) and subject.old_place.kind == "folder":
            by_place.setdefault(subject.old_place.path, []).append(subject)
    for place, mine in by_place.items():
        machine = mine[0].finder.machine
        items = [item for subject in mine for item in _of_its_place(subject)]
        if not all(item.take for item in items):
            continue
        known = Globs(
            [glob for item in items for glob in (*item.take, *item.leave)],
            ignore_case=machine.rules.ignores_case,
        )
        inner = [p for p in by_place if p != place and is_within(p, place, machine.platform)]
        try:
            left = [
                e.path
                for e in machine.walk(place)
                if e.kind != "folder"
                and not known(e.path)
                and database_of(e.path)[0] == ""
                and not any(is_within(join(place, e.path), p, machine.platform) for p in inner)
            ]
        except MachineUnusable:  # that stands in the way of the items themselves
            continue
        if left:
            ids = tuple(subject.id for subject in mine)
            yield Neither(items=ids, place=place, count=len(left), some=tuple(left[:3]))


def _of_its_place(subject: Subject) -> Iterator[Item]:
    """Give the items of the subject's recipe that share its place, those left out by choice too."""
    items = subject.side.loaded.recipe.items.values()
    return (item for item in items if item.from_ == subject.item.from_)


def carved_paths(subject: Subject, subjects: Sequence[Subject], draft: Draft) -> tuple[str, ...]:
    """Return the paths below the subject's place that belong to other items, or are Wide Trail's
    own.

    Two whole items of one place are an obstacle.
    """
    old, platform = subject.old_place, subject.finder.machine.platform
    assert isinstance(old, Found)
    carved: list[str] = []
    for other in subjects:
        place = other.old_place
        if other is subject or not isinstance(place, Found):
            continue
        inside = is_within(place.path, old.path, platform)
        if inside and is_within(old.path, place.path, platform):
            if not subject.item.take and not other.item.take and subject.id < other.id:
                todo = "Leave one of them out (--without), or give one a take of its own."
                what = f"{subject.id} and {other.id} cover the same place"
                draft.obstacles.append(Halted(what, where=old.path, todo=todo, codes=["claims"]))
        elif inside and not other.item.take:
            carved.append(place.path[len(old.path) :].strip("/"))
    carved += own_below(subject.finder.machine, old.path)
    return tuple(sorted(set(carved)))


def shared_folder(subject: Subject, old: Found) -> str:
    """Return the name of the folder that both machines see as the place, if it is one."""
    new = subject.new_place
    mine = subject.side.old.shared(old.path)
    theirs = subject.side.new.shared(new.path) if isinstance(new, Found | Absent) else ""
    return mine if mine and mine == theirs else ""


def lies_inside(inner: PlannedItem, outer: PlannedItem, subject: Subject) -> bool:
    platform = subject.finder.machine.platform
    if not (inner.old_path and outer.old_path):
        return False
    deeper = len(inner.old_path) > len(outer.old_path)
    return deeper and outer.whole and is_within(inner.old_path, outer.old_path, platform)
