"""Making a plan: where things are, how each item goes, in which order, and what stands in the way.

Nothing is changed; everything that stands in the way is said at once.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime

from widetrail.errors import Halted, InputUnusable, MachineUnusable, Obstructed
from widetrail.finding import (
    Absent,
    Atlas,
    Finder,
    Found,
    How,
    Instance,
    Known,
    Moved,
    Nowhere,
    Pair,
    Selection,
    Several,
    Tally,
    Unknown,
    Where,
    condition_holds,
    entries_of,
    pair,
    tally,
)
from widetrail.finding.atlas import taking
from widetrail.finding.stores import (
    Store,
    StoreKind,
    is_value,
    selected,
    store_kind,
)
from widetrail.formats.canonical import canonical
from widetrail.formats.companions import database_of
from widetrail.formats.interface import Unreadable
from widetrail.formats.quantities import show_size
from widetrail.machine import Entry, Machine, Medium
from widetrail.machine.own import own_below
from widetrail.machine.paths import base, is_within, join, key, parent, trouble_with_name
from widetrail.machine.platforms import STRICTEST
from widetrail.machine.written import variables_of_paths
from widetrail.planning.choice import Case, Chosen, NoRoute, choose_route, copies, uses_parcel
from widetrail.planning.choices import Choices
from widetrail.planning.itinerary import Circle, Itinerary, find_itinerary
from widetrail.planning.licences import choose_way, planned_licence, unfold_licence
from widetrail.planning.names import changed_names
from widetrail.planning.plan import (
    LeftItem,
    Neither,
    PassedOver,
    Plan,
    PlannedItem,
    PlannedLeg,
    PlannedRecipe,
    PlannedStation,
)
from widetrail.planning.room import full_volumes
from widetrail.planning.sides import CardSide, LaterSide, New, SeenSide, Side
from widetrail.planning.unfolding import unfold_steps
from widetrail.planning.written import (
    bearings_of,
    look_at_paths,
    places_on_both,
    some_of,
    with_outside,
    written_at,
)
from widetrail.recipe import Existing, Globs, Item, Loaded, Loss, Route, Station
from widetrail.recipe.arms import reach, reach_bounds
from widetrail.recipe.models import LicenceRoute
from widetrail.recipe.releases import parse_releases
from widetrail.recipe.templates import ROOTS, literal, plain
from widetrail.steps import RULES, Step, act_of
from widetrail.steps.retire import retire_step
from widetrail.steps.seat import SeatStep

ENTRY_ROOM = 2048
"""Bytes that an entry takes in a parcel beside its contents, at most about that."""

PARCEL_ROOM = 1 << 20

NOT_THERE = "not there"
"""The code of what stands in the way where there is nothing to move."""


@dataclass(frozen=True, slots=True)
class _Subject:
    """One item, or one instance of it, with all that is known of it before a route is chosen."""

    id: str
    name: str
    side: _Recipe
    finder: Finder
    old_place: Where
    new_place: Where
    instance: Instance | None = None
    new_name: str = ""

    @property
    def item(self) -> Item:
        return self.side.loaded.recipe.items[self.name]


@dataclass(frozen=True, slots=True)
class _Recipe:
    """One recipe with its two sides."""

    loaded: Loaded
    finder: Finder
    old: Side
    new: Side


@dataclass(slots=True)
class _Draft:
    """A plan in the making."""

    obstacles: list[Halted] = field(default_factory=list)
    notices: list[str] = field(default_factory=list)
    items: list[tuple[PlannedItem, _Subject, Chosen]] = field(default_factory=list)
    licences: list[tuple[PlannedItem, _Recipe, LicenceRoute]] = field(default_factory=list)
    left: list[LeftItem] = field(default_factory=list)
    steps: list[Step] = field(default_factory=list)
    private: list[str] = field(default_factory=list)
    """The titles of the items that hold what nobody but the account may read."""


def make_plan(
    recipes: Sequence[Loaded],
    old: Machine,
    new: New,
    medium: Medium,
    today: datetime,
    choices: Choices | None = None,
    *,
    sealed: bool = False,
) -> Plan:
    """Plan the move of ``recipes`` from ``old`` to ``new`` by way of ``medium``.

    Licences travel in a parcel that is ``sealed`` only.

    The same recipes, machines, day and choices give the same plan, byte for byte, in whatever
    order the recipes are named.

    Raises:
        InputUnusable: Old and new are one machine, or the card or a choice does not fit.
        Obstructed: Something stands in the way; every obstacle is named.
    """
    _two_machines(old, new)
    choices = choices or Choices()
    draft = _Draft()
    ordered = _in_order(recipes, draft)
    sides: list[_Recipe] = []
    for loaded in ordered:
        sides.append(_sides(loaded, old, new, sides, ask=choices.ask_programs))
    subjects: list[_Subject] = []
    for side in sides:
        if side.finder.installation is None:
            draft.notices.append(_not_here(side))
            continue
        draft.notices.extend(_beyond(side))
        subjects.extend(_subjects(side, draft, choices))
    by_id = {side.loaded.id: side for side in sides}
    for subject in subjects:
        unmet = _unmet_uses(subject.side, by_id)
        if unmet:
            draft.left.append(_left(subject, NoRoute(unmet), ()))
            continue
        _plan_item(subject, subjects, draft, choices, today)
    for side in sides:
        if side.finder.installation is not None:
            _plan_licences(side, by_id, draft, choices, today, sealed=sealed)
    if not draft.items and not draft.licences and not draft.left and not draft.obstacles:
        draft.obstacles = [
            Halted(notice, todo=_NOTHING, codes=[NOT_THERE]) for notice in draft.notices
        ]
    if not draft.items and not draft.licences and not draft.obstacles:
        draft.obstacles = [_left_obstacle(item) for item in draft.left]
    _take_once(draft)
    neither = tuple(_neither(subjects))
    draft.notices.extend(one.words for one in neither)
    _find_written(draft, sides, choices, new)
    _unfold(draft, today)
    _unfold_licences(draft, choices, old.name, new)
    itinerary = _itinerary(draft)
    legs = _with_retiring(draft, itinerary) if itinerary is not None else []
    _detach_last(draft, legs)
    size = _room(draft, medium, new)
    if draft.private and not sealed and not medium.holds_modes:
        draft.notices.append(
            f"the medium {medium.name} cannot keep from others what only the account may read "
            f"({some_of(draft.private)}): seal the parcel (--seal), or keep it by you"
        )
    if draft.obstacles or itinerary is None:
        raise Obstructed("the plan cannot be made", draft.obstacles)
    _cheaper(draft, itinerary, today)
    _sooner(draft, itinerary, choices, unseen=not _new_station(new).identity)
    return Plan(
        recipes=tuple(sorted((_recipe(side) for side in sides), key=lambda r: r.id)),
        stations=(_seen_station("old", old), _new_station(new)),
        items=tuple(item for item, *_ in (*draft.items, *draft.licences)),
        left=tuple(draft.left),
        steps=tuple(draft.steps),
        legs=tuple(
            PlannedLeg(number=n, station=station, steps=steps)
            for n, (station, steps) in enumerate(legs, start=1)
        ),
        bound=itinerary.bound,
        exact=itinerary.exact,
        parcel_size=size,
        neither=neither,
        notices=tuple(draft.notices),
        sealed=sealed,
    )


_NOTHING = "Name the machine that has it, or leave the recipe out."


def _two_machines(old: Machine, new: New) -> None:
    identity = new.get("identity") if isinstance(new, Mapping) else getattr(new, "identity", None)
    if identity == old.identity:
        todo = "Name the other machine with --old or --new."
        raise InputUnusable("old and new are one machine", where=old.name, todo=todo)


def _in_order(recipes: Sequence[Loaded], draft: _Draft) -> list[Loaded]:
    """Return the recipes so that each comes after those it uses, ties by their ids."""
    by_id = {loaded.id: loaded for loaded in sorted(recipes, key=lambda r: r.id)}
    for loaded in by_id.values():
        for used in loaded.recipe.uses:
            if used not in by_id:
                where = loaded.spot("uses", used)
                todo = f"Name the recipe for {used} too."
                what = f"{loaded.id} uses {used}, and its recipe is not here"
                draft.obstacles.append(Halted(what, where=where, todo=todo, codes=["uses"]))
    ordered: list[Loaded] = []
    while len(ordered) < len(by_id):
        done = {loaded.id for loaded in ordered}
        ready = [
            loaded
            for loaded in by_id.values()
            if loaded.id not in done and not (loaded.recipe.uses.keys() & by_id.keys() - done)
        ]
        if not ready:
            circle = ", ".join(sorted(by_id.keys() - done))
            why = "each waits for another of them"
            todo = "Take one of the uses out."
            raise Obstructed(
                "the plan cannot be made",
                [
                    Halted(
                        f"{circle} use each other in a circle", why=why, todo=todo, codes=["circle"]
                    )
                ],
            )
        ordered.extend(ready)
    return ordered


def _unmet_uses(side: _Recipe, by_id: Mapping[str, _Recipe]) -> tuple[PassedOver, ...]:
    """Return why a recipe's items cannot go: a recipe it uses is not on new in its range."""
    unmet = []
    for used, wanted in side.loaded.recipe.uses.items():
        host = by_id.get(used)
        if host is None or host.new.installed is None:
            continue
        release, recipe = host.new.release, side.loaded.recipe
        reach_bounds(side.loaded, recipe, f"uses {used}", wanted, str(release or ""))
        if not host.new.installed or release is None or release not in parse_releases(wanted):
            found = str(release or "unknown") if host.new.installed else "not there"
            reason = f"new: {used} must be {wanted}, and is {found}"
            reach(side.loaded, recipe, f"uses {used} unmet")
            unmet.append(
                PassedOver(route=f"with {used}", code="need", reason=reason, facts=("uses",))
            )
    return tuple(unmet)


def _sides(
    loaded: Loaded, old: Machine, new: New, before: Sequence[_Recipe], *, ask: bool
) -> _Recipe:
    lenders = {side.loaded.id: side.finder for side in before}
    finder = Finder(old, loaded, ask_programs=ask, lenders=lenders)
    if new is None:
        return _Recipe(loaded, finder, SeenSide(finder), LaterSide())
    seen = {s.loaded.id: s.new.finder for s in before if isinstance(s.new, SeenSide)}
    side = (
        CardSide(new, loaded)
        if isinstance(new, Mapping)
        else SeenSide(Finder(new, loaded, ask_programs=ask, lenders=seen))
    )
    return _Recipe(loaded, finder, SeenSide(finder), side)


def _recipe(side: _Recipe) -> PlannedRecipe:
    loaded = side.loaded
    application = loaded.recipe.application
    told = {name: side.old.fact(name) for name in ("release", "edition")}
    return PlannedRecipe(
        id=loaded.id,
        old={name: str(fact.value) for name, fact in told.items() if isinstance(fact, Known)},
        places=side.finder.pinnable(),
        name=application.name,
        revision=loaded.recipe.revision,
        digest=loaded.digest,
    )


def _seen_station(station: Station, machine: Machine) -> PlannedStation:
    old = station == "old"
    return PlannedStation(
        station=station,
        machine=machine.name,
        identity=machine.identity,
        facts=dict(machine.facts()),
        roots={name: machine.root(name) for name in sorted(ROOTS)} if old else {},
        variables=variables_of_paths(machine) if old else {},
    )


def _new_station(new: New) -> PlannedStation:
    if new is None:
        return PlannedStation(
            station="new", machine=LaterSide.machine, identity="", facts={}, source="assumed"
        )
    if isinstance(new, Mapping):
        facts = {name: str(new[name]) for name in ("platform", "system", "user")}
        return PlannedStation(
            station="new",
            machine=str(new["machine"]),
            identity=str(new["identity"]),
            facts=facts,
            source="card",
        )
    return _seen_station("new", new)


def _not_here(side: _Recipe) -> str:
    name = side.loaded.recipe.application.name
    return f"{name} is not on {side.old.machine}, so there is nothing to move of it"


def _beyond(side: _Recipe) -> list[str]:
    application = side.loaded.recipe.application
    if application.releases is None:
        return []
    notices = []
    for one in (side.old, side.new):
        if not one.installed:
            continue
        where = f"{application.name} on {one.machine}"
        checked = f"the recipe is checked for {application.releases}"
        if one.release is None:
            notices.append(f"{where}: its release could not be read; {checked}")
            continue
        reach_bounds(side.loaded, application, "releases", application.releases, str(one.release))
        if one.release not in parse_releases(application.releases):
            notices.append(f"{where} is {one.release}; {checked}")
    return notices


def _subjects(side: _Recipe, draft: _Draft, choices: Choices) -> Iterator[_Subject]:
    for name, item in side.loaded.recipe.items.items():
        subject = f"{side.loaded.id}.{name}"
        if not choices.wants(subject):
            continue
        old, new = side.finder.place(item.from_), side.new.place(item.from_)
        if not isinstance(old, Several):
            yield _Subject(subject, name, side, side.finder, old, new)
            continue
        for path, reason in old.passed_over:
            draft.notices.append(f"{subject}: {path} is passed over: {reason}")
        if not old.instances:
            draft.notices.append(f"{subject}: none is there")
        for instance, partner, name_there in _paired(side, item, old, new):
            inner = side.finder.within(item.from_, instance)
            yield _Subject(
                f"{subject}[{instance.name}]",
                name,
                side,
                inner,
                inner.place(item.from_),
                partner,
                instance,
                name_there,
            )


def _paired(
    side: _Recipe, item: Item, old: Several, new: Where
) -> Iterator[tuple[Instance, Where, str]]:
    """Give each instance on old with the place on new it goes to, and the program's name there."""
    place = next(p for p in side.loaded.recipe.places[item.from_] if side.finder.holds(p.for_))
    if not isinstance(new, Several):
        yield from ((instance, new, instance.name) for instance in old.instances)
        return
    used = [instance.path for instance in new.instances]
    for matched in pair(old, new, place.pair or ("name", "register")):
        mine = matched.old
        if isinstance(matched, Pair):
            by = "register" if matched.new is None else matched.by
            reach(side.loaded, place, f"paired by {by}")
        if not isinstance(matched, Pair):
            yield mine, Nowhere("no rule of the recipe pairs it with one on new"), mine.name
        elif matched.new is not None:
            one = matched.new
            yield mine, Found(one.path, "folder", one.how, one.synced), one.name
        else:
            where = _apart(side, _registered(side, new, mine), used)
            used += [where.path] if isinstance(where, Absent | Found) else []
            yield mine, where, mine.name


def _apart(side: _Recipe, where: Where, used: Sequence[str]) -> Where:
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
    number, path = 1, f"{where.path} (from {side.old.machine})"
    while not is_free(path) or _is_there(side, path):
        number += 1
        path = f"{where.path} (from {side.old.machine} {number})"
    return Absent(path, "folder", where.how)


def _is_there(side: _Recipe, path: str) -> bool:
    return isinstance(side.new, SeenSide) and side.new.finder.machine.look(path) is not None


def _registered(side: _Recipe, new: Several, instance: Instance) -> Where:
    """Return where an instance that new does not have yet would lie there.

    That is at the same place below the folder of the list, else below the same root, else at the
    same path where that disk is there.
    """
    how = How(instance.how.rule, instance.how.case, new.source)
    folder = parent(instance.how.source)
    if new.source and instance.path.startswith(f"{folder}/"):
        return Absent(join(parent(new.source), instance.path[len(folder) :]), "folder", how)
    old = side.old
    roots = sorted(ROOTS, key=lambda name: (-len(old.root(name)), name))
    below = next((r for r in roots if instance.path.startswith(f"{old.root(r)}/")), None)
    path = instance.path
    if below is not None and side.new.root(below):
        path = join(side.new.root(below), instance.path[len(old.root(below)) :])
    if not side.new.has_disk_of(path):
        return Nowhere(f"it is not on new yet, and the disk of {path} is not there")
    there = _is_there(side, path)
    return Found(path, "folder", how) if there else Absent(path, "folder", how)


def _plan_item(
    subject: _Subject,
    subjects: Sequence[_Subject],
    draft: _Draft,
    choices: Choices,
    today: datetime,
) -> None:
    old = subject.old_place
    if isinstance(old, Absent) and subject.item.optional:
        nothing = f"it is optional, and there is nothing at {old.path}"
        draft.left.append(LeftItem(id=subject.id, title=_title(subject), nothing=nothing))
        return
    if not isinstance(old, Found):
        draft.obstacles.append(_lost(subject))
        return
    if there := _same_folder(subject, old):
        draft.left.append(LeftItem(id=subject.id, title=_title(subject), there=there))
        return
    carved = _carved(subject, subjects, draft)
    try:
        entries = _entries(subject, carved)
    except MachineUnusable as error:
        todo = "Give the account the right to read it, then plan again."
        draft.obstacles.append(
            Halted(error.what, where=error.where, why=error.why, todo=todo, codes=["unreadable"])
        )
        return
    except Unreadable as error:
        what = f"{subject.id} cannot be read"
        draft.obstacles.append(Halted(what, where=old.path, why=str(error), codes=["unreadable"]))
        return
    count, largest = tally(iter(entries)), max((e.size for e in entries), default=0)
    parts, narrowed, parts_left = _parts(subject, choices, draft)
    case = Case(
        subject.item,
        subject.finder,
        subject.side.old,
        subject.side.new,
        old,
        subject.new_place,
        count,
        largest,
        parts,
        narrowed,
        today,
    )
    chosen = choose_route(case)
    losses = _losses(subject, subject.item.losses, today)
    if isinstance(chosen, NoRoute):
        draft.left.append(_left(subject, chosen, losses))
        return
    if (lost := _without_disk(subject)) is not None:
        draft.obstacles.append(lost)
        return
    losses = (*losses, *_losses(subject, chosen.route.losses, today), *map(_told, chosen.rest))
    planned = _planned(subject, chosen, old, count, largest, parts_left, losses, carved)
    if subject.finder.machine.rules.has_modes and _is_private(subject, entries):
        draft.private.append(_title(subject))
    if copies(chosen.route) and all(entry.kind == "folder" for entry in entries):
        draft.notices.append(f"{subject.id}: there is nothing of it in {old.path}, so nothing goes")
    if copies(chosen.route) and not planned.single and not planned.store:
        platform = subject.side.new.fact("platform")
        known = platform.value if isinstance(platform, Known) else subject.finder.machine.platform
        renamed = changed_names(entries, str(known))
        renames = canonical(renamed).decode() if renamed else ""
        planned = planned.model_copy(update={"renames": renames})
    if planned.occupied and planned.existing == "stop":
        todo = "Move it away on new, then plan again."
        why = "the recipe says to stop where something is there already"
        what = f"{subject.id} cannot go in place"
        draft.obstacles.append(
            Halted(what, where=planned.new_path, why=why, todo=todo, codes=["existing"])
        )
    draft.items.append((planned, subject, chosen))


def _without_disk(subject: _Subject) -> Halted | None:
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


def _is_private(subject: _Subject, entries: Sequence[Entry]) -> bool:
    """Return whether something of an item may be read by nobody but the account."""
    place = subject.old_place
    if not isinstance(place, Found) or place.kind not in ("folder", "file"):
        return False
    top = subject.finder.machine.look(place.path)
    seen = [*entries, *([top] if top is not None else [])]
    return any(e.mode & 0o077 == 0 and e.kind in ("file", "folder") for e in seen)


def _take_once(draft: _Draft) -> None:
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
        entries = [e for e in _entries(subject, planned.carved) if e.kind != "folder"]
        place = planned.old_path
        paths = {
            e.path: key(place if planned.single else join(place, e.path), machine.platform)
            for e in entries
        }
        taken = [below for below, path in paths.items() if path in owners]
        owners |= {path: planned.id for path in paths.values() if path not in owners}
        number = next(n for n, (p, *_) in enumerate(draft.items) if p.id == planned.id)
        if taken and len(taken) == len(paths):
            what = f"{planned.id} takes nothing that {owners[paths[taken[0]]]} does not take too"
            todo = "Leave one of them out (--without), or give each a take of its own."
            draft.obstacles.append(Halted(what, where=place, todo=todo, codes=["claims"]))
        elif taken:
            carved = tuple(sorted({*planned.carved, *taken}))
            count = tally(iter(_entries(subject, carved)))
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


def _overlap(one: _Subject, other: _Subject) -> bool:
    """Return whether two items' places are one, or one lies in the other."""
    mine, theirs, platform = one.old_place, other.old_place, one.finder.machine.platform
    if not (isinstance(mine, Found) and isinstance(theirs, Found)):
        return False
    return is_within(mine.path, theirs.path, platform) or is_within(
        theirs.path, mine.path, platform
    )


def _neither(subjects: Sequence[_Subject]) -> Iterator[Neither]:
    """Give what of a place no item takes, nor any leaves on purpose."""
    by_place: dict[str, list[_Subject]] = {}
    for subject in subjects:
        if isinstance(subject.old_place, Found) and subject.old_place.kind == "folder":
            by_place.setdefault(subject.old_place.path, []).append(subject)
    for place, mine in by_place.items():
        machine = mine[0].finder.machine
        if not all(subject.item.take for subject in mine):
            continue
        known = Globs(
            [glob for s in mine for glob in (*s.item.take, *s.item.leave)],
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


def _find_written(draft: _Draft, sides: Sequence[_Recipe], choices: Choices, new: New) -> None:
    """Find where the items hold paths, and decide about what these name that does not move."""
    moved = [
        *(_as_moved(*item) for item in draft.items),
        *(place for side in sides for place in places_on_both(side.finder, side.new)),
    ]
    along: dict[str, str] = {}
    for number, (planned, subject, chosen) in enumerate(draft.items):
        place, machine = subject.old_place, subject.finder.machine
        if not isinstance(place, Found):
            continue
        written = written_at(subject.finder, subject.item, place, planned.carved)
        planned = planned.model_copy(update={"written": written})
        if copies(chosen.route):  # else its program carries it, and what it wrote is looked through
            bearings, there = bearings_of(new, machine)
            atlas = Atlas(machine, bearings, moved, there)
            named = look_at_paths(machine, place, written, atlas, planned.new_path or place.path)
            for path in along.keys() & named.outside.keys():  # another item takes it along
                del named.outside[path]
            draft.notices += [f"{subject.id}: {why}; its paths stay" for why in named.unread]
            verdict = choices.outside.get(f"{subject.side.loaded.id}.{subject.name}", "")
            if asked := [p for p, rule in named.outside.items() if rule == "ask" and not verdict]:
                what = f"{subject.id} names {some_of(asked)}, which does not move"
                todo = f"Say --outside {subject.name}=carry, or {subject.name}=leave."
                why = "whether it goes along is asked"
                draft.obstacles.append(Halted(what, why=why, todo=todo, codes=["outside"]))
            taken = [] if planned.single else [e.path for e in _entries(subject, planned.carved)]
            title = subject.side.loaded.recipe.application.name
            planned = with_outside(planned, machine, named, verdict, taken, title)
            along |= dict.fromkeys(planned.from_outside.values(), planned.id)
        draft.items[number] = planned, subject, chosen


def _as_moved(planned: PlannedItem, subject: _Subject, chosen: Chosen) -> Moved:
    """Return an item's place as it moves, with what of it is carried."""
    takes = None
    if copies(chosen.route) and not planned.single and not planned.store:
        paths = (entry.path for entry in _entries(subject, planned.carved))
        takes = taking(paths, subject.finder.machine.platform)
    new = planned.new_path or planned.old_path
    return Moved(planned.old_path, new, True, planned.renamed, takes)


def _same_folder(subject: _Subject, old: Found) -> str:
    """Return the name of the folder that both machines see as the place, if it is one."""
    new = subject.new_place
    mine = subject.side.old.shared(old.path)
    theirs = subject.side.new.shared(new.path) if isinstance(new, Found | Absent) else ""
    return mine if mine and mine == theirs else ""


def _entries(subject: _Subject, carved: Sequence[str]) -> list[Entry]:
    place = subject.old_place
    assert isinstance(place, Found)
    return entries_of(subject.finder.machine, subject.item, place, carved)[0]


def _carved(subject: _Subject, subjects: Sequence[_Subject], draft: _Draft) -> tuple[str, ...]:
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
                what = f"{subject.id} and {other.id} claim one place"
                draft.obstacles.append(Halted(what, where=old.path, todo=todo, codes=["claims"]))
        elif inside and not other.item.take:
            carved.append(place.path[len(old.path) :].strip("/"))
    carved += own_below(subject.finder.machine, old.path)
    return tuple(sorted(set(carved)))


def _parts(
    subject: _Subject, choices: Choices, draft: _Draft
) -> tuple[dict[str, tuple[str, ...]], frozenset[str], dict[str, tuple[str, ...]]]:
    """Return the values chosen of each part, the parts narrowed by choice, and what is left."""
    parts: dict[str, tuple[str, ...]] = {}
    left: dict[str, tuple[str, ...]] = {}
    for part in subject.item.parts:
        chosen = choices.parts.get(f"{subject.side.loaded.id}.{subject.name}.{part}")
        there = subject.finder.part_values(part, subject.item)
        if isinstance(there, Unknown):
            draft.notices.append(f"{subject.id}: which {part} there are is {there}")
            continue
        unknown = [value for value in chosen or () if value not in there]
        if unknown:
            why = f"there are: {', '.join(there) or 'none'}"
            what = f"there is no {part} {', '.join(unknown)} in {subject.id}"
            draft.obstacles.append(
                Halted(what, why=why, todo="Choose among these.", codes=["choice"])
            )
        parts[part] = there if chosen is None else tuple(v for v in there if v in chosen)
        if parts[part] != there:
            left[part] = tuple(v for v in there if v not in parts[part])
    return parts, frozenset(left), left


def _title(subject: _Subject) -> str:
    named = f" – {subject.instance.name}" if subject.instance is not None else ""
    return f"{subject.side.loaded.recipe.application.name}: {subject.item.title}{named}"


def _losses(subject: _Subject, losses: Sequence[Loss], today: datetime) -> tuple[Loss, ...]:
    """Return the losses that are: one whose condition cannot be judged is told too."""
    return tuple(_told(loss) for loss in losses if _happens(subject, loss, today))


def _told(loss: Loss) -> Loss:
    """Return a loss as a plan tells it: its conditions were judged, its proof is the recipe's."""
    return loss.model_copy(update={"when": {}, "proof": {}})


def _happens(subject: _Subject, loss: Loss, today: datetime) -> bool:
    for name, condition in loss.when.items():
        answer = subject.finder.reading(name)
        known = None if isinstance(answer, Unknown) else answer.value
        if known is not None and not condition_holds(condition, known, None, today):
            reach(subject.side.loaded, loss, "is none")
            return False
    reach(subject.side.loaded, loss, "is one")
    return True


def _planned(
    subject: _Subject,
    chosen: Chosen,
    old: Found,
    count: Tally,
    largest: int,
    parts_left: dict[str, tuple[str, ...]],
    losses: tuple[Loss, ...],
    carved: tuple[str, ...],
) -> PlannedItem:
    item, new = subject.item, subject.new_place
    kind = store_kind(item, old.path, old.kind)
    there = new if isinstance(new, Found | Absent) else None
    later = "found when new is walked" if subject.side.new.source == "assumed" else str(new)
    retired = f"Rename {old.path}, so that nobody works in it by accident."
    tasks = [f"On {subject.side.old.machine}, when all is well: {retired}"] if item.retire else []
    tasks += _to_register(subject, chosen.route)
    return PlannedItem(
        id=subject.id,
        recipe=subject.side.loaded.id,
        item=subject.name,
        instance=subject.instance.name if subject.instance is not None else "",
        title=_title(subject),
        kind=item.kind,
        route=chosen.route.name,
        existing=_existing(chosen.route, kind),
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
        files=count.files,
        size=count.size,
        largest=largest,
        passed_over=chosen.passed_over,
        met=chosen.met,
        assumed=chosen.assumed,
        parts={k: v for k, v in chosen.parts.items() if v},
        parts_left=parts_left,
        carved=carved,
        awaited=tuple(f"{name} is {c}" for name, c in sorted(chosen.route.await_.items())),
        losses=losses,
        tasks=tuple(tasks),
    )


def _to_register(subject: _Subject, route: Route) -> Iterator[str]:
    """Give the task of listing an instance that new's program does not know, where copying it does
    not do that."""
    new, instance = subject.new_place, subject.instance
    case = subject.finder.case_of(subject.item.from_)
    listed = case is not None and case.index is not None
    rules = [RULES[s.kind] for leg in route.legs for s in leg.steps if leg.station == "new"]
    known = isinstance(new, Found) and new.how.rule == "index"
    if instance is None or not listed or known or not isinstance(new, Absent | Found):
        return
    if any(r.carries for r in rules) and not any(r.makes_known for r in rules):
        name = subject.side.loaded.recipe.application.name
        yield (
            f"On {subject.side.new.machine}: add {new.path} to what {name} lists, as "
            f"“{instance.name}”; copying it there does not do that"
        )


def _existing(route: Route, kind: StoreKind | None) -> Existing:
    """Return what happens to what is there: values are merged where the recipe does not say."""
    merged = kind is not None and "existing" not in route.model_fields_set
    return "overwrite" if merged else route.existing


def _occupied(subject: _Subject) -> bool:
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


def _lost(subject: _Subject) -> Halted:
    where, machine = subject.old_place, subject.finder.machine
    spot = where.path if isinstance(where, Absent) else ""
    why = f"it is {where.how}" if isinstance(where, Absent) else str(where)
    place = subject.item.from_
    what = f'there is nothing at the place "{place}" of {subject.id} on {machine.name}'
    todo = (
        "If it lies on a disk that is not connected, connect it and plan again; "
        f"else leave it out with --without {subject.id}."
    )
    return Halted(what, where=spot, why=why, todo=todo, codes=[NOT_THERE])


def _left(subject: _Subject, chosen: NoRoute, losses: tuple[Loss, ...]) -> LeftItem:
    application = subject.side.loaded.recipe.application
    todo = ""
    if subject.side.new.installed is False:
        where = subject.side.new.machine
        todo = f"Install {application.name} on {where}, start it once, close it and plan again."
    elif chosen.passed_over:
        todo = "Change what the reasons name, then plan again."
    return LeftItem(
        id=subject.id,
        title=_title(subject),
        passed_over=chosen.passed_over,
        losses=(*losses, *map(_told, chosen.rest)),
        todo=todo,
    )


def _left_obstacle(item: LeftItem) -> Halted:
    if item.nothing:
        return Halted(f"{item.title}: there is nothing of it", why=item.nothing, codes=[NOT_THERE])
    if item.there:
        return Halted(
            f"{item.title} is there already",
            why=f"both machines see {item.there}",
            codes=["there already"],
        )
    reasons = "; ".join(f"{p.route}: {p.reason}" for p in item.passed_over)
    codes = dict.fromkeys(code for p in item.passed_over for code in p.codes)
    return Halted(
        f"{item.title} cannot be carried", why=reasons, todo=item.todo, codes=tuple(codes)
    )


def _unfold(draft: _Draft, today: datetime) -> None:
    """Unfold every item; what uses another recipe or lies inside an item comes after it on new."""
    unfolded: dict[str, list[Step]] = {}
    for planned, subject, chosen in draft.items:
        loaded = subject.side.loaded
        try:
            unfolded[planned.id] = unfold_steps(planned, loaded, chosen, subject.finder, today)
        except Halted as error:
            unfolded[planned.id] = []
            draft.obstacles.append(error)
    for planned, subject, _ in draft.items:
        uses = subject.side.loaded.recipe.uses
        waits = [
            step.id
            for other, its, _ in draft.items
            if other.recipe in uses
            or _inside(planned, other, subject)
            or (_names_it(planned, other) and not _inside(other, planned, its))
            for step in unfolded[other.id]
            if step.station == "new"
        ]
        draft.steps.extend(
            _later(step, waits) if step.station == "new" and waits else step
            for step in unfolded[planned.id]
        )


def _plan_licences(
    side: _Recipe,
    by_id: Mapping[str, _Recipe],
    draft: _Draft,
    choices: Choices,
    today: datetime,
    *,
    sealed: bool,
) -> None:
    for name, licence in side.loaded.recipe.licences.items():
        subject = f"{side.loaded.id}.{name}"
        if not choices.wants(subject):
            continue
        application = side.loaded.recipe.application
        title = f"{application.name}: {licence.title}"
        unmet = _unmet_uses(side, by_id)
        if side.finder.machine.read_only:
            why = f"nothing on {side.old.machine} may be changed, so no seat is released there"
            unmet = (PassedOver(route="any", code="need", reason=why, facts=("read_only",)),)
        chosen = (
            NoRoute(unmet) if unmet else choose_way(licence, side.finder, side.old, side.new, today)
        )
        if isinstance(chosen, NoRoute):
            todo = "Change what the reasons name, then plan again; until then it stays on old."
            if side.new.installed is False:
                todo = f"Install {application.name} on {side.new.machine}, then plan again."
            losses = tuple(map(_told, licence.losses))
            draft.left.append(
                LeftItem(
                    id=subject,
                    title=title,
                    passed_over=chosen.passed_over,
                    losses=losses,
                    todo=todo,
                )
            )
            continue
        if not sealed and licence.serial is not None:
            draft.obstacles.append(
                Halted(
                    f"the licence of {application.name} needs a sealed parcel",
                    why="its serial travels in it",
                    todo=f"Plan with --seal, or leave it out with --without {subject}.",
                    codes=["sealed"],
                )
            )
        losses = tuple(map(_told, (*licence.losses, *chosen.route.losses)))
        planned = planned_licence(subject, side.loaded.id, name, title, chosen, losses)
        draft.licences.append((planned, side, chosen.route))


def _unfold_licences(draft: _Draft, choices: Choices, old: str, new: New) -> None:
    """Unfold every licence: its seat moves after what its program and those it uses need on new."""
    machine = _new_station(new).machine
    packed = tuple(s.id for s in draft.steps if s.station == "old" and not act_of(s).comes_last)
    by_recipe: dict[str, list[str]] = {}
    for item, *_ in draft.items:
        mine = (s.id for s in draft.steps if s.item == item.id and s.station == "new")
        by_recipe.setdefault(item.recipe, []).extend(mine)
    for planned, side, route in draft.licences:
        uses = side.loaded.recipe.uses
        needed = [s for of in (*uses, planned.recipe) for s in by_recipe.get(of, ())]
        steps = unfold_licence(
            planned,
            side.loaded,
            route,
            (old, machine),
            tuple(needed),
            packed if choices.release_after == "packing" else None,
        )
        draft.steps.extend(steps)
        mine = (s.id for s in steps if s.station == "new")
        by_recipe.setdefault(planned.recipe, []).extend(mine)


def _inside(inner: PlannedItem, outer: PlannedItem, subject: _Subject) -> bool:
    platform = subject.finder.machine.platform
    deeper = len(inner.old_path) > len(outer.old_path)
    return deeper and outer.whole and is_within(inner.old_path, outer.old_path, platform)


def _names_it(planned: PlannedItem, other: PlannedItem) -> bool:
    """Return whether an item may name files of another that get another name as they arrive."""
    if planned.id == other.id or planned.recipe != other.recipe or other.existing != "alongside":
        return False
    both = planned.existing == "alongside" and bool(other.written)
    return bool(planned.written) and (not both or other.id < planned.id)


def _later(step: Step, waits: Sequence[str]) -> Step:
    return step.model_copy(update={"after": tuple(dict.fromkeys([*step.after, *waits]))})


def _itinerary(draft: _Draft) -> Itinerary | None:
    """Return the itinerary of all steps; a circle among them is an obstacle."""
    try:
        return find_itinerary(draft.steps)
    except Circle as error:
        todo = "Take one of the uses out, or leave a recipe out."
        what = "steps wait for each other in a circle"
        draft.obstacles.append(
            Halted(what, why=", ".join(error.steps[:6]), todo=todo, codes=["circle"])
        )
        return None


_Leg = tuple[Station, tuple[str, ...]]


def _with_retiring(draft: _Draft, itinerary: Itinerary) -> list[_Leg]:
    """Return the legs with each retiring that rides on a visit of old that is made anyway.

    Where there is none, retiring stays the person's task.
    """
    legs: list[_Leg] = [(station, tuple(steps)) for station, steps in itinerary.legs]
    for number, (planned, subject, chosen) in enumerate(draft.items):
        if not subject.item.retire:
            continue
        mine = [s.id for s in draft.steps if s.item == planned.id]
        done = max((n for n, (_, steps) in enumerate(legs) if set(mine) & set(steps)), default=0)
        new_done = max(
            (
                n
                for n, (station, steps) in enumerate(legs)
                if station == "new" and set(mine) & set(steps)
            ),
            default=-1,
        )
        back = [n for n in range(max(done, new_done), len(legs)) if legs[n][0] == "old"]
        if new_done < 0 or not back or subject.finder.machine.read_only:
            continue
        name = literal(subject.side.new.machine)
        step = retire_step(planned.id, literal(planned.old_path), name, tuple(mine))
        draft.steps.append(step)
        legs[back[-1]] = ("old", (*legs[back[-1]][1], step.id))
        told = {"tasks": planned.tasks[1:]}
        draft.items[number] = (planned.model_copy(update=told), subject, chosen)
    return legs


def _detach_last(draft: _Draft, legs: Sequence[_Leg]) -> None:
    """Say where the medium would be taken away while another station still needs it."""
    for step in draft.steps:
        later = [station for station, steps in legs[:-1] if step.id in steps]
        if act_of(step).takes_medium and later:
            what = f"{step.item} takes the medium away while another station still needs it"
            todo = "Leave the item out, or move the recipe's detach to its last leg."
            draft.obstacles.append(Halted(what, where=step.id, todo=todo, codes=["detach"]))


def _room(draft: _Draft, medium: Medium, new: New) -> int:
    """Judge the room on the medium and on new; return the bytes the parcel needs at most."""
    carried = [
        (item, subject, chosen)
        for item, subject, chosen in draft.items
        if uses_parcel(chosen.route)
    ]
    size = PARCEL_ROOM + sum(i.size + i.files * ENTRY_ROOM for i, _, _ in carried)
    if size > medium.free:
        what = f"the medium {medium.name} is too small"
        why = f"the parcel needs {show_size(size)}, and {show_size(medium.free)} are free"
        todo = f"Take a larger medium, or make room on this one{_other_way(carried)}."
        draft.obstacles.append(Halted(what, why=why, todo=todo, codes=["room"]))
    for step in draft.steps:
        for made in step.writes:
            name = base(plain(made))
            trouble = trouble_with_name(name, STRICTEST) if step.commands else ""
            if trouble:
                what = f"a medium cannot hold the name {name!r} that {step.item} makes"
                todo = "Choose another value, or leave the item out."
                draft.obstacles.append(
                    Halted(what, why=f"it {trouble}", todo=todo, codes=["names"])
                )
    if new is not None and not isinstance(new, Mapping):
        placed = [i for i, _, chosen in carried if copies(chosen.route) and not i.store]
        amounts = [(i.new_path, i.size + i.files * ENTRY_ROOM) for i in placed]
        draft.obstacles.extend(full_volumes(new, amounts, "Make room there, then plan again."))
    return size


def _other_way(carried: Sequence[tuple[PlannedItem, _Subject, Chosen]]) -> str:
    """Return words for a route that needs no room on the medium, of the largest item."""
    for item, subject, _ in sorted(carried, key=lambda entry: (-entry[0].size, entry[0].id)):
        for route in subject.item.routes:
            if not uses_parcel(route):
                return f'; {item.id} could also go by "{route.name}", which needs none'
    return ""


def _sooner(draft: _Draft, itinerary: Itinerary, choices: Choices, *, unseen: bool) -> None:
    """Say how many trips it would save to release licences once all is packed."""
    if not draft.licences:
        return
    if choices.release_after == "packing":
        if unseen:
            draft.notices.append(
                "the licence is released before it is known which computer new is: walk this "
                "parcel on one alone, since a copy of it would claim the licence elsewhere too"
            )
        return
    seen = {s.id for s in draft.steps if isinstance(s, SeatStep) and s.act == "ready"}
    before = (s for s in draft.steps if act_of(s).packs or act_of(s).notes)
    packed = tuple(s.id for s in before if s.station == "old")
    steps = [
        s.model_copy(update={"station": "old", "after": packed}) if s.id in seen else s
        for s in draft.steps
    ]
    saved = len(itinerary.legs) - len(find_itinerary(steps, most=2_000).legs)
    if saved > 0:
        trips = "a trip" if saved == 1 else f"{saved} trips"
        draft.notices.append(
            f"releasing after packing (--release-after packing) would save {trips}; old would be "
            "without its licence before anything is seen to have arrived"
        )


def _cheaper(draft: _Draft, itinerary: Itinerary, today: datetime) -> None:
    """Say which other route of one item would save a trip; routes are never chosen by trips."""
    for planned, subject, chosen in draft.items:
        others = [r for r in subject.item.routes if r.name != chosen.route.name]
        passed = {p.route for p in planned.passed_over}
        for route in others:
            if route.name in passed:
                continue
            other = Chosen(route, (), (), (), chosen.parts, ())
            mine = f"{planned.id}/"
            steps = [s for s in draft.steps if not s.id.startswith(mine)]
            kept = {s.id for s in steps}
            steps = [
                s.model_copy(update={"after": tuple(a for a in s.after if a in kept)})
                for s in steps
            ]
            steps += unfold_steps(planned, subject.side.loaded, other, subject.finder, today)
            legs = len(find_itinerary(steps, most=2_000).legs)
            if legs < len(itinerary.legs):
                saved = len(itinerary.legs) - legs
                trips = "a trip" if saved == 1 else f"{saved} trips"
                draft.notices.append(f'{planned.id} by "{route.name}" would save {trips}')
