"""A plan as the terminal shows it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from widetrail.cli.leg_page import step_line
from widetrail.cli.output import Page
from widetrail.formats.quantities import show_count, show_files, show_size
from widetrail.machine.paths import base
from widetrail.planning import LeftItem, Plan, PlannedItem
from widetrail.recipe import Loss
from widetrail.recipe.templates import plain
from widetrail.records import Sort
from widetrail.steps import WrittenAt, act_of, words_of
from widetrail.steps.enter import EXISTING_VALUES
from widetrail.steps.foreseeing import Foreseen
from widetrail.steps.publish_step import EXISTING

SHOWN_NAMES = 5
"""Names of an item that are called otherwise on new, of which a plan shows so many."""

_SORTS: Mapping[Sort, str] = {
    "new": "new",
    "same": "identical there",
    "different": "there with another content",
    "unwanted": "excluded",
}
SHOWN_WIDTH = 60
"""Characters of the values of a part that all go, up to which a plan names each."""

SHOWN_FIELDS = 9
"""Fields of records that are merged, of which a plan shows so many."""

EXAMPLES = 3
"""Records of a sort that a plan shows by name."""


def show_foreseen(page: Page, foreseen: Mapping[str, Foreseen]) -> None:
    """Show what a merge of records would come to by what both machines hold now."""
    if foreseen:
        page.title("Records, as both computers hold them now")
    for one in foreseen.values():
        page.line(f"{one.to}: {one.trouble or f'holds {one.held}'}", indent=2)
        for sort, words in _SORTS.items():
            if number := one.count.get(sort, 0):
                names = one.names.get(sort, ())[:EXAMPLES]
                more = ", …" if number > len(names) else ""
                page.line(f"{number} {words}: {', '.join(names)}{more}", indent=4)
        if one.fields:
            page.line("fields that differ, and what they become:", indent=4)
            rows = [
                [line.record, line.field, *map(_told, (line.mine, line.other, line.then))]
                for line in one.fields[:SHOWN_FIELDS]
            ]
            page.table(["", "field", "there", "from old", "becomes"], rows)
            if len(one.fields) > SHOWN_FIELDS:
                page.line("and more (see --json)", "dim", indent=4)


def _told(values: Sequence[str]) -> str:
    return ", ".join(values) or "–"


def title_of(plan: Plan) -> str:
    """Return what a plan is called, with how much is known of the new computer."""
    old, new = plan.station("old"), plan.station("new")
    known = {"seen": "", "card": " (by its card)", "assumed": " (not seen yet)"}[new.source]
    return f"Plan {plan.id[:12]}: from {old.machine} to {new.machine}{known}"


def trips_of(plan: Plan, one: str) -> str:
    """Return how often somebody walks, with how much room that takes; ``one`` is the number one."""
    trips = f"{one} trip" if plan.trips == 1 else f"{plan.trips} trips"
    fewest = "the fewest possible" if plan.exact else f"at least {plan.bound - 1} are needed"
    return f"{trips} ({fewest}), at most {show_size(plan.parcel_size)} on the medium"


def show_plan(page: Page, plan: Plan) -> None:
    """Show a plan on ``page``: what goes which way and why, each step, what stays behind."""
    page.title(title_of(plan))
    copied = {step.item for step in plan.steps if act_of(step).places}
    for item in plan.items:
        stores = [s.merges_into for s in plan.steps if s.item == item.id and s.merges_into]
        _show_item(page, item, stores, copied=item.id in copied)
    for left in plan.left:
        _show_left(page, left)
    show_legs(page, plan)
    tasks = [task for item in plan.items for task in item.tasks]
    if plan.notices or tasks:
        page.title("Notes")
    for notice in (*plan.notices, *tasks):
        page.line(f"- {notice}", indent=2)


def _show_item(page: Page, item: PlannedItem, stores: Sequence[str], *, copied: bool) -> None:
    page.line(item.title, "bold", indent=2)
    why = f"; {', '.join(item.met)}" if item.met else ""
    amount = "values" if item.store else show_files(item.files)
    much = "" if item.kind == "licence" else f" ({amount}, {show_size(item.size)})"
    page.line(f"route: {item.route}{much}{why}", indent=4)
    for passed in item.rejected:
        page.line(f"rejected: {passed.route} – {passed.reason}", "dim", indent=4)
    for assumed in item.assumed:
        page.line(f"assumed: {assumed}; otherwise the plan is made again there", "yellow", indent=4)
    for part, values in item.parts.items():
        left = item.parts_left.get(part)
        rest = f"; not {', '.join(left)}" if left else ""
        told = ", ".join(values)
        if not left and len(told) > SHOWN_WIDTH:
            told = f"all {len(values)}"
        page.line(f"{part}: {told}{rest}", indent=4)
    if item.kind != "licence":
        _show_places(page, item, stores, copied=copied)
    _show_losses(page, item.losses)


def _show_places(page: Page, item: PlannedItem, stores: Sequence[str], *, copied: bool) -> None:
    """Show where an item is on both sides, and what becomes of its names and paths."""
    if not item.old_path:
        page.line(item.old_how, indent=4)
        return
    page.line(f"from: {item.old_path} ({item.old_how})", indent=4)
    existing = EXISTING_VALUES if item.store else EXISTING
    aside = f"; {existing[item.existing]}" if item.occupied else ""
    own = item.new_path or "/"
    others = [plain(one) for one in stores if not one.startswith(own)]
    place = f"{item.new_path or 'its place on the new computer'} ({item.new_how}){aside}"
    page.line(f"to: {', '.join(others) or place}", indent=4)
    for rule in item.written[:SHOWN_NAMES] if copied else ():
        page.line(f"paths rewritten in: {_where_written(rule, item)}", "dim", indent=4)
    if copied and len(item.written) > SHOWN_NAMES:
        more = show_count(len(item.written) - SHOWN_NAMES, "more place")
        page.line(f"and in {more} (see --json)", "dim", indent=4)
    for path in sorted(item.from_outside.values())[:SHOWN_NAMES]:
        page.line(f"also copied, from outside the folder: {path}", indent=4)
    if len(item.from_outside) > SHOWN_NAMES:
        page.line(f"and {len(item.from_outside) - SHOWN_NAMES} more files", indent=4)
    if item.carved:
        page.line(f"without: {', '.join(item.carved)} (another item's)", indent=4)
    for state in item.awaited:
        page.line(f"waits until: {state}", indent=4)
    renamed = sorted(item.renamed.items())
    for path, becomes in renamed[:SHOWN_NAMES]:
        page.line(f"renamed on the new computer: {path} becomes {becomes}", "yellow", indent=4)
    if len(renamed) > SHOWN_NAMES:
        page.line(f"and {len(renamed) - SHOWN_NAMES} more names (see --json)", "yellow", indent=4)


def _where_written(rule: WrittenAt, item: PlannedItem) -> str:
    tells = f" (it sets where {rule.tells} is)" if rule.tells else ""
    file = "" if item.store else f"{rule.file or base(item.old_path)} "
    return f"{file}{rule.at}{tells}"


def _show_left(page: Page, item: LeftItem) -> None:
    if item.nothing:
        page.line(f"{item.title}: nothing to transfer", "bold", indent=2)
        page.line(item.nothing, indent=4)
        return
    if item.there:
        page.line(f"{item.title}: already exists", "bold", indent=2)
        page.line(f"both computers use {item.there}, so nothing is copied or retired", indent=4)
        return
    page.line(f"{item.title}: not transferred", "bold yellow", indent=2)
    for passed in item.rejected:
        page.line(f"rejected: {passed.route} – {passed.reason}", "dim", indent=4)
    _show_losses(page, item.losses)
    if item.todo:
        page.line(item.todo, indent=4)


def _show_losses(page: Page, losses: tuple[Loss, ...]) -> None:
    for loss in losses:
        before = f" Before the move: {loss.before}" if loss.before else ""
        page.line(
            f"not transferred: {loss.what} → to do: {loss.remedy}{before}", "yellow", indent=4
        )


def show_legs(page: Page, plan: Plan, *, walked: int = 0) -> None:
    """Show the legs of a plan, step by step, from the first one that was not ``walked``."""
    page.title(f"Legs: {trips_of(plan, 'one')}")
    for leg in plan.legs[walked:]:
        machine = next((s.machine for s in plan.stations if s.station == leg.station), "")
        where = f"{machine} ({leg.station})" if machine else "any computer with a network (between)"
        page.line(f"{leg.number}. on {where}", indent=2)
        for step in plan.steps_of(leg):
            page.line(step_line(step, words_of(step)), indent=5)
