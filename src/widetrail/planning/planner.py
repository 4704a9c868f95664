"""Making a plan: where things are, how each item goes, in which order, and what stands in the way.

Nothing is changed; everything that stands in the way is said at once.
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from widetrail.errors import Halted, InputUnusable, Obstructed
from widetrail.machine import Machine, Medium
from widetrail.planning.chosen_places import insist_apart, insist_real, said_of, with_choice
from widetrail.planning.draft import NOT_THERE, Draft, RecipeSides, Subject
from widetrail.planning.embedded_paths import (
    some_of,
)
from widetrail.planning.free_space import insist_space
from widetrail.planning.hints import hint_at_release, hint_at_routes
from widetrail.planning.instances import subjects_of
from widetrail.planning.licence_items import plan_licences, unfold_licences
from widetrail.planning.named_paths import find_named_paths
from widetrail.planning.one_item import left_item, obstacle_of, plan_item
from widetrail.planning.plan import (
    Plan,
    PlannedLeg,
)
from widetrail.planning.recipe_order import (
    beyond_checked_releases,
    in_order_of_use,
    not_here,
    planned_recipe,
    seen_station,
    sides_of,
    station_of_new,
    unmet_uses,
)
from widetrail.planning.route_choice import NoRoute
from widetrail.planning.shared_places import take_once, taken_by_none
from widetrail.planning.station_facts import New
from widetrail.planning.step_order import (
    insist_detached_last,
    itinerary_of,
    unfold_items,
    with_retiring,
)
from widetrail.planning.user_choices import Choices
from widetrail.recipe import Loaded
from widetrail.recipe.decisions import Decisions

_NOTHING = "Specify the machine that has it, or leave the recipe out."


def make_plan(
    recipes: Sequence[Loaded],
    old: Machine,
    new: New,
    medium: Medium,
    today: datetime,
    choices: Choices | None = None,
    *,
    sealed: bool = False,
    decisions: Decisions | None = None,
) -> Plan:
    """Plan the move of ``recipes`` from ``old`` to ``new`` by way of ``medium``.

    Licences travel in a parcel that is ``sealed`` only. ``decisions`` keeps what is decided by the
    rules of the recipes.

    The same recipes, machines, day and choices give the same plan, byte for byte, in whatever
    order the recipes are named.

    Raises:
        InputUnusable: Old and new are one machine, or the card or a choice does not fit.
        Obstructed: Something stands in the way; every obstacle is named.
    """
    _two_machines(old, new)
    choices = choices or Choices()
    draft = Draft(sealed=sealed)
    sides, subjects = _found(recipes, old, new, draft, choices, decisions)
    _plan_items(sides, subjects, draft, choices, today, sealed=sealed)
    neither = tuple(taken_by_none(subjects))
    draft.notices.extend(one.words for one in neither)
    find_named_paths(draft, sides, choices, new)
    unfold_items(draft, today)
    unfold_licences(draft, choices, old.name, new)
    itinerary = itinerary_of(draft)
    legs = with_retiring(draft, itinerary) if itinerary is not None else []
    insist_detached_last(draft, legs)
    size = insist_space(draft, medium, new)
    if draft.private and not sealed and not medium.holds_modes:
        draft.notices.append(
            f"the medium {medium.name} cannot keep from others what only the account may read "
            f"({some_of(draft.private)}): seal the parcel (--seal), or keep the medium with you"
        )
    if draft.obstacles or itinerary is None:
        raise Obstructed("the plan cannot be made", draft.obstacles)
    hint_at_routes(draft, itinerary, today)
    hint_at_release(draft, itinerary, choices, unseen=not station_of_new(new).identity)
    return Plan(
        recipes=tuple(sorted((planned_recipe(side) for side in sides), key=lambda r: r.id)),
        stations=(seen_station("old", old), station_of_new(new)),
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


def _found(
    recipes: Sequence[Loaded],
    old: Machine,
    new: New,
    draft: Draft,
    choices: Choices,
    decisions: Decisions | None,
) -> tuple[list[RecipeSides], list[Subject]]:
    """Return each recipe with both sides, those that are used first, and their items on old."""
    sides: list[RecipeSides] = []
    for loaded in in_order_of_use(recipes, draft):
        said = said_of(loaded, choices, new, draft)
        ask = choices.ask_programs
        sides.append(sides_of(loaded, old, new, sides, said, ask=ask, decisions=decisions))
    subjects: list[Subject] = []
    for side in sides:
        if side.finder.installation is None:
            draft.notices.append(not_here(side))
            continue
        draft.notices.extend(beyond_checked_releases(side))
        insist_real(side, draft)
        found = (with_choice(s, choices, new, draft) for s in subjects_of(side, draft, choices))
        subjects.extend(found)
    return sides, subjects


def _plan_items(
    sides: Sequence[RecipeSides],
    subjects: Sequence[Subject],
    draft: Draft,
    choices: Choices,
    today: datetime,
    *,
    sealed: bool,
) -> None:
    """Choose how each item and licence goes; where nothing does, that is what stands in the way."""
    by_id = {side.loaded.id: side for side in sides}
    for subject in subjects:
        unmet = unmet_uses(subject.side, by_id)
        if unmet:
            draft.left.append(left_item(subject, NoRoute(unmet), ()))
            continue
        plan_item(subject, subjects, draft, choices, today)
    for side in sides:
        if side.finder.installation is not None:
            plan_licences(side, by_id, draft, choices, today, sealed=sealed)
    if not draft.items and not draft.licences and not draft.left and not draft.obstacles:
        draft.obstacles = [
            Halted(notice, todo=_NOTHING, codes=[NOT_THERE]) for notice in draft.notices
        ]
    if not draft.items and not draft.licences and not draft.obstacles:
        draft.obstacles = [obstacle_of(item) for item in draft.left]
    take_once(draft)
    insist_apart(draft)


def _two_machines(old: Machine, new: New) -> None:
    if new is not None and new.identity == old.identity:
        todo = "Name the other machine with --old or --new."
        raise InputUnusable("old and new are one machine", where=old.name, todo=todo)
