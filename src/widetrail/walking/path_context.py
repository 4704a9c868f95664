"""What old's paths are here, lent to steps; see ``steps.contexts.Paths``."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from functools import cached_property

from widetrail.finding import (
    Absent,
    Atlas,
    Found,
    Moved,
)
from widetrail.finding.atlas import taking
from widetrail.formats.interface import Platform
from widetrail.machine.path_notation import KnownBearings, is_there
from widetrail.machine.paths import base, is_absolute, is_within, join, parent
from widetrail.planning import PlannedItem
from widetrail.walking.cargo_context import CargoContext


class PathContext(CargoContext):
    """What old's paths are on this machine, and what of the items came there under which name."""

    def atlas(self, item: str, target: str, came_as: Mapping[str, str] | None = None) -> Atlas:
        mine, old = self.planned(item), self.plan.station("old")
        bearings = KnownBearings(old.machine, self.platform_of_old, old.roots, old.variables)
        placed = (mine, *(i for i in self.plan.placed if i.id != item))
        to = {i.id: self._beside(i.id) or i.new_path for i in placed} | {item: target}
        moved = [
            self._moved(i, to[i.id], (came_as or {}) if i.id == item else self._came_as(i.id))
            for i in placed
        ]
        for recipe in self.plan.recipes:
            here = self.finders[recipe.id].pinnable()
            moved += [
                Moved(path, here[name], carried=False)
                for name, path in recipe.places.items()
                if name in here
            ]
        for i in self.plan.placed:
            moved += [Moved(path, new) for path, new in i.outside_at(to[i.id]).items()]
        return Atlas(bearings, self.machine, moved, lambda path: is_there(self.machine, path))

    def _moved(self, item: PlannedItem, target: str, came_as: Mapping[str, str]) -> Moved:
        """Return an item's place as it moves: what of it is carried, and what that is called."""
        was = {new: old for old, new in item.renamed.items()}
        renames = {**item.renamed, **{was.get(n, n): called for n, called in came_as.items()}}
        takes = None
        if self._copied(item.id) and not (item.single or item.store):
            paths = (was.get(e.path, e.path) for e in self.packed.of(item.id) if e.path)
            takes = taking(paths, self.platform_of_old)
        return Moved(item.old_path, target, True, renames, takes)

    def _copied(self, item: str) -> bool:
        """Return whether an item's files come as they are, at its place."""
        return any(not step.puts_elsewhere for step in self._publishing(item))

    def _came_as(self, item: str) -> Mapping[str, str]:
        """Return what the paths of an item below its place are called that came beside others."""
        found: dict[str, str] = {}
        for facts in self._published(item):
            found |= facts.came_as
        return found

    def came_beside(self) -> Mapping[str, str]:
        found: dict[str, str] = {}
        for facts in self._published():
            to = facts.to
            found |= {join(to, n): join(to, c) for n, c in facts.came_as.items()}
        return found

    def was_carried(self, path: str) -> bool:
        return any(
            is_within(path, to, self.machine.platform)
            and path.startswith(f"{to}/")
            and self.packed.get(item, path[len(to) + 1 :]) is not None
            for to, item in self._carried_to
        )

    @cached_property
    def _carried_to(self) -> list[tuple[str, str]]:
        """Where the items come whose files are carried."""
        found = []
        for item in self.plan.placed:
            if self._copied(item.id) and not (item.single or item.store):
                to = self._beside(item.id) or item.new_path
                found.append((to, item.id))
        return found

    def dangling(self, item: str) -> Sequence[str]:
        mine = self.planned(item)
        atlas = self.atlas(item, self._beside(item) or mine.new_path, self._came_as(item))
        return [new for path in mine.dangling if (new := atlas.counterpart(path)) is not None]

    def place_told(self, item: str, place: str) -> tuple[str, str]:
        finder = self.finder(item)
        where = finder.place(place)
        path = where.path if isinstance(where, Found | Absent) else ""
        return path, finder.untold(place)

    @property
    def platform_of_old(self) -> Platform:
        return self.plan.station("old").facts["platform"]

    def landed(self, item: str) -> Sequence[tuple[str, Iterable[str]]]:
        planned = self.planned(item)
        targets = [facts.to for facts in self._published(item)]
        came_as, passed = self._came_as(item), self._passed_by(item)
        told: Sequence[str] | None = None
        if not self._publishing(item) and not planned.store:
            targets = [planned.new_path]
            told = [rule.file for rule in planned.written if "*" not in rule.file]

        def came() -> Iterator[str]:
            if told is not None:
                return iter(told)
            files = (e.path for e in self.packed.of(item) if e.kind == "file")
            return (came_as.get(path, path) for path in files if path not in passed)

        if planned.single:
            mine = base(planned.old_path)
            along = [path[len(mine) :] for path in came() if path in planned.from_outside]
            return [
                (parent(target), [base(target), *(f"{base(target)}{ending}" for ending in along)])
                for target in dict.fromkeys(targets)
            ]
        return [(target, came()) for target in dict.fromkeys(targets)]

    def _passed_by(self, item: str) -> set[str]:
        """Return the paths of an item that were not put in place, since others were there."""
        return {path for facts in self._published(item) for path in facts.passed_by}

    def told_elsewhere(self, item: str) -> Sequence[str]:
        return [p for facts in self._facts_of(item) for p in facts.of("elsewhere", "unsayable")]

    def old_paths(self, item: str) -> tuple[str, ...]:
        old, platform = self.plan.station("old"), self.machine.platform
        named = [old.roots.get("home", ""), *(i.old_path for i in self.plan.placed)]
        for recipe in self.plan.recipes:
            mine = self.finders[recipe.id].pinnable()
            named += [path for name, path in recipe.places.items() if path != mine.get(name)]
        named = [path for path in named if is_absolute(path, self.platform_of_old)]
        own = [self.workroom, self.parcel.folder.as_posix()]
        if old.machine.casefold() not in ("", "localhost", self.machine.name.casefold()):
            own.append(f"//{old.machine}")
        homes = [self.machine.root(name) for name in ("home", "documents")]
        here = [*(i.new_path for i in self.plan.placed), *homes]
        kept = [p for p in named if p and not any(h and is_within(h, p, platform) for h in here)]
        return tuple(dict.fromkeys([*kept, *own]))
