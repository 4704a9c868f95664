"""The licences of a plan, and the steps of their seats among the others."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime

from widetrail.errors import Halted
from widetrail.planning.draft import Draft, RecipeSides, told_loss
from widetrail.planning.licences import choose_way, planned_licence, unfold_licence
from widetrail.planning.plan import (
    LeftItem,
    RejectedRoute,
)
from widetrail.planning.recipe_order import station_of_new, unmet_uses
from widetrail.planning.route_choice import NoRoute
from widetrail.planning.station_facts import New
from widetrail.planning.user_choices import Choices
from widetrail.steps import act_of


def plan_licences(
    side: RecipeSides,
    by_id: Mapping[str, RecipeSides],
    draft: Draft,
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
        unmet = unmet_uses(side, by_id)
        if side.finder.machine.read_only:
            why = f"{side.old.machine} is read-only, so no seat is released there"
            unmet = (RejectedRoute(route="any", code="need", reason=why, facts=("read_only",)),)
        chosen = (
            NoRoute(unmet) if unmet else choose_way(licence, side.finder, side.old, side.new, today)
        )
        if isinstance(chosen, NoRoute):
            todo = "Fix the causes above, then plan again; it stays on the old computer until then."
            if side.new.installed is False:
                todo = f"Install {application.name} on {side.new.machine}, then plan again."
            losses = tuple(map(told_loss, licence.losses))
            draft.left.append(
                LeftItem(
                    id=subject,
                    title=title,
                    rejected=chosen.rejected,
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
        losses = tuple(map(told_loss, (*licence.losses, *chosen.route.losses)))
        planned = planned_licence(subject, side.loaded.id, name, title, chosen, losses)
        draft.licences.append((planned, side, chosen.route))


def unfold_licences(draft: Draft, choices: Choices, old: str, new: New) -> None:
    """Unfold every licence: its seat moves after what its program and those it uses need on new."""
    machine = station_of_new(new).machine
    packed = tuple(s.id for s in draft.steps if s.station == "old" and not act_of(s).comes_last)
    by_recipe: dict[str, list[str]] = {}
    for item, *_ in draft.items:
        mine = (s.id for s in draft.steps if s.item == item.id and s.station == "new")
        by_recipe.setdefault(item.recipe, []).extend(mine)
    for planned, side, route in draft.licences:
        uses = side.loaded.recipe.relies_on
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
