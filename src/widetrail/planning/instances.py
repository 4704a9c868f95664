"""The items of a recipe as they are on old, and each of several paired with its place on new."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from posixpath import splitext

from widetrail.errors import Halted
from widetrail.finding import (
    Absent,
    Found,
    Held,
    How,
    Instance,
    Known,
    Nowhere,
    Pair,
    Several,
    Where,
    pair,
)
from widetrail.machine.paths import is_within, join, parent
from widetrail.planning.draft import Draft, RecipeSides, Subject
from widetrail.planning.station_facts import SeenSide
from widetrail.planning.user_choices import Choices
from widetrail.recipe import Item
from widetrail.recipe.templates import ROOTS


def subjects_of(side: RecipeSides, draft: Draft, choices: Choices) -> Iterator[Subject]:
    for name, item in side.loaded.recipe.items.items():
        subject = f"{side.loaded.id}.{name}"
        if not choices.may_want(subject):
            continue
        old = side.finder.place(item.from_)
        new = old if isinstance(old, Held) else side.new.place(item.from_)
        if not isinstance(old, Several):
            if choices.wants(subject):
                yield Subject(subject, name, side, side.finder, old, new)
            _insist_known(subject, (), choices, draft)
            continue
        for path, reason in old.rejected:
            draft.notices.append(f"{subject}: {path} is skipped: {reason}")
        if not old.instances:
            draft.notices.append(f"{subject}: not found")
        _insist_known(subject, [one.name for one in old.instances], choices, draft)
        for instance, partner, name_there in _paired(side, item, old, new):
            if not choices.wants(subject, instance.name):
                continue
            inner = side.finder.within(item.from_, instance)
            yield Subject(
                f"{subject}[{instance.name}]",
                name,
                side,
                inner,
                inner.place(item.from_),
                partner,
                instance,
                name_there,
            )


def _insist_known(item: str, names: Sequence[str], choices: Choices, draft: Draft) -> None:
    """Say which of those of several that something is chosen for are not there."""
    known = {f"{item}[{name}]" for name in names}
    for name in sorted(choices.instances()):
        if name.startswith(f"{item}[") and name not in known:
            todo = f"Available: {', '.join(sorted(known)) or 'none; it is one'}."
            draft.obstacles.append(Halted(f"there is no {name}", todo=todo, codes=["choice"]))


def _paired(
    side: RecipeSides, item: Item, old: Several, new: Where
) -> Iterator[tuple[Instance, Where, str]]:
    """Give each instance on old with the place on new it goes to, and the program's name there."""
    place = next(p for p in side.loaded.recipe.places[item.from_] if side.finder.holds(p.for_))
    if not isinstance(new, Several):
        yield from ((instance, new, instance.name) for instance in old.instances)
        return
    used = [instance.path for instance in new.instances]
    for matched in pair(old, new, place.paired_by):
        mine = matched.old
        if isinstance(matched, Pair):
            by = "register" if matched.new is None else matched.by
            side.finder.decide(place, f"paired by {by}")
        if not isinstance(matched, Pair):
            yield (
                mine,
                Nowhere("no rule of the recipe matches it with one on the new computer"),
                mine.name,
            )
        elif matched.new is not None:
            one = matched.new
            yield mine, Found(one.path, one.kind, one.how, one.synced), one.name
        else:
            where = _apart(side, _registered(side, new, mine), used)
            used += [where.path] if isinstance(where, Absent | Found) else []
            yield mine, where, mine.name


def beside_all(subject: Subject) -> Subject:
    """Return one of several with a place on new of its own, whatever it was paired with."""
    side, instance = subject.side, subject.instance
    new = side.new.place(subject.item.from_)
    if instance is None or not isinstance(new, Several):
        return subject
    where = _apart(side, _registered(side, new, instance), [one.path for one in new.instances])
    return replace(subject, new_place=where, new_name=instance.name)


def _apart(side: RecipeSides, where: Where, used: Sequence[str]) -> Where:
    """Return a place that no other instance has, nor one has that lies in it or that it lies in."""
    if not isinstance(where, Absent | Found):
        return where
    platform = side.new.fact("platform")
    known = platform.value if isinstance(platform, Known) else side.finder.machine.platform

    def is_free(path: str) -> bool:
        return not any(
            is_within(path, other, str(known)) or is_within(other, path, str(known))
            for other in used
        )

    if is_free(where.path):
        return where
    begin, ending = splitext(where.path) if where.kind == "file" else (where.path, "")
    number, path = 1, f"{begin} (from {side.old.machine}){ending}"
    while not is_free(path) or _is_on_new(side, path):
        number += 1
        path = f"{begin} (from {side.old.machine} {number}){ending}"
    return Absent(path, where.kind, where.how)


def _is_on_new(side: RecipeSides, path: str) -> bool:
    return isinstance(side.new, SeenSide) and side.new.finder.machine.look(path) is not None


def _registered(side: RecipeSides, new: Several, instance: Instance) -> Where:
    """Return where an instance that new does not have yet would lie there.

    That is at the same place below the folder of the list, else below the same root, else at the
    same path where that disk is there.
    """
    how = How(instance.how.rule, instance.how.case, new.source)
    folder = parent(instance.how.source)
    if new.source and instance.path.startswith(f"{folder}/"):
        return Absent(join(parent(new.source), instance.path[len(folder) :]), instance.kind, how)
    old = side.old
    roots = sorted(ROOTS, key=lambda name: (-len(old.root(name)), name))
    below = next((r for r in roots if instance.path.startswith(f"{old.root(r)}/")), None)
    path = instance.path
    if below is not None and side.new.root(below):
        path = join(side.new.root(below), instance.path[len(old.root(below)) :])
    if not side.new.has_disk_of(path):
        return Nowhere(
            f"it is not on the new computer yet, and the disk of {path} does not exist there"
        )
    there = _is_on_new(side, path)
    return Found(path, instance.kind, how) if there else Absent(path, instance.kind, how)
