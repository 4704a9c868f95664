"""What is on a machine of the applications that recipes are for; nothing is changed."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import replace

from widetrail.errors import MachineUnusable
from widetrail.finding.finder import Finder
from widetrail.finding.recognising import find_application
from widetrail.finding.selection import Selection, Tally, entries_of, tally
from widetrail.finding.values import Answer, Found, Installation, Instance, Several, Where
from widetrail.formats import Unreadable
from widetrail.lazily import dataclass
from widetrail.machine import Machine
from widetrail.recipe import Item, Loaded


@dataclass(frozen=True)
class SurveyedItem:
    """One item: where it is, how much it is, and the values its checks will compare.

    ``instance`` is the program's name for it where the item's place is several; ``where`` is then
    that one. ``left`` is what of it stays behind on purpose, where that was counted. ``trouble``
    says why it could not be counted.
    """

    name: str
    title: str
    where: Where
    tally: Tally
    checks: tuple[tuple[str, Answer], ...]
    trouble: str = ""
    instance: Instance | None = None
    left: Tally | None = None


@dataclass(frozen=True)
class Surveyed:
    """One recipe's application on the machine; ``installation`` is ``None`` if it is not here.

    Of several ``installations`` the places and items are those of ``installation``.
    """

    id: str
    name: str
    installation: Installation | None
    installations: tuple[Installation, ...] = ()
    places: tuple[tuple[str, Where], ...] = ()
    items: tuple[SurveyedItem, ...] = ()


def count_item(machine: Machine, item: Item, where: Found) -> Tally:
    """Return how much an item is that is at ``where``.

    Raises:
        MachineUnusable: Something of it cannot be read.
        Unreadable: Its values cannot be read.
    """
    if where.kind == "folder":
        return tally(Selection(item, machine.platform).walk(machine, where.path))
    if where.kind == "value":
        return Tally()
    entries, values = entries_of(machine, item, where)
    return replace(tally(entries), values=values)


Count = Callable[[Machine, Item, Found], Tally]
"""What counts an item, as ``count_item`` does."""


def survey(
    machine: Machine,
    recipes: Iterable[Loaded],
    *,
    ask_programs: bool = False,
    count: Count = count_item,
) -> tuple[Surveyed, ...]:
    """Look for each recipe's application, places and items on ``machine``.

    ``ask_programs`` lets readings start the application's programs to read what they print.
    """
    listed = list(recipes)
    used = {name for loaded in listed for name in loaded.recipe.relies_on}
    lenders = {
        loaded.id: find_application(machine, loaded) for loaded in listed if loaded.id in used
    }
    return tuple(_application(machine, one, ask_programs, lenders, count) for one in listed)


def _application(
    machine: Machine,
    loaded: Loaded,
    ask_programs: bool,
    lenders: Mapping[str, Finder],
    count: Count,
) -> Surveyed:
    finder = find_application(machine, loaded, ask_programs=ask_programs, lenders=lenders)
    name = loaded.recipe.application.name
    if finder.installation is None:
        return Surveyed(loaded.id, name, None)
    places = tuple((place, finder.place(place)) for place in loaded.recipe.places)
    items = tuple(i for key in loaded.recipe.items for i in _items(finder, key, count))
    return Surveyed(
        loaded.id, name, finder.installation, finder.recognised.installations, places, items
    )


def _items(finder: Finder, name: str, count: Count) -> list[SurveyedItem]:
    item = finder.loaded.recipe.items[name]
    where = finder.place(item.from_)
    if not isinstance(where, Several) or not where.instances:
        return [_item(finder, name, where, count)]
    found = []
    for instance in where.instances:
        inner = finder.within(item.from_, instance)
        found.append(_item(inner, name, inner.place(item.from_), count, instance))
    return found


def _item(
    finder: Finder, name: str, where: Where, count: Count, instance: Instance | None = None
) -> SurveyedItem:
    item = finder.loaded.recipe.items[name]
    counted, trouble = Tally(), ""
    if isinstance(where, Found):
        try:
            counted = count(finder.machine, item, where)
        except (MachineUnusable, Unreadable) as error:
            trouble = str(error)
    checks = tuple((check, finder.answer(check, item)) for check in item.checks)
    return SurveyedItem(name, item.title, where, counted, checks, trouble, instance)
