"""A plan on one screen: a line for each item, the trips, what stays behind and what to do."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator
from typing import NamedTuple

from rich.cells import cell_len

from widetrail.cli.fitting import cut, cut_path, cut_title, padded
from widetrail.cli.output import Page
from widetrail.cli.plan_page import title_of, trips_of
from widetrail.formats.quantities import show_count, show_size
from widetrail.planning import LeftItem, Plan, PlannedItem
from widetrail.recipe.templates import plain
from widetrail.steps import Step, act_of
from widetrail.steps.kind import Effect

WIDE = 120
"""Columns from which on a plan has both places of an item in its line."""

ROUTE_MOST, NOTE_MOST, SIZE = 28, 24, 9
"""Columns of the names of routes and of remarks, at most, and of sizes."""

NOTICES = 6
"""Notices that are shown, at most."""


class _Row(NamedTuple):
    """What a line tells of an item; ``tail`` ends the title where the item is one of several."""

    title: str
    route: str
    size: str
    old: str
    new: str
    remarks: str
    tail: str = ""


_HEADS = _Row("item", "route", "size", "from", "to", "remarks")


def show_table(page: Page, plan: Plan) -> None:
    """Show a plan on ``page``, so that ten programs fit one screen."""
    page.title(title_of(plan))
    stores = {s.item: plain(s.merges_into) for s in plan.steps if s.merges_into}
    rows = [_row(item, stores.get(item.id, "")) for item in plan.items]
    if rows:
        _show_rows(page, rows)
    _show_trips(page, plan)
    _show_left(page, plan)
    _show_section(page, "Routes that were rejected", _rejected(plan.items), "dim")
    notices = [*plan.notices, *_counted(t for item in plan.items for t in item.tasks)]
    if len(notices) > NOTICES:
        notices[NOTICES:] = [f"and {len(notices) - NOTICES} more (--details)"]
    _show_section(page, "Notes", notices)


def _tail(item: PlannedItem) -> str:
    """Return how the title of an item ends that is one of several."""
    return f" – {item.instance}" if item.instance else ""


def _row(item: PlannedItem, store: str) -> _Row:
    size = "" if item.kind == "licence" else show_size(item.size)
    to = store or item.new_path or ("found there" if item.old_path else "")
    remarks = ", ".join(_remarks(item))
    return _Row(item.title, item.route, size, item.old_path, to, remarks, _tail(item))


def _remarks(item: PlannedItem) -> Iterator[str]:
    """Give what a person should see of an item at once."""
    if item.occupied:
        yield {
            "back up": "existing backed up",
            "replace": "same names backed up",
            "alongside": "beside existing",
            "skip": "existing stay",
            "refuse": "",
        }[item.existing]
    if item.assumed:
        yield f"{show_count(len(item.assumed), 'fact')} assumed"
    if item.awaited:
        yield "waits"
    if item.renamed:
        yield f"{show_count(len(item.renamed), 'name')} changed"
    for part, values in item.parts_left.items():
        yield f"not all of {part}: {len(values)} left out"


def _show_rows(page: Page, rows: list[_Row]) -> None:
    """Print the items in columns that fit the page: places in the same line where it is wide."""
    route = min(ROUTE_MOST, max(cell_len(row.route) for row in rows))
    wide = page.width >= WIDE
    note = min(NOTE_MOST, max(cell_len(row.remarks) for row in rows)) if wide else 0
    rest = page.width - route - note - SIZE - 2 * (6 if wide else 3)
    item = min(max(cell_len(row.title) for row in rows), rest * 2 // 5 if wide else rest)
    place = (rest - item) // 2
    for row in (_HEADS, *rows):
        title = cut_title(row.title, row.tail, item)
        cells = [padded(title, item), padded(cut(row.route, route), route)]
        cells.append(padded(row.size, SIZE, right=True))
        if wide:
            cells += [padded(cut_path(path, place), place) for path in (row.old, row.new)]
            cells.append(cut(row.remarks, note))
        page.columns("  ".join(cells).rstrip(), "dim" if row is _HEADS else "", indent=2)
        if not wide and row is not _HEADS and (row.old or row.new):
            _show_places(page, row)


def _show_places(page: Page, row: _Row) -> None:
    """Print both places of an item in a line of their own, and what is to be seen of it."""
    told = f"  ({row.remarks})" if row.remarks else ""
    place = (page.width - 7 - cell_len(told)) // 2
    page.columns(f"{cut_path(row.old, place)} → {cut_path(row.new, place)}{told}", "dim", indent=4)


def _show_trips(page: Page, plan: Plan) -> None:
    page.title(trips_of(plan, "One"))
    for leg in plan.legs:
        station = plan.station(leg.station)
        steps = plan.steps_of(leg)
        items = show_count(len({step.item for step in steps}), "item")
        words = [f"{show_count(len(steps), 'step')} for {items}", *_acts(steps)]
        page.line(
            f"{leg.number}. on {station.machine} ({leg.station}): {', '.join(words)}", indent=2
        )


def _acts(steps: Iterable[Step]) -> Iterator[str]:
    """Give what a leg does beside copying: programs that it starts, what a person does."""
    counts = Counter(act_of(step).effect for step in steps)
    told: dict[Effect, str] = {"starts": "starts a program", "asks": "asks you", "waits": "waits"}
    for effect, words in told.items():
        if count := counts[effect]:
            yield f"{words} {'once' if count == 1 else f'{count} times'}"


def _show_left(page: Page, plan: Plan) -> None:
    names = {recipe.id: recipe.name for recipe in plan.recipes}
    lines = [*map(_left_words, plan.left)]
    for item in plan.items:
        name = names[item.recipe]
        before = (
            f" (before the move: {loss.before})" if loss.before else "" for loss in item.losses
        )
        lines += [
            f"{name}: {loss.what} → {loss.remedy}{more}"
            for loss, more in zip(item.losses, before, strict=True)
        ]
    _show_section(page, "Not transferred, and what to do about it", _counted(lines), "yellow")


def _left_words(item: LeftItem) -> str:
    if item.nothing:
        return f"{item.title}: nothing to transfer, {item.nothing}"
    if item.there:
        return f"{item.title}: there already, since both computers use {item.there}"
    reasons = sorted({one.reason for one in item.rejected}, key=len)
    why = f" – {reasons[0]}" if reasons else ""  # --details has those of the other routes
    remedies = [item.todo, *(f"{loss.what}: {loss.remedy}" for loss in item.losses)]
    todo = " ".join(filter(None, remedies))
    return f"{item.title}{why}{f' → {todo}' if todo else ''}"


def _rejected(items: Iterable[PlannedItem]) -> list[str]:
    return _counted(
        f"{item.title.removesuffix(_tail(item))}: {one.route} – {one.reason}"
        for item in items
        for one in item.rejected
    )


def _counted(lines: Iterable[str]) -> list[str]:
    """Return each line once, with how often it was there."""
    counts: dict[str, int] = {}
    for line in lines:
        counts[line] = counts.get(line, 0) + 1
    return [f"{line} ({count} times)" if count > 1 else line for line, count in counts.items()]


def _show_section(page: Page, title: str, lines: list[str], style: str = "") -> None:
    if lines:
        page.title(title)
    for line in lines:
        page.line(f"- {line}", style, indent=2)
