"""One item of a plan: how it goes, and what of it stays behind or stands in the way."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from datetime import datetime

from widetrail.errors import Halted, MachineUnusable
from widetrail.finding import (
    Absent,
    Found,
    Held,
    How,
    Known,
    Nowhere,
    Selection,
    Unknown,
    condition_holds,
    tally,
)
from widetrail.finding.stores import (
    Store,
    is_value,
    selected,
    store_kind,
)
from widetrail.formats import Unreadable, canonical
from widetrail.machine import Entry
from widetrail.planning.chosen_places import is_chosen, refusal, told_to_program
from widetrail.planning.draft import NOT_THERE, Draft, Subject, entries_to_pack, title_of, told_loss
from widetrail.planning.instances import beside_all
from widetrail.planning.plan import (
    LeftItem,
    PlannedItem,
)
from widetrail.planning.private_items import tell_private
from widetrail.planning.registering import to_register
from widetrail.planning.renamed_files import changed_names
from widetrail.planning.route_choice import Case, Chosen, NoRoute, choose_route, copies
from widetrail.planning.shared_places import carved_paths, shared_folder
from widetrail.planning.station_facts import CardSide, SeenSide
from widetrail.planning.user_choices import Choices
from widetrail.recipe import Loss, Route
from widetrail.recipe.decisions import NONE


def plan_item(
    subject: Subject,
    subjects: Sequence[Subject],
    draft: Draft,
    choices: Choices,
    today: datetime,
) -> None:
    """Choose how an item goes, or tell why it stays or what stands in its way."""
    packed = _looked_at(subject, subjects, draft)
    if packed is None:
        return
    old, entries, carved = packed
    parts, narrowed, parts_left = _parts(subject, choices, draft)
    case = Case(
        subject.item,
        subject.finder,
        subject.side.old,
        subject.side.new,
        old,
        subject.new_place,
        tally(entries),
        max((entry.size for entry in entries), default=0),
        parts,
        narrowed,
        today,
        subject.chosen(choices.routes) or "",
        subject.instance.name if subject.instance is not None else "",
        subject.chosen(choices.duplicates),
        draft.sealed,
    )
    if is_chosen(subject) and isinstance(subject.new_place, Nowhere):
        draft.obstacles.append(refusal(subject, "", str(subject.new_place)))
        return
    chosen = choose_route(case)
    losses = _losses(subject, subject.item.losses, today)
    if isinstance(chosen, NoRoute):
        draft.left.append(left_item(subject, chosen, losses))
        return
    if (lost := _without_disk(subject)) is not None:
        draft.obstacles.append(lost)
        return
    if chosen.route.beside and not is_chosen(subject):
        subject = beside_all(subject)
    losses = (*losses, *_losses(subject, chosen.route.losses, today), *map(told_loss, chosen.rest))
    planned = _planned(subject, chosen, case, parts_left, losses, carved)
    planned = _as_chosen(planned, subject, chosen.route, draft, choices)
    tell_private(subject, chosen.route, entries, draft)
    if copies(chosen.route):
        planned = _with_names(planned, subject, entries, draft)
    if planned.occupied and planned.existing == "refuse":
        todo = "Move it away on the new computer, then plan again."
        why = "the recipe refuses where it already exists"
        what = f"{subject.id} cannot be copied to its place"
        draft.obstacles.append(
            Halted(what, where=planned.new_path, why=why, todo=todo, codes=["existing"])
        )
    draft.items.append((planned, subject, chosen))


NO_PLACE = Found("", "folder", How("held"))
"""Where that is which a program keeps itself."""


def _as_chosen(
    planned: PlannedItem, subject: Subject, route: Route, draft: Draft, choices: Choices
) -> PlannedItem:
    """Return an item with what the person chose of its duplicates and of where it comes."""
    duplicates = subject.chosen(choices.duplicates)
    if duplicates and not route.treats:
        said = f"--duplicates {subject.name}={duplicates} has no effect"
        draft.notices.append(f"{subject.id}: {route.name} merges nothing, so {said}")
    update: dict[str, object] = {"duplicates": duplicates}
    if is_chosen(subject):
        update |= {"chosen": True, "set_in": told_to_program(subject, route, draft)}
    return planned.model_copy(update=update)


def _looked_at(
    subject: Subject, subjects: Sequence[Subject], draft: Draft
) -> tuple[Found, Collection[Entry], tuple[str, ...]] | None:
    """Return where an item is on old, what of it is packed, and what other items take of it;
    ``None`` where nothing can go, which the draft then says."""
    old = subject.old_place
    if isinstance(old, Held):
        return NO_PLACE, [], ()
    optional = subject.item.optional
    if isinstance(old, Absent) and optional:
        _nothing(subject, f"there is nothing at {old.path}", draft)
        return None
    if not isinstance(old, Found):
        draft.obstacles.append(_lost(subject))
        return None
    if there := shared_folder(subject, old):
        draft.left.append(LeftItem(id=subject.id, title=title_of(subject), there=there))
        return None
    carved = carved_paths(subject, subjects, draft)
    try:
        entries = entries_to_pack(subject, carved)
        if optional and subject.item.take and all(entry.kind == "folder" for entry in entries):
            _nothing(subject, f"{old.path} holds nothing that it takes", draft)
            return None
        return old, entries, carved
    except MachineUnusable as error:
        todo = "Give the account the right to read it, then plan again."
        unreadable = Halted(
            error.what, where=error.where, why=error.why, todo=todo, codes=["unreadable"]
        )
    except Unreadable as error:
        what = f"{subject.id} cannot be read"
        unreadable = Halted(what, where=old.path, why=str(error), codes=["unreadable"])
    draft.obstacles.append(unreadable)
    return None


def _nothing(subject: Subject, why: str, draft: Draft) -> None:
    """Leave out an optional item of which there is nothing on old."""
    subject.finder.decide(subject.item, NONE)
    nothing = f"it is optional, and {why}"
    draft.left.append(LeftItem(id=subject.id, title=title_of(subject), nothing=nothing))


def _with_names(
    planned: PlannedItem, subject: Subject, entries: Collection[Entry], draft: Draft
) -> PlannedItem:
    """Return an item that is copied with the names that are others on new."""
    if all(entry.kind == "folder" for entry in entries):
        place = planned.old_path
        draft.notices.append(f"{subject.id}: {place} has nothing of it, so nothing is transferred")
    if planned.single or planned.store:
        return planned
    platform = subject.side.new.fact("platform")
    known = platform.value if isinstance(platform, Known) else subject.finder.machine.platform
    renamed = changed_names(entries, str(known))
    renames = canonical(renamed).decode() if renamed else ""
    return planned.model_copy(update={"renames": renames})


def _without_disk(subject: Subject) -> Halted | None:
    """Return what stands in the way where new's program is told to keep its things on a disk that
    is not connected: else they would come into the empty folder that it belongs to."""
    where, side = subject.new_place, subject.side.new
    if not isinstance(where, Absent) or where.how.rule != "told":
        return None
    if not isinstance(side, SeenSide | CardSide) or side.has_disk_of(where.path):
        return None
    name = subject.side.loaded.recipe.application.name
    return Halted(
        f"the disk is not there on {side.machine} where {name} keeps {subject.id}",
        where=where.path,
        why=str(where.how),
        codes=["disk"],
        todo=f"Connect it, or choose another folder in {name} there, then plan again.",
    )


def _parts(
    subject: Subject, choices: Choices, draft: Draft
) -> tuple[dict[str, tuple[str, ...]], frozenset[str], dict[str, tuple[str, ...]]]:
    """Return the values chosen of each part, the parts narrowed by choice, and what is left."""
    parts: dict[str, tuple[str, ...]] = {}
    left: dict[str, tuple[str, ...]] = {}
    for part in subject.item.parts:
        said = subject.chosen(choices.parts, f".{part}")
        there = subject.finder.part_values(part, subject.item)
        if isinstance(there, Unknown):
            if any(part in r.parts_asked_for for r in subject.item.routes):
                what = f"which {part} there are of {subject.id} is not known"
                todo = f"See to that, or leave it out (--without {subject.id})."
                draft.obstacles.append(Halted(what, why=str(there), todo=todo, codes=["parts"]))
            draft.notices.append(f"{subject.id}: which {part} there are is {there}")
            continue
        chosen = tuple(_apart(said, there)) if said is not None else None
        unknown = [value for value in chosen or () if value not in there]
        if unknown:
            why = f"known: {', '.join(there) or 'none'}"
            what = f"there is no {part} {', '.join(unknown)} in {subject.id}"
            draft.obstacles.append(
                Halted(what, why=why, todo="Choose among these.", codes=["choice"])
            )
        parts[part] = there if chosen is None else tuple(v for v in there if v in chosen)
        if parts[part] != there:
            left[part] = tuple(v for v in there if v not in parts[part])
    return parts, frozenset(left), left


def _apart(said: Sequence[str], there: Sequence[str]) -> Iterator[str]:
    """Give the values that are meant by texts apart by commas, which a value may hold too."""
    left = [text for one in said for text in one.split(",")]
    while left:
        joined = (",".join(left[:count]).strip() for count in range(len(left), 0, -1))
        value = next((text for text in joined if text in there), left[0].strip())
        yield value
        del left[: value.count(",") + 1]


def _losses(subject: Subject, losses: Sequence[Loss], today: datetime) -> tuple[Loss, ...]:
    """Return the losses that are: one whose condition cannot be judged is told too."""
    return tuple(told_loss(loss) for loss in losses if _happens(subject, loss, today))


def _happens(subject: Subject, loss: Loss, today: datetime) -> bool:
    for name, condition in loss.when.items():
        answer = subject.finder.reading(name)
        known = None if isinstance(answer, Unknown) else answer.value
        if known is not None and not condition_holds(condition, known, None, today):
            subject.finder.decide(loss, "is none")
            return False
    subject.finder.decide(loss, "is one")
    return True


def _planned(
    subject: Subject,
    chosen: Chosen,
    case: Case,
    parts_left: dict[str, tuple[str, ...]],
    losses: tuple[Loss, ...],
    carved: tuple[str, ...],
) -> PlannedItem:
    item, old, new = subject.item, case.place, subject.new_place
    kind = store_kind(item, old.path, old.kind)
    there = new if isinstance(new, Found | Absent) else None
    later = "found on the new computer" if subject.side.new.source == "assumed" else str(new)
    retired = f"Rename {old.path}, so that nobody works in it by accident."
    tasks = (
        [f"On {subject.side.old.machine}, once everything is verified: {retired}"]
        if item.retire
        else []
    )
    tasks += to_register(subject, chosen.route)
    return PlannedItem(
        id=subject.id,
        recipe=subject.side.loaded.id,
        item=subject.name,
        instance=subject.instance.name if subject.instance is not None else "",
        title=title_of(subject),
        kind=item.kind,
        route=chosen.route.name,
        existing=chosen.route.existing_in(store=kind is not None),
        store=kind or "",
        whole=not item.take,
        single=old.kind == "file",
        registered=subject.instance is not None and isinstance(new, Absent),
        old_path=old.path,
        old_how=str(old.how),
        new_instance=subject.new_name,
        new_path=there.path if there is not None else "",
        new_how=str(there.how) if there is not None else later,
        occupied=copies(chosen.route) and _occupied(subject),
        files=case.tally.files,
        size=case.tally.size,
        largest=case.largest,
        rejected=chosen.rejected,
        met=chosen.met,
        assumed=chosen.assumed,
        parts={k: v for k, v in chosen.parts.items() if v},
        parts_left=parts_left,
        carved=carved,
        awaited=tuple(f"{name} is {c}" for name, c in sorted(chosen.route.wait.items())),
        losses=losses,
        tasks=tuple(tasks),
    )


def _occupied(subject: Subject) -> bool:
    """Return whether something that the item stands for is on new already, as far as is known."""
    new, side = subject.new_place, subject.side.new
    if not isinstance(new, Found):
        return False
    if not isinstance(side, SeenSide):
        return True
    machine = side.finder.machine
    kind = store_kind(subject.item, new.path, new.kind)
    if kind is not None:
        there = Store(machine, kind, new.path).read()
        return any(map(is_value, selected(kind, subject.item, there)))
    if new.kind == "file" or not subject.item.take:
        return True
    selection = Selection(subject.item, machine.platform)
    return any(e.kind != "folder" for e in selection.walk(machine, new.path))


def _lost(subject: Subject) -> Halted:
    where, machine = subject.old_place, subject.finder.machine
    spot = where.path if isinstance(where, Absent) else ""
    why = f"nothing is there ({where.how})" if isinstance(where, Absent) else str(where)
    place = subject.item.from_
    what = f'the place "{place}" of {subject.id} was not found on {machine.name}'
    todo = (
        "If it lies on a disk that is not connected, connect it and plan again; "
        f"else leave it out with --without {subject.id}."
    )
    return Halted(what, where=spot, why=why, todo=todo, codes=[NOT_THERE])


def left_item(subject: Subject, chosen: NoRoute, losses: tuple[Loss, ...]) -> LeftItem:
    application = subject.side.loaded.recipe.application
    todo = ""
    if subject.side.new.installed is False:
        where = subject.side.new.machine
        todo = f"Install {application.name} on {where}, start it once, close it and plan again."
    elif any(route.code == "sealed" for route in chosen.rejected):
        todo = "Plan with --seal, or type it in again on the new computer."
    elif chosen.rejected:
        todo = "Fix the causes above, then plan again."
    return LeftItem(
        id=subject.id,
        title=title_of(subject),
        rejected=chosen.rejected,
        losses=(*losses, *map(told_loss, chosen.rest)),
        todo=todo,
    )


def obstacle_of(item: LeftItem) -> Halted:
    if item.nothing:
        return Halted(f"{item.title}: there is nothing of it", why=item.nothing, codes=[NOT_THERE])
    if item.there:
        return Halted(
            f"{item.title} already exists",
            why=f"both machines see {item.there}",
            codes=["there already"],
        )
    reasons = "; ".join(f"{p.route}: {p.reason}" for p in item.rejected)
    codes = dict.fromkeys(code for p in item.rejected for code in p.codes)
    return Halted(
        f"{item.title} cannot be transferred", why=reasons, todo=item.todo, codes=tuple(codes)
    )
