"""The places of a program, told from the files that it needs: folders below roots, or told ones."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import field

from widetrail.lazily import dataclass
from widetrail.machine import FolderMachine
from widetrail.machine.paths import base, is_within, key
from widetrail.recipe.templates import ROOTS
from widetrail.tracing.classes import TAKEN, Classed
from widetrail.tracing.lists import entry_of
from widetrail.tracing.own_folder import own_folder
from widetrail.tracing.record import Part, Tells


@dataclass
class DraftPlace:
    """A place as it is drafted: its name, its path on the machine, and where it is told.

    ``template`` is its path below a root, empty where that is not known; ``used`` are the files in
    it that the program uses, each with its class. ``others`` are further places that the same list
    names.
    """

    name: str
    path: str
    template: str
    folder: bool
    told: Tells | None = None
    used: list[Classed] = field(default_factory=list)
    others: list[Tells] = field(default_factory=list)

    @property
    def listed(self) -> tuple[str, str] | None:
        """Where the list stands that names it among others, and by which key; else ``None``."""
        return entry_of(self.told.value.at) if self.told is not None else None

    @property
    def paths(self) -> tuple[str, ...]:
        """All places it stands for on the machine."""
        return (self.path, *(told.place for told in self.others))

    def holds(self, path: str, machine: FolderMachine) -> bool:
        """Return whether a path is at or below it."""
        return any(is_within(path, one, machine.platform) for one in self.paths)

    def rest(self, path: str) -> str:
        """Return what of a path is below it, with the ``/`` before it."""
        above = [one for one in self.paths if path == one or path.startswith(f"{one}/")]
        return path[len(max(above, key=len, default=path)) :]

    @property
    def taken(self) -> list[Classed]:
        return [one for one in self.used if one.kind in TAKEN]

    @property
    def left(self) -> list[Classed]:
        return [one for one in self.used if one.kind not in TAKEN]


def template_of(machine: FolderMachine, path: str) -> str:
    """Return a path as a recipe has it, below the nearest root, or an empty text."""
    roots = [(machine.root(name), name) for name in sorted(ROOTS)]
    above = [r for r in roots if r[0] and is_within(path, r[0], machine.platform)]
    if not above:
        return ""
    root, name = max(above, key=lambda r: (len(r[0]), -_ORDER.get(r[1], 9)))
    return f"{{{name}}}{path[len(root.rstrip('/')) :]}"


_ORDER = {"config": 0, "data": 1, "documents": 2}
"""Which root is named where several are one folder."""


def draft_places(
    machine: FolderMachine, used: Sequence[Classed], tells: Sequence[Tells], program: str
) -> list[DraftPlace]:
    """Return the places that hold all files to be taken, told ones first."""
    found: list[DraftPlace] = []
    for told in _proved(tells):
        if (same := next((p for p in found if _of_one_list(p, told)), None)) is not None:
            same.others.append(told)
            continue
        template = template_of(machine, told.place) if not told.default else ""
        default = template_of(machine, told.default) if told.default else template
        found.append(DraftPlace("", told.place, default, told.folder, told))
    taken = {one.path for one in used if one.kind in TAKEN}
    rest = [one.path for one in used if one.path in taken and _holder(machine, found, one) is None]
    everything = {key(one.path, machine.platform) for one in used}
    for path in rest:
        if any(place.holds(path, machine) for place in found):
            continue
        if (folder := own_folder(machine, path, everything, program)) is not None:
            found.append(DraftPlace("", folder, template_of(machine, folder), folder=True))
        else:
            found.append(DraftPlace("", path, template_of(machine, path), folder=False))
    for one in used:
        if (place := _holder(machine, found, one)) is not None:
            place.used.append(one)
    kept = [place for place in found if place.taken]
    _name_all(kept)
    return kept


def _of_one_list(place: DraftPlace, told: Tells) -> bool:
    listed = entry_of(told.value.at)
    if place.told is None or listed is None or place.told.value.path != told.value.path:
        return False
    return place.listed == listed


def _proved(tells: Sequence[Tells]) -> Iterator[Tells]:
    """Give the best proof of each place that was moved."""
    best: dict[str, Tells] = {}
    for told in sorted(tells, key=lambda t: ("whole", "part", "no").index(t.proved)):
        if told.proved != "no":
            best.setdefault(told.place, told)
    yield from best.values()


def _holder(
    machine: FolderMachine, places: Iterable[DraftPlace], one: Classed
) -> DraftPlace | None:
    """Return the innermost place that holds a file."""
    holding = [p for p in places if p.holds(one.path, machine)]
    return max(holding, key=lambda p: len(p.path), default=None)


def _name_all(places: Sequence[DraftPlace]) -> None:
    taken: set[str] = set()
    for place in places:
        settings = all(one.kind in ("setting", "index") for one in place.taken)
        told = "settings" if settings and place.folder else base(place.path)
        plain = re.sub(r"[^a-z0-9]+", "_", told.casefold()).strip("_") or "kept"
        plain = plain if plain[0].isalpha() else f"kept_{plain}"
        name, number = plain, 2
        while name in taken:
            name, number = f"{plain}_{number}", number + 1
        place.name = name
        taken.add(name)


def within(places: Sequence[DraftPlace], machine: FolderMachine, part: Part) -> str:
    """Return the file of a value as a recipe names it: below a place, or below a root."""
    for place in sorted(places, key=lambda p: -len(p.path)):
        if place.holds(part.path, machine):
            return f"{{{place.name}}}{place.rest(part.path)}"
    return template_of(machine, part.path)
