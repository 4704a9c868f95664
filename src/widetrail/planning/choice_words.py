"""What a person chooses of a plan, read from the words in which they say it."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from typing import TypeVar, get_args

from widetrail.errors import InputUnusable
from widetrail.findings import did_you_mean
from widetrail.lazily import dataclass
from widetrail.planning.user_choices import Choices, ReleaseAfter, Verdict
from widetrail.recipe import Loaded
from widetrail.records import Duplicates

V = TypeVar("V")
_VERDICTS: Mapping[str, Verdict] = {"carry": "carry", "leave": "leave"}


@dataclass(frozen=True, kw_only=True)
class ChoiceWords:
    """Choices as a person says them.

    An item is ``item`` or ``recipe.item``, and one of several ``item[name]``. A choice is
    ``item.part=value,value``, ``item=carry`` or ``item=leave`` for what lies outside,
    ``item=route``, ``item=skip`` and its like for records that are there already, ``item=path`` for
    where it is to be on new, and ``place=name`` for which of several is real.
    """

    only: Iterable[str] = ()
    without: Iterable[str] = ()
    choose: Iterable[str] = ()
    outside: Iterable[str] = ()
    routes: Iterable[str] = ()
    duplicates: Iterable[str] = ()
    to: Iterable[str] = ()
    real: Iterable[str] = ()
    release_after: ReleaseAfter = "verifying"


def read_choices(recipes: Sequence[Loaded], words: ChoiceWords) -> Choices:
    """Read what a person chooses of the items of ``recipes``.

    Raises:
        InputUnusable: There is no such item, part, route or place, or the name is that of several.
    """
    names = _Names(recipes)
    parts: dict[str, tuple[str, ...]] = {}
    for text in words.choose:
        name, values = _halves(text, "--choose mailbox.sort=letters,contacts")
        full = names.full(name, names.parts, "part")
        parts[full] = (*parts.get(full, ()), values)
    return Choices(
        frozenset(names.item(name) for name in words.only),
        frozenset(names.item(name) for name in words.without),
        parts,
        dict(_one_of(text, names, _VERDICTS, "--outside recordings") for text in words.outside),
        words.release_after,
        routes=dict(_route(text, names) for text in words.routes),
        duplicates=dict(
            _one_of(text, names, _DUPLICATES, "--duplicates mailbox") for text in words.duplicates
        ),
        to=dict(_to(text, names) for text in words.to),
        real=dict(_real(text, names) for text in words.real),
    )


_DUPLICATES: Mapping[str, Duplicates] = {word: word for word in get_args(Duplicates)}


class _Names:
    """The names that a person may use of some recipes."""

    def __init__(self, recipes: Sequence[Loaded]) -> None:
        self._recipes = {loaded.id: loaded for loaded in recipes}
        listed = [(loaded, f"{loaded.id}.") for loaded in recipes]
        self.items = {f"{begin}{name}" for loaded, begin in listed for name in loaded.recipe.listed}
        self.places = {
            f"{begin}{name}" for loaded, begin in listed for name in loaded.recipe.places
        }
        self.parts = {
            f"{begin}{name}.{part}"
            for loaded, begin in listed
            for name, item in loaded.recipe.items.items()
            for part in item.parts
        }

    def item(self, name: str) -> str:
        """Return the whole name of an item, or of one of several."""
        return self.full(name, self.items, "item")

    def full(self, name: str, known: set[str], what: str) -> str:
        """Return the whole name of what is known by ``name``, which may tell one of several.

        Raises:
            InputUnusable: There is none, or there are more.
        """
        bare, instance, rest = _apart(name)
        wanted = f"{bare}{rest}"
        matches = sorted(k for k in known if k == wanted or k.endswith(f".{wanted}"))
        if len(matches) == 1:
            found = matches[0]
            return f"{found[: len(found) - len(rest)]}{instance}{rest}"
        if matches:
            why = f"it could be {' or '.join(matches)}"
            raise InputUnusable(f"this names more than one {what}", where=name, why=why)
        shorts = {k.partition(".")[2] for k in known} | known
        hint = did_you_mean(wanted, shorts) or f"Available: {', '.join(sorted(known)) or 'none'}."
        raise InputUnusable(f"{what} not found", where=name, todo=hint)

    def recipe_and_item(self, full: str) -> tuple[Loaded, str]:
        """Return the recipe of an item, and its name there."""
        recipe, _, item = _apart(full)[0].partition(".")
        return self._recipes[recipe], item


_NAME = re.compile(r"([^\[]*)(\[.*\])((?:\.[^\]]*)?)", re.DOTALL)
_CHOICE = re.compile(r"([^\[=]*(?:\[.*?\](?:\.[^=\[]*)?)?)=(.*)", re.DOTALL)


def _apart(name: str) -> tuple[str, str, str]:
    """Return the name of an item, which of several it is in brackets, and what follows."""
    found = _NAME.fullmatch(name)
    return (found[1], found[2], found[3]) if found else (name, "", "")


def _halves(text: str, example: str) -> tuple[str, str]:
    """Return what a choice is of, and what is chosen.

    Raises:
        InputUnusable: It does not say both.
    """
    found = _CHOICE.fullmatch(text)
    if found is None or not found[2].strip():
        raise InputUnusable(
            "this option is incomplete", where=text, todo=f"Write it like {example}."
        )
    return found[1], found[2]


def _one_of(text: str, names: _Names, words: Mapping[str, V], example: str) -> tuple[str, V]:
    """Return an item and which of a few words is chosen for it.

    Raises:
        InputUnusable: There is no such item or word.
    """
    name, said = _halves(text, f"{example}={next(iter(words))}")
    if said not in words:
        todo = f"Available: {', '.join(words)}."
        raise InputUnusable("this option is incomplete", where=text, todo=todo)
    return names.item(name), words[said]


def _route(text: str, names: _Names) -> tuple[str, str]:
    """Return an item and the route that is chosen for it.

    Raises:
        InputUnusable: There is no such item, or it has no route of that name.
    """
    name, route = _halves(text, "--route mailbox=export")
    full = names.item(name)
    loaded, item = names.recipe_and_item(full)
    listed = loaded.recipe.items.get(item)
    known = [one.name for one in listed.routes] if listed is not None else []
    if route not in known:
        hint = did_you_mean(route, known) or f"Available: {', '.join(known) or 'none'}."
        raise InputUnusable(f"{full} has no route of that name", where=text, todo=hint)
    return full, route


def _to(text: str, names: _Names) -> tuple[str, str]:
    """Return an item and where it is to be on new.

    Raises:
        InputUnusable: There is no such item, or it does not lie in a folder or file.
    """
    name, path = _halves(text, "--to collection=D:/Herbarium")
    full = names.item(name)
    loaded, item = names.recipe_and_item(full)
    listed = loaded.recipe.items.get(item)
    places = loaded.recipe.places.get(listed.from_, ()) if listed is not None else ()
    if not places or not all(place.plural or place.kind in ("folder", "file") for place in places):
        raise InputUnusable(f"{full} has no folder that can be chosen", where=text)
    return full, path


def _real(text: str, names: _Names) -> tuple[str, str]:
    """Return a place and which of several it is.

    Raises:
        InputUnusable: There is no such place, or it is not one of several.
    """
    name, real = _halves(text, "--real mailroom=Own")
    full = names.full(name, names.places, "place")
    loaded, place = names.recipe_and_item(full)
    if not any(case.plural or case.first_of for case in loaded.recipe.places[place]):
        raise InputUnusable(f"{full} is not one of several", where=text)
    return full, real
