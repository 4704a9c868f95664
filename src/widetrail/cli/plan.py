"""``widetrail plan``: sets out, which writes a parcel with its plan."""

from __future__ import annotations

import secrets
from pathlib import Path

import click

from widetrail.cli.output import (
    Page,
    json_option,
    load_recipes,
    now,
    open_machine,
    print_json,
)
from widetrail.formats.quantities import show_size
from widetrail.machine import Effects, medium_of
from widetrail.parcel import set_out
from widetrail.planning import Plan, PlannedItem, make_plan
from widetrail.steps import ACTS

PATH = click.Path(path_type=Path)


@click.command("plan")
@click.argument("recipes", nargs=-1, required=True, type=PATH)
@click.option("--old", type=PATH, help="The machine left behind; else this machine.")
@click.option("--new", type=PATH, help="The machine moved to; else this machine.")
@click.option("--parcel", required=True, type=PATH, help="The folder to make on the medium.")
@json_option
def command(
    recipes: tuple[Path, ...], old: Path | None, new: Path | None, parcel: Path, as_json: bool
) -> None:
    """Plan the move of the applications of RECIPES and write the parcel it travels in.

    Nothing on either machine is changed.
    """
    effects = Effects()
    machines = open_machine(old, effects=effects), open_machine(new, effects=effects)
    loaded = load_recipes(recipes)
    plan = make_plan(loaded, *machines, medium_of(parcel))
    set_out(parcel, plan, loaded, secrets.token_hex(6), now(), effects)
    if as_json:
        print_json({"id": plan.id, "parcel": str(parcel), "plan": plan.model_dump(mode="json")})
        return
    page = Page()
    show_plan(page, plan)
    page.title("Next")
    where = f" --machine {old}" if old is not None else ""
    page.line(f"widetrail walk {parcel}{where}", indent=2)


def show_plan(page: Page, plan: Plan) -> None:
    """Show a plan on ``page``: what goes which way, each step, what stays behind."""
    old, new = plan.station("old"), plan.station("new")
    page.title(f"Plan {plan.id[:12]}: from {old.machine} to {new.machine}")
    for item in plan.items:
        _show_item(page, item)
    trips = "one trip" if plan.trips == 1 else f"{plan.trips} trips"
    page.title(f"The trail: {trips}, {show_size(plan.parcel_size)} on the medium at most")
    for leg in plan.legs:
        page.line(f"{leg.number}. on {plan.station(leg.station).machine} ({leg.station})", indent=2)
        for step in plan.steps_of(leg):
            page.line(f"- {ACTS[step.kind].words(step)}", indent=5)
    if plan.notices:
        page.title("Worth knowing")
        for notice in plan.notices:
            page.line(f"- {notice}", "yellow", indent=2)


def _show_item(page: Page, item: PlannedItem) -> None:
    page.line(f"{item.title}", "bold", indent=2)
    page.line(f"by: {item.route} ({item.files} files, {show_size(item.size)})", indent=4)
    page.line(f"from: {item.old_path} ({item.old_how})", indent=4)
    aside = "; what is there of it now is put aside" if item.occupied else ""
    page.line(f"to: {item.new_path} ({item.new_how}){aside}", indent=4)
    for loss in item.losses:
        page.line(f"not carried: {loss.what}. {loss.remedy}", "yellow", indent=4)
