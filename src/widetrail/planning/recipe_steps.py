"""The steps of a recipe's routes before any machine is known: what is not known yet is named."""

from __future__ import annotations

from collections.abc import Sequence

from widetrail.finding.stores import store_kind
from widetrail.planning.licences import Way, planned_licence, unfold_licence
from widetrail.planning.plan import PlannedItem
from widetrail.planning.route_choice import Chosen
from widetrail.planning.unfolding import unfold_steps
from widetrail.recipe import Loaded, Route
from widetrail.recipe.licence_models import LicenceRoute
from widetrail.recipe.templates import literal, refill
from widetrail.steps import Step

STATIONS = ("the old computer", "the new computer")
"""What machines are called that are not known."""


def steps_of_route(loaded: Loaded, name: str, route: Route) -> list[Step]:
    """Return the steps by which an item goes a route, wherever it is.

    Its place is told as ``‹place›``; a step for each value of a part is there once.
    """
    item = loaded.recipe.items[name]
    [case, *_] = loaded.recipe.places.get(item.from_, [None])
    place = f"‹{item.from_}›" if item.from_ else ""
    store = store_kind(item, place, case.kind) if case is not None else None
    planned = PlannedItem(
        id=f"{loaded.id}.{name}",
        recipe=loaded.id,
        item=name,
        title=item.title,
        kind=item.kind,
        route=route.name,
        existing=route.existing_in(store=store is not None),
        store=store or "",
        whole=not item.take,
        single=case is not None and case.kind == "file",
        old_path=place,
        old_how="",
        new_path=place,
        new_how="",
        occupied=False,
        files=0,
        size=0,
    )
    each = {part: (f"‹{part}›",) for part in item.parts}
    return unfold_steps(planned, loaded, Chosen(route, (), (), (), each, ()), lambda _: _only_own)


def _only_own(text: str, own: dict[str, str] | None = None) -> str:
    return refill(text, lambda name: (own or {}).get(name))


def steps_of_licence(
    loaded: Loaded, name: str, route: LicenceRoute, needed: Sequence[str] = ()
) -> list[Step]:
    """Return the steps by which the seat of a licence goes a route, from old to new.

    ``needed`` are the steps without which its program is of no use on new.
    """
    title = loaded.recipe.licences[name].title
    way = Way(route, (), (), ())
    planned = planned_licence(f"{loaded.id}.{name}", loaded.id, name, title, way, ())
    steps = unfold_licence(planned, loaded, route, STATIONS, needed, None)
    return [_without_names(step) for step in steps]


def _without_names(step: Step) -> Step:
    """Return a step whose request and answer are called by what is done, whatever the machines."""
    if step.seat is None:
        return step
    stem = literal(f"‹{step.seat.purpose}›")
    return step.model_copy(update={"seat": step.seat.model_copy(update={"stem": stem})})
