"""What a recipe may do on either computer, told by its text alone.

Each platform is gone through: the readings anywhere in the recipe, and the steps of every route as
a plan would unfold them. What a place is told as by the program's own settings may lie anywhere,
and is told so. What a program does that is started is its own: nothing here can tell it.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from typing import Literal, NamedTuple, TypeVar

from widetrail.formats.documents import Model
from widetrail.machine.platforms import PLATFORMS, Platform
from widetrail.machine.roots import default_home, standard_roots
from widetrail.machine.sensitive import Attention, attention_key, attentions
from widetrail.planning.recipe_steps import steps_of_licence, steps_of_route
from widetrail.recipe import Item, Loaded, Reading, Recipe, Route, Station
from widetrail.recipe.by_platform import PathChoice, on_platform
from widetrail.recipe.licence_models import Licence
from widetrail.recipe.lint.whole import OF_LICENCES
from widetrail.recipe.places import Place
from widetrail.recipe.readings import InForm
from widetrail.recipe.templates import ROOTS, Brace, literal, parse_template, plain
from widetrail.steps import Step, act_of
from widetrail.steps.commands import show_command

PermissionKind = Literal[
    "starts", "reads", "writes", "removes", "start-up", "access", "secret", "network"
]
"""What a recipe may do: start a program, read, write or remove; write where programs are started
from by themselves, or where it is said who may use the account; ask for a secret; need a network.
"""

MAY_DO: dict[PermissionKind, str] = {
    "starts": "Starts",
    "writes": "Writes",
    "removes": "Removes or renames",
    "start-up": "Writes where programs are started from automatically",
    "access": "Writes where it is said who may use the account",
    "secret": "Asks for or carries a secret",
    "network": "Needs a network",
    "reads": "Reads",
}
"""What a recipe may do, for people, in the order in which they should read it."""

COMPUTERS: dict[Station | Literal["both"], str] = {
    "old": "old computer",
    "new": "new computer",
    "between": "computer between",
    "both": "both computers",
}
"""Where a recipe may do something, for people."""


class Permission(NamedTuple):
    """One thing that a recipe may do at a station; ``both`` is the old and the new computer.

    ``what`` is a path, a key, a command, or words for a secret; ``told`` says by what it may be
    somewhere else, and is empty where the recipe fixes it. ``program`` is what a command starts.
    ``platforms`` are those on which it is so, none where on all of the recipe.
    """

    kind: PermissionKind
    station: Station | Literal["both"]
    what: str
    told: str = ""
    platforms: tuple[Platform, ...] = ()
    program: str = ""


def permissions_of(loaded: Loaded) -> tuple[Permission, ...]:
    """Return what a recipe may do, the gravest first.

    Example:
        >>> [recipe] = load_recipes(["recipes/huemoss.trail.yaml"])
        >>> [one.what for one in permissions_of(recipe) if one.kind == "starts"][0]
        '‹programs›/Huemoss/huemoss.exe take ‹parcel›/palettes.json'
    """
    found: dict[_May, dict[Station, set[Platform]]] = {}
    mine = [p for p in PLATFORMS if _is_for(loaded.recipe, p)]
    for platform in mine:
        for station, may in _OnPlatform(loaded, platform).all():
            found.setdefault(may, {}).setdefault(station, set()).add(platform)
    permissions = [
        Permission(
            may.kind,
            station,
            may.what,
            may.told,
            () if len(on) == len(mine) else _in_order(on),
            may.program,
        )
        for may, stations in found.items()
        for station, on in _together(stations)
    ]
    order = list(MAY_DO)
    return tuple(sorted(permissions, key=lambda one: (order.index(one.kind), one[1:])))


def more_than_before(before: Loaded, after: Loaded) -> tuple[Permission, ...]:
    """Return what a recipe may do that another revision of it might not, on any platform."""
    known = {one for permission in permissions_of(before) for one in _each(permission, before)}
    return tuple(
        permission
        for permission in permissions_of(after)
        if not set(_each(permission, after)) <= known
    )


def _each(permission: Permission, of: Loaded) -> Iterator[Permission]:
    """Give a permission for each station and platform that it is for."""
    stations = _BOTH if permission.station == "both" else (permission.station,)
    for platform in permission.platforms or [p for p in PLATFORMS if _is_for(of.recipe, p)]:
        for station in stations:
            yield permission._replace(station=station, platforms=(platform,))


def _is_for(recipe: Recipe, platform: Platform) -> bool:
    cases = (case.for_ for case in recipe.recognise)
    return any(case is None or case.may_hold_on(platform) for case in cases)


def _in_order(on: Iterable[Platform]) -> tuple[Platform, ...]:
    return tuple(p for p in PLATFORMS if p in set(on))


def _together(
    stations: Mapping[Station, set[Platform]],
) -> Iterator[tuple[Station | Literal["both"], set[Platform]]]:
    """Give the stations of a permission, old and new as one where it is the same at both."""
    same = "old" in stations and stations["old"] == stations.get("new")
    if same:
        yield "both", stations["old"]
    for station, on in stations.items():
        if not same or station == "between":
            yield station, on


class _May(NamedTuple):
    """A permission wherever it is, as ``Permission`` tells it."""

    kind: PermissionKind
    what: str
    told: str = ""
    program: str = ""


_Told = tuple[Station, _May]
C = TypeVar("C", Place, Reading)

_Path = tuple[str, str]
"""A path template, and what tells that it is somewhere else."""

_BOTH: tuple[Station, ...] = ("old", "new")


class _OnPlatform:
    """What a recipe may do on one platform."""

    def __init__(self, loaded: Loaded, platform: Platform) -> None:
        self._loaded, self._recipe, self._platform = loaded, loaded.recipe, platform
        system = PLATFORMS[platform].sample.system
        self._roots = standard_roots(platform, system, default_home(platform, system, "‹user›"))

    def all(self) -> Iterator[_Told]:
        recipe = self._recipe
        named = [one for cases in recipe.readings.values() for one in self._cases(cases)]
        placed = [one for cases in recipe.places.values() for one in self._cases(cases)]
        for reading in _readings((recipe.recognise, tuple(placed), tuple(named), recipe.listed)):
            yield from self._of_reading(reading)
        for case in self._recipe.recognise:
            sign = case.sign
            for path, told in self._paths_of(sign.where) if sign.where is not None else ():
                yield from ((at, _May("reads", path, told)) for at in _BOTH)
            if sign.registry is not None and "registry" in PLATFORMS[self._platform].stores:
                yield from ((at, _May("reads", sign.registry)) for at in _BOTH)
        close = self._recipe.application.close
        if close:
            yield from ((at, self._starting(close)) for at in _BOTH)
        for ask in self._recipe.asks.values():
            if ask.secret is not None:
                yield from ((at, _May("secret", ask.secret)) for at in _BOTH)
        for name, listed in self._recipe.listed.items():
            yield from self._of_item(name, listed)

    def _of_reading(self, reading: InForm) -> Iterator[_Told]:
        case = getattr(reading, "for_", None)
        if case is not None and not case.may_hold_on(self._platform):
            return
        if reading.command is not None:
            yield from ((at, self._starting(reading.command)) for at in _BOTH)
            return
        for path, told in self._read_at(reading):
            yield from ((at, _May("reads", path, told)) for at in _BOTH)

    def _read_at(self, reading: InForm) -> Iterator[_Path]:
        """Give where a value stands: files, or a place in a store."""
        stores = PLATFORMS[self._platform].stores
        if reading.key is not None:
            yield from ((reading.key, ""),) if "registry" in stores else ()
        elif reading.settings is not None:
            yield from ((reading.settings, ""),) if "dconf" in stores else ()
        elif reading.in_file:
            yield from self._paths_of(reading.where)

    def _starting(self, command: tuple[str, ...]) -> _May:
        named = self._recipe.application.programs.get(command[0])
        path = on_platform(named, self._platform) if named is not None else None
        program = path or command[0]
        return _May("starts", show_command((program, *command[1:])), program=plain(program))

    def _of_item(self, name: str, listed: Item | Licence) -> Iterator[_Told]:
        if isinstance(listed, Licence):
            if listed.serial is not None:
                yield "old", _May("secret", f"the serial of {listed.title}")
            for way in listed.routes:
                steps = steps_of_licence(self._loaded, name, way)
                yield from self._of_route(way.as_route(), listed.title, steps)
            return
        if listed.kind == "secret":
            yield "old", _May("secret", listed.title)
        if listed.retire:
            for path, told in self._of_place(listed.from_, ""):
                yield "old", _May("removes", path, told)
        for named in listed.paths:  # in which what names the old computer is rewritten
            for at in self._read_at(named):
                yield from (("new", one) for one in self._changing("writes", *at))
        for route in listed.routes:
            steps = steps_of_route(self._loaded, name, route)
            yield from self._of_route(route, listed.title, steps)

    def _of_route(self, route: Route, title: str, steps: Iterable[Step]) -> Iterator[_Told]:
        stations: tuple[Station, ...] = ("old", "new", "between")
        for station in stations:
            needs = getattr(route.needs, station)
            if needs is not None and needs.network is not None:
                yield station, _May("network", title)
        for step in steps:
            yield from self._of_step(step)

    def _of_step(self, step: Step) -> Iterator[_Told]:
        for command in step.commands.values():
            yield step.station, self._starting(command)
        mine = PLATFORMS[self._platform].stores
        keys = [key for store, key in step.stores if store in mine]
        changed = dict.fromkeys((*step.writes, *step.changes, *step.leaves, *keys))
        kind: PermissionKind = "removes" if act_of(step).removes else "writes"
        for text in changed:
            for at in self._paths(text):
                yield from ((step.station, one) for one in self._changing(kind, *at))
        for text in step.reads:
            for path, told in self._paths(text):
                yield step.station, _May("reads", path, told)

    def _changing(self, kind: PermissionKind, path: str, told: str) -> Iterator[_May]:
        """Give what it is to write or remove something: more than that at some places."""
        yield _May(kind, path, told)
        yield from (_May(why, path, told) for why in self._attentions(path))

    def _attentions(self, path: str) -> Iterator[PermissionKind]:
        """Give why writing at a path is more than that, if it is."""
        found = set[Attention | None]()
        root, _, below = path[1:].partition("›") if path.startswith("‹") else ("", "", "")
        if root in self._roots:
            at = f"{self._roots[root]}{below}"
            found |= attentions(at, self._platform, self._roots)
        elif "\\" in path:
            found.add(attention_key(path))
        yield from (why for why in found if why is not None and why != "outside")

    # Where places are

    def _paths_of(self, choice: PathChoice) -> Iterator[_Path]:
        text = on_platform(choice, self._platform)
        yield from self._paths(text) if text is not None else ()

    def _paths(self, text: str, known: tuple[str, ...] = ()) -> Iterator[_Path]:
        """Give the paths on this platform that a template may be, from their roots."""
        place, mark, rest = text[1:].partition("›") if text.startswith("‹") else ("", "", "")
        if not mark:
            first, *others = parse_template(text) or ("",)
            if not isinstance(first, Brace):
                yield plain(text), ""
                return
            place = first.name
            rest = plain("".join(_again(one) for one in others))
        if place in ("parcel", *OF_LICENCES):  # what travels is not on the computer
            return
        if place in ROOTS or place not in self._recipe.places or place in known:
            yield f"‹{place}›{rest}", ""
            return
        yield from self._of_place(place, rest, known)

    def _of_place(self, name: str, rest: str, known: tuple[str, ...] = ()) -> Iterator[_Path]:
        for case in self._cases(self._recipe.places.get(name, ())):
            for path, told in self._of_case(case, (*known, name)):
                yield (f"{path}{rest}" if path else f"‹{name}›{rest}"), told

    def _cases(self, cases: Iterable[C]) -> Iterator[C]:
        """Give the cases that may hold on this platform, up to the first that always does."""
        for case in cases:
            wanted = case.for_
            if wanted is None or wanted.may_hold_on(self._platform):
                yield case
                if wanted is None or not (wanted.system or wanted.release or wanted.edition):
                    return

    def _of_case(self, case: Place, known: tuple[str, ...]) -> Iterator[_Path]:
        choices = (case.folder, case.file, *case.first_of, case.each, case.otherwise)
        for choice in choices:
            text = on_platform(choice, self._platform) if choice is not None else None
            yield from self._paths(text, known) if text is not None else ()
        if "registry" in PLATFORMS[self._platform].stores:
            yield from ((key, "") for key in (case.key, case.value) if key is not None)
        if "dconf" in PLATFORMS[self._platform].stores and case.dconf is not None:
            yield case.dconf, ""
        for told_by in (case.set_in, case.index, case.listed_in):
            wanted = getattr(told_by, "for_", None)
            if told_by is not None and (wanted is None or wanted.may_hold_on(self._platform)):
                for path, _ in self._read_at(told_by):
                    at = getattr(told_by, "at", None)
                    yield "", f"{at} in {path}" if at else path


def _again(piece: str | Brace) -> str:
    return f"{{{piece.name}}}" if isinstance(piece, Brace) else literal(piece)


def _readings(of: object) -> Iterator[InForm]:
    """Give everything that is read, wherever it stands in a recipe."""
    if isinstance(of, InForm):
        if of.role != "write":
            yield of
    elif isinstance(of, Model):
        for name in type(of).model_fields:
            yield from _readings(getattr(of, name))
    elif isinstance(of, Mapping):
        for one in of.values():
            yield from _readings(one)
    elif isinstance(of, tuple):
        for one in of:
            yield from _readings(one)
