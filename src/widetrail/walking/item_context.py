"""What is known of an item at a station, lent to steps; see ``steps.contexts.OfItem``."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from functools import partial

from widetrail.finding import (
    Finder,
    How,
    Instance,
    Several,
)
from widetrail.finding.stores import StoreKind
from widetrail.machine.paths import base
from widetrail.planning import PlannedItem
from widetrail.recipe import Item, Loaded, Route
from widetrail.recipe.models import Application
from widetrail.recipe.settings import Settings
from widetrail.steps import (
    Step,
    WrittenAt,
    act_of,
)
from widetrail.steps.publish_step import Published, PublishFacts
from widetrail.walking.walk_context import WalkContext


class ItemContext(WalkContext):
    """What is known of an item at a station: its recipe, its plan, and where it is there now."""

    def planned(self, item: str) -> PlannedItem:
        return self.plan.item(item)

    def loaded(self, item: str) -> Loaded:
        return self.finders[self.planned(item).recipe].loaded

    def item(self, item: str) -> Item:
        planned = self.planned(item)
        found = self.loaded(item).recipe.known_as_item(planned.item)
        assert found is not None, "a visit looks whether the recipes have every item"
        route = next((route for route in found.routes if route.name == planned.route), None)
        checks = found.checks if route is None else found.checks_of(route)
        meant = planned.parts_left if planned.old_path else {**planned.parts, **planned.parts_left}
        chosen = {part: planned.parts.get(part, ()) for part in meant}
        update = {"parts": {**found.parts, **chosen}, "checks": checks}
        return found.model_copy(update=update)

    def application(self, item: str) -> Application:
        return self.loaded(item).recipe.application

    def route(self, item: str) -> Route:
        wanted = self.planned(item).route
        return next(route for route in self.item(item).routes if route.name == wanted)

    def is_told(self, item: str) -> bool:
        return self.finders[self.planned(item).recipe].is_told(self.item(item).from_)

    def settings(self, step: Step) -> Settings:
        rules = [rule for leg in self.route(step.item).legs for rule in leg.steps]
        return rules[step.number - 1].rule

    def other(self) -> str:
        return self.plan.station("old" if self.station == "new" else "new").machine

    def carved(self, item: str) -> tuple[str, ...]:
        return self.planned(item).carved

    def store(self, item: str) -> StoreKind | None:
        return self.planned(item).store or None

    def written(self, item: str) -> tuple[WrittenAt, ...]:
        return self.planned(item).written

    def outside(self, item: str) -> Mapping[str, str]:
        return self.planned(item).from_outside

    def place_on_old(self, item: str) -> str:
        return self.planned(item).old_path

    def names_on_old(self, item: str) -> Mapping[str, str]:
        return {new: old for old, new in self.planned(item).renamed.items()}

    def looked_at(self, item: str, check: str) -> bool:
        planned = self.planned(item)
        return self.item(item).checks[check].looked_at(planned.parts, planned.parts_left.keys())

    def answered(self, recipe: str, name: str) -> str | None:
        """Return what a person answered at this station to what a recipe asks for."""
        return None

    def finder(self, item: str) -> Finder:
        """Return what tells where an item is here now; it has looked since anything was changed."""
        published = len(self.journal.all(Published))
        as_of = self.machine.effects.seen_through, self.looked, published
        lent = self._lent.get(item)
        if lent is None or lent[0] != as_of:
            lent = self._lent[item] = as_of, self._finder(item)
        return lent[1]

    def _finder(self, item: str) -> Finder:
        planned = self.planned(item)
        answers = partial(self.answered, planned.recipe)
        finder = replace(self.finders[planned.recipe], answers=answers)
        if planned.kind == "licence":  # the commands by which it is asked are shown beforehand
            finder = replace(finder, ask_programs=True)
        place = self.item(item).from_
        if beside := self._beside(item) or self._put_elsewhere(item):
            return finder.within(place, Instance(beside, base(beside), None, How("pinned")))
        if not planned.instance:
            return finder
        name = planned.called_at(self.station)
        there = finder.place(place)
        listed = there.instances if isinstance(there, Several) else ()
        pinned = self.pinned(item)
        case = finder.case_of(place)
        named = [i for i in listed if i.name == name and not (case and case.listed_in)]
        own = [i for i in listed if i.path == pinned] or named
        unlisted = Instance(pinned, name, None, How("each"), kind=planned.place_kind)
        instance = own[0] if own else unlisted
        return finder.within(place, instance)

    def _beside(self, item: str) -> str:
        """Return where on new the item came beside its place, or an empty text."""
        ids = [s.id for s in self._publishing(item) if not s.puts_elsewhere]
        for step in ids if self.station == "new" else ():
            to = self._where_published(step)
            if to and to != self.pinned(item):
                return to
        return ""

    def _where_published(self, step: str) -> str:
        """Return where a step put its item, or an empty text while it did not."""
        record = self.journal.newest(Published, step=step)
        return record.facts.to if record is not None else ""

    def _put_elsewhere(self, item: str) -> str:
        """Return the path that the recipe has the item copied to, where that is what it is on new:
        no program takes it in from there, and it is not removed again."""
        mine = [s for s in self.plan.steps if s.item == item and s.station == "new"]
        given = [s for s in self._publishing(item) if s.puts_elsewhere]
        moved_on = any(act_of(s).takes_over for s in mine)
        if self.station != "new" or len(given) != 1 or moved_on:
            return ""
        return self._where_published(given[0].id)

    def pinned(self, item: str) -> str:
        planned = self.planned(item)
        return planned.path_at(self.station)

    def put_there(self) -> tuple[str, ...]:
        return tuple(facts.to for facts in self._published())

    def _publishing(self, item: str) -> list[Step]:
        return [s for s in self.plan.steps if s.item == item and act_of(s).places]

    def _published(self, item: str = "") -> list[PublishFacts]:
        """Return the facts of all that was put in place here, or of what of an item was."""
        mine = {step.id for step in self._publishing(item)}
        records = self.journal.all(Published)
        return [r.facts for r in records if not item or r.step in mine]

    def open_signs(self, item: str) -> str:
        return open_signs(self.finder(item))

    def await_closed(self, item: str) -> None:
        name = self.application(item).name
        todo = f"Close {name} (if it ended badly, open and close it once), then walk again."

        def what() -> str:
            signs = self.open_signs(item)
            return f"{name} is open on {self.machine.name}: {signs}" if signs else ""

        self.await_(what, todo)


def open_signs(finder: Finder) -> str:
    """Return what shows that an application is open, or an empty text."""
    signs = [f"{path} is there" for path in finder.locks()]
    for program in finder.programs().values():
        signs += [f"{program}: {line}" for line in finder.machine.running(program)]
    return "; ".join(signs)
