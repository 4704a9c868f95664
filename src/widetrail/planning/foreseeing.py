"""What the steps of a plan would do by what both machines hold now, for whoever reads the plan."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from widetrail.finding import How, Instance, Several, find_application
from widetrail.machine import Machine
from widetrail.planning.plan import Plan
from widetrail.recipe import Loaded
from widetrail.recipe.settings import Settings
from widetrail.steps import Step, act_of
from widetrail.steps.foreseeing import Foreseen


def foresee(
    plan: Plan, recipes: Sequence[Loaded], old: Machine, new: Machine, now: datetime
) -> dict[str, Foreseen]:
    """Return by the ids of steps what they would do, as far as that can be told."""
    sight = _Sight(plan, recipes, old, new, now)
    found = ((step.id, act_of(step).foresee(step, sight)) for step in plan.steps)
    return {step: told for step, told in found if told is not None}


class _Sight:
    """Both machines as a plan sees them; see ``steps.foreseeing.Sight``."""

    def __init__(
        self, plan: Plan, recipes: Sequence[Loaded], old: Machine, new: Machine, now: datetime
    ) -> None:
        self._plan, self.old, self.new, self.now = plan, old, new, now
        self._recipes = {loaded.id: loaded for loaded in recipes}

    def _loaded(self, item: str) -> Loaded:
        return self._recipes[self._plan.item(item).recipe]

    def settings(self, step: Step) -> Settings:
        planned = self._plan.item(step.item)
        item = self._loaded(step.item).recipe.items[planned.item]
        route = next(route for route in item.routes if route.name == planned.route)
        return route.rules[step.number - 1]

    def old_place(self, item: str) -> str:
        return self._plan.item(item).old_path

    def on_new(self, step: Step, template: str) -> str | None:
        lenders = {i: find_application(self.new, one) for i, one in self._recipes.items()}
        loaded, planned = self._loaded(step.item), self._plan.item(step.item)
        finder = find_application(self.new, loaded, lenders=lenders)
        place = loaded.recipe.items[planned.item].from_
        where = finder.place(place)
        if planned.new_path and (planned.instance or isinstance(where, Several)):
            listed = where.instances if isinstance(where, Several) else ()
            mine = [instance for instance in listed if instance.path == planned.new_path]
            kind, name = planned.place_kind, planned.new_instance
            yet = Instance(planned.new_path, name, None, How("each"), kind=kind)
            finder = finder.within(place, mine[0] if mine else yet)
        return finder.path(template)
