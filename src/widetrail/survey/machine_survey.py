"""A whole machine by a whole shelf of recipes: what is here, what it holds, and what nobody claims.

Recipes are recognised first; only those whose signs are there are read in whole, and only these are
asked what tells their places. Nothing is changed.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator, Mapping
from dataclasses import field, replace

from widetrail.errors import MachineUnusable
from widetrail.finding import Found, Surveyed, Tally, find_application, survey, why_not_here
from widetrail.finding.globbing import has_glob, split_glob
from widetrail.finding.recipe_survey import count_item
from widetrail.finding.stores import store_kind
from widetrail.formats import Unreadable
from widetrail.formats.outside import names_in
from widetrail.lazily import dataclass
from widetrail.machine import Machine
from widetrail.machine.paths import join
from widetrail.recipe import Item, Loaded
from widetrail.recipe.outline import Outline
from widetrail.recipe.recipe_cache import Shelf
from widetrail.survey.automaton import key_of
from widetrail.survey.claims import Claimed
from widetrail.survey.disk_walk import Tick
from widetrail.survey.inventory import NOTHING, Stock, take_stock
from widetrail.survey.scope import grounds_of

EXPLAINED = 50
"""Applications of which it is told why they are not here, at most: each recipe is read for it."""


@dataclass(frozen=True)
class Remains:
    """What an item of an application that is not here would stand for: it is there all the same."""

    recipe: str
    name: str
    item: str
    path: str
    tally: Tally


@dataclass(frozen=True)
class Survey:
    """What is on a machine: the applications that are ``here``, what remains of those that are
    not, how many recipes these are, and the stock of all else.

    ``missing`` is what was looked for of applications that are not here, by the ids of their
    recipes, where those are at most ``EXPLAINED``.
    """

    here: tuple[Surveyed, ...]
    remains: tuple[Remains, ...] = ()
    not_here: tuple[str, ...] = ()
    stock: Stock = NOTHING
    missing: Mapping[str, tuple[str, ...]] = field(default_factory=dict)

    @staticmethod
    def of(machine: Machine, recipes: Iterable[Loaded], found: Iterable[Surveyed]) -> Survey:
        """Return a survey for which no disk was walked."""
        listed = tuple(found)
        here = tuple(one for one in listed if one.installation is not None)
        absent = {one.id for one in listed if one.installation is None}
        missing = _missing(machine, absent, {one.id: one for one in recipes}.__getitem__)
        return Survey(here, not_here=tuple(sorted(absent)), missing=missing)

    def newest_first(self) -> Survey:
        """Return it with what nobody claims in another order: the newest change first."""
        groups = sorted(self.stock.groups, key=lambda group: (-group.tally.newest, group.path))
        return replace(self, stock=replace(self.stock, groups=tuple(groups)))


def survey_all(
    machine: Machine,
    shelf: Shelf,
    *,
    ask_programs: bool = False,
    below: str = "",
    tick: Tick = lambda share, names: None,
) -> Survey:
    """Look for every recipe of a shelf, then walk the machine once, at and below ``below`` only
    where that is given.

    Only recipes whose signs are there are read in whole, and only these are asked what tells their
    places; of the others what they claim unless told is looked for.

    Raises:
        InputUnusable: ``below`` is not a folder of the machine.
        DocumentUnusable: A recipe has findings that are errors.
    """
    grounds = grounds_of(machine, below)
    outlines = {id: one.outline(machine.platform) for id, one in shelf.recipes.items()}
    names = _Names(machine)
    loaded = [shelf.load(id) for id in _near(names, shelf, outlines)]
    found = survey(machine, loaded, ask_programs=ask_programs, count=_uncounted)
    here = tuple(one for one in found if one.installation is not None)
    ids = {one.id for one in here}
    recipes = {one.id: one.recipe for one in loaded}
    claims = [c for one in here for c in _claims_of(one, recipes[one.id].items)]
    mine = len(claims)
    absent = {id: one.name for id, one in shelf.recipes.items() if id not in ids}
    claims += [claim for id in absent for claim in _unless_told(names, id, outlines[id])]
    stock = take_stock(machine, claims, grounds, tick)
    numbers = {(c.recipe, c.item, c.path): n for n, c in enumerate(claims[:mine])}
    remains = [
        Remains(claim.recipe, absent[claim.recipe], claim.item, claim.path, tally)
        for claim, tally in zip(claims[mine:], stock.taken[mine:], strict=True)
        if tally.files
    ]
    counted = tuple(_counted(one, recipes[one.id].items, numbers, stock) for one in here)
    missing = _missing(machine, absent, shelf.load)
    return Survey(counted, tuple(remains), tuple(sorted(absent)), stock, missing)


def _missing(
    machine: Machine, absent: Collection[str], load: Callable[[str], Loaded]
) -> dict[str, tuple[str, ...]]:
    """Return what was looked for of applications that are not here, where those are few."""
    if len(absent) > EXPLAINED:
        return {}
    return {id: why_not_here(find_application(machine, load(id))) for id in absent}


class _Names:
    """The names right below each root of a machine, so that thousands of paths that are not there
    need not be looked for one by one."""

    def __init__(self, machine: Machine) -> None:
        self.machine, self._fold = machine, key_of(machine.platform)
        self._known: dict[str, frozenset[str] | None] = {}

    def may_hold(self, root: str, below: str) -> bool:
        """Return whether there may be something at ``below`` below a root; it may hold globs."""
        first = below.partition("/")[0]
        if not first or has_glob(first):
            return True
        if root not in self._known:
            self._known[root] = self._listed(self.machine.root(root))
        known = self._known[root]
        return known is None or self._fold(first) in known

    def _listed(self, path: str) -> frozenset[str] | None:
        """Return the keys of the names in a folder; ``None`` where it does not tell them."""
        try:
            return frozenset(map(self._fold, names_in(self.machine.host(path))))
        except FileNotFoundError:
            return frozenset()
        except (MachineUnusable, OSError, ValueError):
            return None


def near(machine: Machine, shelf: Shelf) -> list[Loaded]:
    """Return the recipes of a shelf whose applications may be on a machine, by their signs."""
    outlines = {id: one.outline(machine.platform) for id, one in shelf.recipes.items()}
    return [shelf.load(id) for id in _near(_Names(machine), shelf, outlines)]


def _near(names: _Names, shelf: Shelf, outlines: Mapping[str, Outline]) -> list[str]:
    """Return the recipes of which a sign may be here, with those that lend them places."""
    near = {id for id, outline in outlines.items() if _may_be_here(names, outline)}
    lent = {used for id in near for used in shelf.recipes[id].uses}
    return [id for id in shelf.recipes if id in near or id in lent]


def _may_be_here(names: _Names, outline: Outline) -> bool:
    return any(_sees(names, sign.kind, sign.what, sign.view) for sign in outline.signs)


def _sees(names: _Names, kind: str, what: str, view: str) -> bool:
    machine = names.machine
    if kind == "unsure":
        return True
    if kind == "command":
        return machine.command(what) is not None
    try:
        if kind == "registry":
            return machine.registry.key(what, view) is not None
        root, _, below = what[1:].partition("}")
        if not names.may_hold(root, below.strip("/")):
            return False
        path = join(machine.root(root), below)
        return machine.look(split_glob(path)[0] if has_glob(path) else path) is not None
    except Unreadable:
        return False
    except MachineUnusable:  # the whole recipe tells why
        return True


def _uncounted(machine: Machine, item: Item, where: Found) -> Tally:
    """Count what is not a file, or values in one; files are counted by the walk."""
    return Tally() if _is_counted_later(item, where) else count_item(machine, item, where)


def _is_counted_later(item: Item, where: Found) -> bool:
    return where.kind in ("folder", "file") and store_kind(item, where.path, where.kind) is None


def _claims_of(one: Surveyed, items: Mapping[str, Item]) -> Iterator[Claimed]:
    for item in one.items:
        if isinstance(item.where, Found) and item.where.kind in ("folder", "file"):
            rule = items[item.name]
            yield Claimed(one.id, item.name, item.where.path, rule.take, rule.leave)
    for _, where in one.places:
        if isinstance(where, Found) and where.kind in ("folder", "file"):
            yield Claimed(one.id, "", where.path)


def _unless_told(names: _Names, id: str, outline: Outline) -> Iterator[Claimed]:
    for claim in outline.claims:
        if not names.may_hold(claim.root, claim.below):
            continue
        root = names.machine.root(claim.root)
        fixed = len(root) if claim.is_glob else -1
        path = join(root, claim.below)
        yield Claimed(id, claim.item, path, claim.take, claim.leave, fixed, here=False)


def _counted(
    one: Surveyed,
    rules: Mapping[str, Item],
    numbers: Mapping[tuple[str, str, str], int],
    stock: Stock,
) -> Surveyed:
    items = []
    for item in one.items:
        where = item.where
        if isinstance(where, Found) and _is_counted_later(rules[item.name], where):
            number = numbers[one.id, item.name, where.path]
            item = replace(item, tally=stock.taken[number], left=stock.left[number])
        items.append(item)
    return replace(one, items=tuple(items))
