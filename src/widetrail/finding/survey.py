"""What is on a machine of the applications that recipes are for; nothing is changed."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from widetrail.errors import MachineUnusable
from widetrail.finding.finder import Finder
from widetrail.finding.readings import Answer
from widetrail.finding.selection import Selection, Tally, tally
from widetrail.finding.values import Found, Installation, Where
from widetrail.machine import Machine
from widetrail.recipe import Loaded


@dataclass(frozen=True, slots=True)
class SurveyedItem:
    """One item: where it is, how much it is, and the values its checks will compare."""

    name: str
    title: str
    where: Where
    tally: Tally
    checks: tuple[tuple[str, Answer], ...]
    trouble: str = ""


@dataclass(frozen=True, slots=True)
class Surveyed:
    """One recipe's application on the machine; ``installation`` is ``None`` if it is not here."""

    id: str
    name: str
    installation: Installation | None
    items: tuple[SurveyedItem, ...] = ()


def survey(machine: Machine, recipes: Iterable[Loaded]) -> tuple[Surveyed, ...]:
    """Look for each recipe's application and items on ``machine``."""
    return tuple(_application(machine, loaded) for loaded in recipes)


def _application(machine: Machine, loaded: Loaded) -> Surveyed:
    finder = Finder(machine, loaded)
    name = loaded.recipe.application.name
    if finder.installation is None:
        return Surveyed(loaded.id, name, None)
    items = tuple(_item(finder, key) for key in loaded.recipe.items)
    return Surveyed(loaded.id, name, finder.installation, items)


def _item(finder: Finder, name: str) -> SurveyedItem:
    item = finder.loaded.recipe.items[name]
    where = finder.place(item.from_)
    count, trouble = Tally(), ""
    if isinstance(where, Found) and where.kind == "folder":
        selection = Selection(item, finder.machine.platform)
        try:
            count = tally(selection.walk(finder.machine, where.path))
        except MachineUnusable as error:
            trouble = str(error)
    checks = tuple((check, finder.reading(check)) for check in item.checks)
    return SurveyedItem(name, item.title, where, count, checks, trouble)
