"""What readings told in the field, as answers that machines without contents give.

What a reading asks is found out on the machine that was made, by the finders of a walk; so an
answer holds for as long as the recipe asks the same, and a changed reading is taken in earnest.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from datetime import UTC, datetime
from itertools import islice, product
from typing import Any, Literal

from widetrail.field.outcomes_told import StepTold
from widetrail.finding import Finder, How, Instance
from widetrail.finding.plural_places import asked_of_index
from widetrail.finding.values import part_label
from widetrail.formats.parser_process import matches
from widetrail.machine import FolderMachine
from widetrail.planning import Plan, PlannedItem
from widetrail.recipe import Item, Loaded, Reading, Route, Station
from widetrail.recipe.conditions import Condition, SideNeeds
from widetrail.recipe.settings import Settings
from widetrail.steps import Step
from widetrail.steps.program import FirstStartStep
from widetrail.steps.run_step import RunStep
from widetrail.steps.wait import WaitStep
from widetrail.walking.recipe_finders import finders_of, used_first

Answers = dict[str, Any]
"""What readings tell by what they ask, as plain values."""


class AnswersTold:
    """Has the readings of a machine without contents tell what they told in the field."""

    def __init__(
        self,
        plan: Plan,
        recipes: Mapping[str, Loaded],
        steps: Mapping[str, StepTold],
        releases: Mapping[str, Mapping[str, str]],
    ) -> None:
        """``releases`` are release and edition of each program on new, as far as they are known."""
        self.plan, self.recipes = plan, used_first(dict(recipes))
        self.steps, self._releases = steps, releases

    def record(self, machine: FolderMachine, station: Station) -> None:
        """Record what tells releases, places and parts, what was needed and came about, and on old
        what was noted there."""
        for several in (
            self._printed,
            self._versions,
            self._places,
            self._parts,
            self._held,
            self._serials,
        ):
            machine.record(_plain(several(self._finders(machine, station), station)))
        if station == "old":
            machine.record(self.checked(machine, station))

    def first_made(self, machine: FolderMachine, step: FirstStartStep) -> str | None:
        """Return the path of the place that a program makes when it is started at first."""
        finder = self._finders(machine, step.station)[self.plan.item(step.item).recipe]
        return finder.path(f"{{{step.place}}}")

    def checked(self, machine: FolderMachine, station: Station) -> Answers:
        """Return what the readings of the items' checks told when they were taken."""
        finders = self._finders(machine, station)
        return _plain(
            one
            for step in self.steps.values()
            for name, noted in step.noted.get(station, {}).items()
            for one in self._noted(finders, step.item, name, noted, station)
        )

    def said(self, machine: FolderMachine, station: Station) -> Iterator[tuple[str, Answers]]:
        """Give what each program said of its licence at a step, with the step."""
        finders = self._finders(machine, station)
        for step in self.plan.steps:
            told, planned = self.steps.get(step.id), self.plan.item(step.item)
            if step.station == station and planned.kind == "licence" and told and told.says:
                finder = finders[planned.recipe]
                active = finder.loaded.recipe.licences[planned.item].active
                yield step.id, {finder.asked(active): told.says}

    def needs(self, planned: PlannedItem, station: Station, route: str = "") -> SideNeeds | None:
        """Return what a route needs of a station: the one that an item went, or another."""
        found = self._route(planned, route)
        needs: SideNeeds | None = getattr(found.needs, station) if found is not None else None
        return needs

    def had(self, fact: Literal["administrator", "network"], station: Station) -> bool | None:
        """Return whether a machine had what routes need, or ``None`` where nothing tells."""
        for planned in self.plan.items:
            rejected = [one.route for one in planned.rejected if fact in one.facts]
            for route, had in ((planned.route, True), *((name, False) for name in rejected)):
                needs = self.needs(planned, station, route)
                wanted: Condition | None = getattr(needs, fact, None)
                if wanted is not None and wanted.equals == "yes":
                    return had
        return None

    def _finders(self, machine: FolderMachine, station: Station) -> dict[str, Finder]:
        said = self.plan.said(station)
        return finders_of(machine, self.recipes, {}, ask=False, said=said)

    def _printed(self, finders: Mapping[str, Finder], _: Station) -> Iterator[tuple[str, Any]]:
        for name, finder in finders.items():
            for case in self.recipes[name].recipe.recognise:
                if case.sign.prints is not None and finder.holds(case.for_):
                    yield finder.asked(case.sign.prints), "as in the field"

    def _versions(
        self, finders: Mapping[str, Finder], station: Station
    ) -> Iterator[tuple[str, Any]]:
        for planned in self.plan.recipes:
            finder, told = finders[planned.id], planned.old
            if station == "new":
                told = {**told, **self._releases.get(planned.id, {})}
            for what, value in told.items():
                if (reading := getattr(finder.recognition, what, None)) is not None:
                    yield finder.asked(reading), value

    def _places(self, finders: Mapping[str, Finder], station: Station) -> Iterator[tuple[str, Any]]:
        for planned in self.plan.recipes if station != "between" else ():
            finder = finders[planned.id]
            items = [item for item in self.plan.placed if item.recipe == planned.id]
            of = {name: [i for i in items if self._from(i) == name] for name in _from(finder)}
            at = {
                n: p for n, several in of.items() for p in [i.path_at(station) for i in several][:1]
            }
            told = {**at, **(planned.places if station == "old" else {})}
            for name, several in of.items():
                yield from _told_place(finder, name, told.get(name, ""), several, station)
            for name, path in told.items():
                if name not in of:
                    yield from _told_place(finder, name, path, [], station)

    def _parts(self, finders: Mapping[str, Finder], station: Station) -> Iterator[tuple[str, Any]]:
        for planned in self.plan.placed:
            finder, item = self._within(finders, planned, station), self._item(planned)
            for part, given in item.parts.items():
                case = finder.case_of_reading(given) if isinstance(given, str) else None
                if case is not None:
                    chosen, left = planned.parts.get(part, ()), planned.parts_left.get(part, ())
                    yield finder.asked(case), [*chosen, *left]

    def _held(self, finders: Mapping[str, Finder], station: Station) -> Iterator[tuple[str, Any]]:
        """Give answers by which what held in the field does: what routes need, and what a step
        waited for that was done."""
        for planned in self.plan.items:
            if (needs := self.needs(planned, station)) is not None:
                yield from self._such(finders, planned, station, needs.readings)
            route = self._route(planned)
            of_what = route.only.values() if route is not None and station == "old" else ()
            for such in of_what:
                yield from self._such(finders, planned, station, such)
        for step in self.plan.steps:
            planned = self.plan.item(step.item)
            route = self._route(planned)
            if route is None or step.station != station or not self._done(step.id):
                continue
            if (rule := self.rule(step)) is not None:
                for conditions in rule.conditions().values():
                    yield from self._such(finders, planned, station, conditions)
            elif isinstance(step, WaitStep):
                yield from self._such(finders, planned, station, route.wait)
            if isinstance(step, RunStep):  # which printed what was read there too
                finder = self._within(finders, planned, station).with_parts(step.parts)
                for name, value in self.steps[step.id].told.items():
                    case = self._case(finder, name)
                    if case is not None:
                        yield finder.asked(case), value

    def _serials(self, finders: Mapping[str, Finder], _: Station) -> Iterator[tuple[str, Any]]:
        for planned in self.plan.items:
            finder = finders[planned.recipe]
            licence = finder.loaded.recipe.licences.get(planned.item)
            if licence is not None and licence.serial is not None:
                yield finder.asked(licence.serial), f"MADE-UP-{planned.item}"

    def rule(self, step: Step) -> Settings | None:
        """Return what the recipe says of a step, where it says anything of it."""
        route = self._route(self.plan.item(step.item))
        return route.rules[step.number - 1] if route is not None and step.number else None

    def _such(
        self,
        finders: Mapping[str, Finder],
        planned: PlannedItem,
        station: Station,
        conditions: Mapping[str, Condition],
    ) -> Iterator[tuple[str, Any]]:
        """Give answers for which conditions hold."""
        noted = self.steps.get(f"{planned.id}/note")
        before = noted.noted["old"] if noted is not None else {}
        for name, condition in conditions.items():
            value = _fitting(condition, before.get(name, {}).get("value"))
            if value is not None:
                yield from self._noted(finders, planned.id, name, {"value": value}, station)

    def _done(self, step: str) -> bool:
        told = self.steps.get(step)
        return told is not None and told.state == "done"

    def _route(self, planned: PlannedItem, name: str = "") -> Route | None:
        item = self.recipes[planned.recipe].recipe.known_as_item(planned.item)
        routes = item.routes if item is not None else ()
        return next((route for route in routes if route.name == (name or planned.route)), None)

    def _noted(
        self,
        finders: Mapping[str, Finder],
        of: str,
        name: str,
        noted: Mapping[str, Any],
        at: Station,
    ) -> Iterator[tuple[str, Any]]:
        """Give the answers that a reading of an item gave."""
        planned = self.plan.item(of)
        finder = self._within(finders, planned, at)
        case = self._case(finder, name)
        if case is None:
            return
        if noted.get("value") is not None:
            yield finder.asked(case), noted["value"]
        wanted = finder.parts_asked(case, self._item(planned))
        by = noted.get("by") or {}
        known = [(*planned.parts.get(p, ()), *planned.parts_left.get(p, ())) for p in wanted]
        combined = [(label,) for label in by] if len(wanted) == 1 else product(*known)
        for values in islice(combined, _MOST):
            value = by.get(part_label(values), {}).get("value")
            if value is not None:
                inner = finder.with_parts(dict(zip(wanted, values, strict=True)))
                yield inner.asked(case), value

    def _case(self, finder: Finder, name: str) -> Reading | None:
        """Return the case of a reading that holds here, if there is a reading of that name."""
        return finder.case_of_reading(name) if name in finder.loaded.recipe.readings else None

    def _within(
        self, finders: Mapping[str, Finder], planned: PlannedItem, station: Station
    ) -> Finder:
        finder = finders[planned.recipe]
        if not planned.instance:
            return finder
        place = self._from(planned)
        path, name = planned.path_at(station), planned.called_at(station)
        return finder.within(place, Instance(path, name, None, How("pinned")))

    def _from(self, planned: PlannedItem) -> str:
        return self._item(planned).from_

    def _item(self, planned: PlannedItem) -> Item:
        return self.recipes[planned.recipe].recipe.items[planned.item]


_MOST = 10_000
"""Values of a reading by part that are looked for in a report, at most."""


def _plain(told: Iterator[tuple[str, Any]]) -> Answers:
    """Return answers as a rehearsal file has them: texts, lists and mappings."""
    return {asked: _text(value) for asked, value in told}


def _text(value: Any) -> Any:
    if isinstance(value, list | tuple):
        return [_text(one) for one in value]
    return value if isinstance(value, dict) else str(value)


def _fitting(condition: Condition, before: Any) -> Any:
    """Return a value for which a condition holds, or ``None`` where none is known."""
    if condition.compares_old:
        return before
    for value in (condition.equals, *(condition.one_of or ()), condition.lowest, condition.at_most):
        if value is not None:
            return value
    if condition.within is not None:
        return datetime.now(UTC).isoformat(timespec="seconds")
    return next((t for t in _TEXTS if matches(condition.matches or "", t)), None)


_TEXTS = ("as in the field", "1", "1.0", "yes", "2026-01-01", "a@example.com")
"""What is tried where a value must match an expression."""


def _from(finder: Finder) -> list[str]:
    """Return the places that items are from, each once."""
    return list(dict.fromkeys(i.from_ for i in finder.loaded.recipe.items.values() if i.from_))


def _told_place(
    finder: Finder, name: str, path: str, items: Sequence[PlannedItem], station: Station
) -> Iterator[tuple[str, Any]]:
    """Give what tells a place: the one path that it lies at, or those of each of several."""
    place = finder.case_of(name)
    if place is None:
        return
    there = [item for item in items if item.called_at(station)]
    if place.set_in is not None and path:
        told = path if finder.untold(name) != path else ""  # as it is where nothing tells it
        yield finder.asked(place.set_in.model_copy(update={"as_": "path"})), told
    if place.listed_in is not None:
        listed = place.listed_in.model_copy(update={"as_": "list"})
        yield finder.asked(listed), [item.path_at(station) for item in there]
    if place.index is not None:
        source = finder.choice(place.index.where)
        entries = [
            {
                place.index.path: item.path_at(station),
                place.index.name or "": item.called_at(station),
                place.index.in_use or "": "yes" if _by_use(item) else "no",
            }
            for item in there
        ]
        yield asked_of_index(place.index, source or ""), entries


def _by_use(item: PlannedItem) -> bool:
    """Return whether an item goes to one of another name, since both are the one in use."""
    return item.instance.casefold() != item.new_instance.casefold()
