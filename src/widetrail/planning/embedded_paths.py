"""Where an item holds paths of the machine, and what becomes of what they name; seen on old."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import field

from widetrail.errors import MachineUnusable
from widetrail.finding import Absent, Atlas, CardFacts, Finder, Found, Moved, Selection
from widetrail.finding.atlas import Elsewhere, Kept, Rewritten, Unsayable, below_of
from widetrail.finding.globbing import has_glob, matching
from widetrail.finding.path_values import values_at
from widetrail.finding.stores import store_kind
from widetrail.formats import Unreadable, canonical
from widetrail.formats.forms import FORMS
from widetrail.formats.registry import full_key
from widetrail.lazily import dataclass
from widetrail.machine import Machine
from widetrail.machine.path_notation import Bearings, KnownBearings, is_there, read_written
from widetrail.machine.paths import base, join, key
from widetrail.machine.platforms import STRICTEST
from widetrail.planning.plan import PlannedItem
from widetrail.planning.renamed_files import numbered
from widetrail.planning.station_facts import New, Side
from widetrail.recipe import Item, Loss
from widetrail.recipe.by_platform import PerPlatform
from widetrail.recipe.templates import ROOTS, as_segment
from widetrail.steps import WrittenAt
from widetrail.steps.publish_step import OUTSIDE


def written_at(
    finder: Finder, item: Item, place: Found, carved: tuple[str, ...]
) -> tuple[WrittenAt, ...]:
    """Return where an item holds paths: what it declares, and what tells the recipe's places."""
    taken = Selection(item, finder.machine.platform, carved)
    found: list[WrittenAt] = []

    def add(form: str, where: str | PerPlatform | None, at: str, **more: object) -> None:
        path = finder.choice(where)
        below = below_of(path, place.path, finder.machine.platform) if path is not None else None
        if below is None:
            return
        file = "/".join(below)
        if place.kind not in ("folder", "file"):  # a file's form says nothing of a store here
            return
        if store_kind(item, place.path, place.kind) not in (None, form):
            return
        if place.kind == "folder" and (not file or not (has_glob(file) or taken(file))):
            return
        found.append(WrittenAt.model_validate({"form": form, "file": file, "at": at, **more}))

    for rule in item.paths:
        if not finder.holds(rule.for_):
            continue
        more = {"missing_too": rule.missing == "map", "prefixes": rule.prefix}
        if FORMS[rule.form].is_store:
            at = _inside(rule.form, str(rule.where), rule.at)
            found.append(WrittenAt(form=rule.form, file="", at=at, outside=rule.outside, **more))
        else:
            said = "outside" in rule.model_fields_set
            add(rule.form, rule.where, rule.at, outside=rule.outside, outside_said=said, **more)
    for name in finder.loaded.recipe.places:
        case = finder.case_of(name)
        told = case.set_in if case is not None else None
        if told is not None and finder.holds(told.for_):
            if place.kind == "key" and told.key is not None:
                at = _inside("registry", told.key, told.at or "")
                found.append(WrittenAt(form="registry", file="", at=at, tells=name))
            elif FORMS[told.form].spots is not None:
                add(told.form, told.where, told.at or "", tells=name)
        listed = case.listed_in if case is not None else None
        if listed is not None and FORMS[listed.form].spots is not None:
            add(listed.form, listed.where, listed.at or "")
        if case is not None and case.index is not None:
            index, form = case.index, FORMS[case.index.form]
            if form.entry_at is not None:  # a query does not say where its values come from
                add(index.form, index.where, form.entry_at(index.at, index.path))
    return tuple(found)


def _inside(form: str, where: str, at: str) -> str:
    return f"{full_key(where)}\\{at}" if form == "registry" else f"{where.rstrip('/')}/{at}"


@dataclass
class Named:
    """What an item's files name beyond what moves: by their paths on old, with what decides.

    ``left_out`` lies in a place that moves, and does not go with it; it tells whether the recipe
    says what becomes of it.
    """

    outside: dict[str, str] = field(default_factory=dict)
    left_out: dict[str, bool] = field(default_factory=dict)
    unsayable: dict[str, str] = field(default_factory=dict)
    unread: list[str] = field(default_factory=list)

    def take(self, found: tuple[str, str], rule: WrittenAt) -> None:
        """Take note of what a value names that is left out: a file can go along, if it is to."""
        path, kind = found
        if path and kind == "file" and rule.outside != "leave":
            self.outside.setdefault(path, rule.outside)
        elif path:
            self.left_out[path] = rule.outside_said or self.left_out.get(path, False)


def _left_out(machine: Machine, text: str, source: str, atlas: Atlas) -> tuple[str, str]:
    """Return what a value names that is there on old and does not arrive, with its kind."""
    written, _ = read_written(text.strip(), machine, source) if text.strip() else (None, "")
    if written is None or atlas.arrives(written.path):
        return "", ""
    try:
        there = machine.look(written.path)
    except MachineUnusable:
        there = None
    return (written.path, there.kind) if there is not None else ("", "")


def look_at_paths(
    machine: Machine, place: Found, written: Iterable[WrittenAt], atlas: Atlas, new_path: str
) -> Named:
    """Return what of the paths in an item's files does not move, or cannot be said on new."""
    named = Named()
    for rule in written:
        if rule.tells or FORMS[rule.form].is_store:
            continue
        try:
            files = _files(machine, place.path, rule.file)
            for path in files:
                below = path[len(place.path) :].strip("/")
                for spot in values_at(machine, path, rule.form, rule.at):
                    told = atlas.translate(spot.text, path, join(new_path, below), rule.how)
                    if isinstance(told, Kept | Rewritten):
                        _, text, _ = rule.how.parted(spot.text)
                        named.take(_left_out(machine, text, path, atlas), rule)
                    elif isinstance(told, Elsewhere):
                        named.outside.setdefault(told.path, rule.outside)
                    elif isinstance(told, Unsayable):
                        named.unsayable.setdefault(told.path, told.why)
        except (Unreadable, MachineUnusable) as error:
            named.unread.append(f"{join(place.path, rule.file)} {error}")
    return named


def _files(machine: Machine, place: str, file: str) -> list[str]:
    path = join(place, file)
    if has_glob(file):
        return [found for found, entry in matching(machine, path) if entry.kind == "file"]
    return [path] if machine.look(path) is not None else []


def _names_outside(
    machine: Machine, paths: Iterable[str], taken: Iterable[str], folder: str
) -> tuple[Mapping[str, str], tuple[str, ...]]:
    """Return what each file that is carried from elsewhere becomes in ``folder``, by that name, and
    the paths that are no file that could go.

    ``taken`` are the paths below the place that are there already.
    """
    used = {key(path, STRICTEST) for path in taken}
    becomes: dict[str, str] = {}
    cannot: list[str] = []
    for path in sorted(paths):
        try:
            entry = machine.look(path)
        except MachineUnusable:
            entry = None
        if entry is None or entry.kind != "file":
            cannot.append(path)
            continue
        name, number = as_segment(base(path)), 2
        while key(f"{folder}/{name}", STRICTEST) in used:
            name, number = numbered(as_segment(base(path)), number), number + 1
        used.add(key(f"{folder}/{name}", STRICTEST))
        becomes[f"{folder}/{name}"] = path
    return becomes, tuple(cannot)


def with_outside(
    planned: PlannedItem,
    machine: Machine,
    named: Named,
    verdict: str,
    taken: Sequence[str],
    title: str,
) -> PlannedItem:
    """Return an item with the files elsewhere that go along, and with what stays as a loss.

    ``verdict`` is what the person says of all of them, if anything; ``taken`` are the paths below
    the place that are there already, ``title`` what the application is called.
    """
    wanted = [p for p, rule in named.outside.items() if (verdict or rule) == "carry"]
    folder = f"{base(planned.old_path)}.{OUTSIDE}" if planned.single else OUTSIDE
    becomes, cannot = _names_outside(machine, wanted, taken, folder)
    stay = sorted({*named.outside} - {*becomes.values()} | {*cannot})
    losses = list(planned.losses)
    if named.left_out:
        what = (
            f"files that it refers to and the recipe excludes ({some_of(sorted(named.left_out))})"
        )
        losses.append(Loss(what=what, remedy=f"Copy it yourself, or choose it again in {title}."))
    if stay:
        what = f"files elsewhere that it refers to ({some_of(stay)})"
        remedy = f"Those paths stay as they are; copy it yourself, or choose it again in {title}."
        losses.append(Loss(what=what, remedy=remedy))
    if named.unsayable:
        why = next(iter(named.unsayable.values()))
        some = some_of(sorted(named.unsayable))
        what = f"paths that do not work on the new computer ({some}: it {why})"
        losses.append(Loss(what=what, remedy=f"Choose them again in {title}."))
    sizes = [e.size for p in becomes.values() if (e := machine.look(p)) is not None]
    update = {
        "outside": canonical(becomes).decode() if becomes else "",
        "dangling": tuple(sorted(path for path, said in named.left_out.items() if not said)),
        "losses": tuple(losses),
        "files": planned.files + len(becomes),
        "size": planned.size + sum(sizes),
        "largest": max([planned.largest, *sizes]),
    }
    return planned.model_copy(update=update)


def some_of(paths: Sequence[str], most: int = 3) -> str:
    """Return the first paths, and how many more there are."""
    more = f" and {len(paths) - most:,} more" if len(paths) > most else ""
    return f"{', '.join(paths[:most])}{more}"


def places_on_both(old: Finder, new: Side) -> Iterator[Moved]:
    """Give the places of a recipe that are one folder or file on both machines."""
    for name, path in old.pinnable().items():
        there = new.place(name)
        if isinstance(there, Found | Absent) and there.kind in ("folder", "file"):
            yield Moved(path, there.path, carried=False)


def bearings_of(new: New, old: Machine) -> tuple[Bearings, Callable[[str], bool]]:
    """Return what is known of new's paths, and what tells whether something is at one there.

    Of a new machine that nothing is known of yet, it is supposed to be as old.
    """
    if new is None:
        roots = {name: old.root(name) for name in ROOTS}
        return KnownBearings("", old.platform, roots), lambda path: False
    if isinstance(new, CardFacts):
        told = KnownBearings(new.machine, new.platform, new.roots)
        return told, lambda path: False
    return new, lambda path: is_there(new, path)
