"""Places that a person chooses: where an item is to be on new, and which of several is real.

A chosen folder is judged like any place. The item's program is told of it: by the setting that
tells where the place is, or by a step that names the place to it.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace

from widetrail.errors import Halted
from widetrail.finding import (
    Absent,
    CardFacts,
    Finder,
    Found,
    How,
    Instance,
    Known,
    Said,
    Selection,
    Several,
    Where,
    is_called,
)
from widetrail.formats.forms import FORMS
from widetrail.machine import Machine
from widetrail.machine.path_notation import Bearings, KnownBearings, understand_path
from widetrail.machine.paths import is_within, trouble_with_name
from widetrail.planning.draft import Draft, RecipeSides, Subject
from widetrail.planning.plan import PlannedItem, ToldBy
from widetrail.planning.route_choice import names_place, steps_on_new
from widetrail.planning.station_facts import CardSide, New, SeenSide
from widetrail.planning.user_choices import Choices
from widetrail.recipe import Item, Loaded, Reading, Route
from widetrail.steps import brings_about

_AGAIN = "Choose another folder with --to, then plan again."


def said_of(loaded: Loaded, choices: Choices, new: New, draft: Draft) -> tuple[Said, Said]:
    """Return what a person said of the places of a recipe on old and on new."""
    begin = f"{loaded.id}."
    real = {n.removeprefix(begin): r for n, r in choices.real.items() if n.startswith(begin)}
    at: dict[str, str] = {}
    for name, item in loaded.recipe.items.items():
        text = choices.to.get(f"{begin}{name}")
        if (
            text is None
            or not item.from_
            or any(place.plural for place in loaded.recipe.places[item.from_])
        ):
            continue
        if path := _understood(text, new, f"{begin}{name}", draft):
            at[item.from_] = path
    return Said(real=real), Said(at=at)


def _understood(text: str, new: New, item: str, draft: Draft) -> str:
    """Return the path on new that a person means, or an empty text where they mean none."""
    if new is None:
        why, todo = "the new computer was not seen", "Plan with a card of it, or leave --to out."
        path = ""
    else:
        bearings: Bearings = (
            KnownBearings(new.machine, new.platform, new.roots)
            if isinstance(new, CardFacts)
            else new
        )
        path, why = understand_path(text, bearings, "")
        names = (n for n in path.split("/")[1:] if trouble_with_name(n, bearings.platform))
        if (bad := next(names, None)) is not None:
            why = f"{bad!r} {trouble_with_name(bad, bearings.platform)}"
        todo = _AGAIN
    if why:
        what = f"{item} cannot be put there"
        draft.obstacles.append(Halted(what, where=text, why=why, todo=todo, codes=["choice"]))
        return ""
    return path


def insist_real(side: RecipeSides, draft: Draft) -> None:
    """Say where what a person said is the real one is none of several, and where several are
    there and the recipe cannot tell which is."""
    finder = side.finder
    for name in finder.loaded.recipe.places:
        there = finder.candidates(name)
        real = finder.by_person.real.get(name)
        told = f"{finder.loaded.id}.{name}"
        if real is not None and not any(is_called(real, p, finder.machine, n) for p, n in there):
            among = ", ".join(n or p for p, n in there) or "none"
            todo = f"Available: {among}."
            what = f'"{real}" is none of {told}'
            draft.obstacles.append(Halted(what, todo=todo, codes=["choice"]))
        where = finder.place(name)
        if real is None and isinstance(where, Found) and len(there) > 1:
            others = [path for path, _ in there if path != where.path]
            draft.notices.append(
                f"{told}: {where.path} is taken as the real one, and {', '.join(others)} is there "
                f"too; if another is, say so with --real {told}={others[0]}"
            )


def with_choice(subject: Subject, choices: Choices, new: New, draft: Draft) -> Subject:
    """Return one of several with the place on new that a person chose for it, if they did."""
    instance = subject.instance
    mine = f"{subject.side.loaded.id}.{subject.name}"
    if instance is None:
        return subject
    if (text := choices.to.get(subject.id)) is None:
        if mine in choices.to:
            todo = f"Say which: --to {subject.id}=…"
            what = f"{mine} is several"
            draft.obstacles.append(Halted(what, todo=todo, codes=["choice"]))
        return subject
    path = _understood(text, new, subject.id, draft)
    if not path:
        return subject
    how = How("chosen", instance.how.case)
    where: Where = Absent(path, "folder", how)
    if isinstance(subject.side.new, SeenSide):
        where = subject.side.new.finder.judged(path, "folder", how)
    return replace(subject, new_place=where, new_name=instance.name, is_chosen=True)


def is_chosen(subject: Subject) -> bool:
    """Return whether a person chose where an item is to be on new."""
    if subject.is_chosen:
        return True
    where = subject.new_place
    if isinstance(where, Found | Absent):
        return where.how.rule == "chosen"
    side, name = subject.side.new, subject.item.from_
    return isinstance(side, SeenSide) and name in side.finder.by_person.at


def told_to_program(subject: Subject, route: Route, draft: Draft) -> ToldBy | None:
    """Return by what of an item's place its program is told of the folder that was chosen;
    ``None`` where a step tells it, or a person has to.

    What stands in the way of the choice becomes an obstacle of the draft.
    """
    where = subject.new_place
    assert isinstance(where, Found | Absent)
    side = subject.side.new
    if isinstance(side, SeenSide | CardSide) and not side.has_disk_of(where.path):
        draft.obstacles.append(refusal(subject, where.path, "its disk does not exist"))
    if isinstance(side, SeenSide) and (why := is_taken(side.finder, subject.item.from_, where)):
        draft.obstacles.append(refusal(subject, where.path, why))
    cases = subject.side.loaded.recipe.places[subject.item.from_]
    told = cases[where.how.case].set_in
    if told is not None and not told.command:
        if why := _untellable(subject, told, route):
            draft.obstacles.append(refusal(subject, where.path, why))
        platform = subject.side.new.fact("platform")
        assert isinstance(platform, Known), "a place is chosen on a machine that is known"
        return ToldBy(case=where.how.case, platform=platform.value)
    if subject.instance is None and not names_place(route, subject.item.from_):
        name = subject.side.loaded.recipe.application.name
        draft.obstacles.append(
            refusal(
                subject, where.path, f"the recipe has no setting or step that makes {name} use it"
            )
        )
    return None


def refusal(subject: Subject, where: str, why: str) -> Halted:
    """Return what stands in the way of a place that was chosen."""
    what = f"{subject.id} cannot be put there"
    return Halted(what, where=where, why=why, todo=_AGAIN, codes=["choice"])


def is_taken(finder: Finder, name: str, where: Where) -> str:
    """Return what is at a chosen place already that is none of what the program keeps in the place
    ``name``, or an empty text."""
    if not isinstance(where, Found) or where.how.rule != "chosen":
        return ""
    usual = replace(finder, by_person=Said()).place(name)
    known = usual.instances if isinstance(usual, Several) else (usual,)
    if any(isinstance(one, Found | Instance) and one.path == where.path for one in known):
        return ""
    some = next(iter(finder.machine.walk(where.path)), None) if where.kind == "folder" else None
    if where.kind == "folder" and some is None:
        return ""
    return f"{some.path if some is not None else 'a file'} is there already, which is none of it"


def _untellable(subject: Subject, told: Reading, route: Route) -> str:
    """Return why a setting cannot be written that tells the program, or an empty text."""
    form, path = FORMS[told.form], _settings_told(subject, told)
    if form.add is None and form.put is None and not form.is_store:
        return f"{form.name} is not written, and its program has its setting there"
    side = subject.side.new
    made = any(brings_about(step.kind) for step in steps_on_new(route))
    if not path or not isinstance(side, SeenSide) or made:
        return ""
    recipe = subject.side.loaded.recipe
    places = ((item, side.finder.place(item.from_)) for item in recipe.items.values())
    carried = any(_takes(item, where, path, side.finder.machine) for item, where in places)
    name = recipe.application.name
    if not carried and side.finder.machine.look(path) is None:
        return f"{name} has no settings there yet ({path}): start it once, close it"
    usual = replace(side.finder, by_person=Said()).place(subject.item.from_)
    is_told = isinstance(usual, Found | Absent) and usual.how.rule == "told"
    if form.add is None and not (is_told or carried):
        return f"{path} has no folder set yet: choose one in {name} once"
    return ""


def _settings_told(subject: Subject, told: Reading) -> str:
    """Return the file on new whose settings tell where an item is, as far as it is known."""
    side = subject.side.new
    if not isinstance(side, SeenSide) or not told.in_file:
        return ""
    return side.finder.choice(told.where) or ""


def _takes(item: Item, where: Where, path: str, machine: Machine) -> bool:
    """Return whether an item that is at ``where`` takes the file at ``path``."""
    if not isinstance(where, Found | Absent) or not is_within(path, where.path, machine.platform):
        return False
    below = path[len(where.path) + 1 :]
    return not below or Selection(item, machine.platform)(below)


def brings_settings(planned: PlannedItem, subject: Subject, other: Subject) -> bool:
    """Return whether ``other`` brings the settings in which the program is told of a folder that
    was chosen for ``planned``: then it comes first."""
    side = subject.side.new
    if planned.set_in is None or other is subject or not isinstance(side, SeenSide):
        return False
    told = subject.side.loaded.recipe.places[subject.item.from_][planned.set_in.case].set_in
    path = _settings_told(subject, told) if told is not None else ""
    mine = other.side.loaded.id == subject.side.loaded.id and bool(path)
    return mine and _takes(other.item, other.new_place, path, side.finder.machine)


def insist_apart(draft: Draft) -> None:
    """Say where a chosen place lies in the place of another item, or holds it."""
    for planned, subject, _ in draft.items:
        if not planned.chosen or not planned.new_path:
            continue
        for other in _in_its_way(planned, draft.items, subject):
            why = f"{other.id} comes to {other.new_path}"
            draft.obstacles.append(refusal(subject, planned.new_path, why))


def _in_its_way(
    planned: PlannedItem, items: Sequence[tuple[PlannedItem, Subject, object]], subject: Subject
) -> Iterator[PlannedItem]:
    platform = subject.finder.machine.platform
    for other, *_ in items:
        mine, theirs = (planned.new_path, planned.old_path), (other.new_path, other.old_path)
        if other.id == planned.id or not other.new_path:
            continue
        meets, met = (
            is_within(one, two, platform) or is_within(two, one, platform)
            for one, two in zip(mine, theirs, strict=True)
        )
        if meets and not met:
            yield other
