"""The frozen values a recipe is made of.

They are made in one place, the loader; nothing here reads a file or a machine.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from functools import cached_property
from typing import Annotated, Any, ClassVar, Literal

from pydantic import (
    AfterValidator,
    BeforeValidator,
    Discriminator,
    Field,
    Tag,
    ValidationInfo,
    model_validator,
)

from widetrail.formats.documents import TAG, Model, Unknown, YesNo, expected_one_of, flaw
from widetrail.formats.expressions import check_one_group
from widetrail.formats.form import Holder, Role
from widetrail.formats.forms import FORMS, forms_for
from widetrail.machine.platforms import PLATFORMS, Platform, PlatformName
from widetrail.recipe.conditions import Condition, Limit, Needs, one_or_many
from widetrail.recipe.globs import check_glob
from widetrail.recipe.releases import check_releases
from widetrail.recipe.settings import Settings
from widetrail.recipe.templates import check_path, parse_template

Station = Literal["old", "new", "between"]
STATIONS: tuple[Station, ...] = ("old", "new", "between")
Existing = Literal["put aside", "overwrite", "alongside", "pass by", "stop"]

_NAME = re.compile(r"[a-z][a-z0-9_]*")
_HIVE = re.compile(r"(HKEY_[A-Z_]+|HK(LM|CU|CR|U|CC))(\\.+)?", re.DOTALL)
_COMMAND = re.compile(r"[A-Za-z0-9][A-Za-z0-9_.+-]*")
_ID = re.compile(r"[a-z][a-z0-9]*(-[a-z0-9]+)*")


def _check_name(text: str) -> str:
    if not _NAME.fullmatch(text):
        raise flaw("name", f'"{text}" is no name', "Names are small letters, digits and _")
    return text


def _check_id(text: str) -> str:
    if not _ID.fullmatch(text):
        hint = "An id is small letters and digits in groups joined by -"
        raise flaw("id", f'"{text}" is no id', hint)
    return text


def _check_template(text: str) -> str:
    parse_template(text)
    return text


def _check_said(text: str) -> str:
    if not text.strip():
        raise flaw("empty", "nothing stands here")
    return text


def _check_key(text: str) -> str:
    if not _HIVE.fullmatch(text):
        hint = r"Write it like 'HKEY_CURRENT_USER\Software\Maker\Program', in single quotes"
        raise flaw("registry-key", f'"{text}" is no registry key', hint)
    return text


def _check_program(text: str) -> str:
    return text if _COMMAND.fullmatch(text) else check_path(text)


def _check_settings_path(text: str) -> str:
    if not re.fullmatch(r"(/[A-Za-z0-9_:.-]+)+/?", text):
        raise flaw("dconf", f'"{text}" is no path of settings', "Write it like /org/example/app")
    return text


def _is_mapping(value: Any) -> str:
    return f"{TAG}map" if isinstance(value, Mapping | PerPlatform) else f"{TAG}text"


Name = Annotated[str, AfterValidator(_check_name)]
Said = Annotated[str, AfterValidator(_check_said)]
PathText = Annotated[str, AfterValidator(check_path)]
ArgumentText = Annotated[str, AfterValidator(_check_template)]
AppId = Annotated[str, AfterValidator(_check_id)]
KeyText = Annotated[str, AfterValidator(_check_key)]
SettingsPath = Annotated[str, AfterValidator(_check_settings_path)]
Glob = Annotated[str, AfterValidator(check_glob)]
Range = Annotated[str, AfterValidator(check_releases)]


class PerPlatform(Model):
    """One text for each platform; ``else`` for those not named."""

    by_platform: dict[str, PathText] = Field(default_factory=dict)
    otherwise: PathText | None = Field(None, alias="else")

    @classmethod
    def known_keys(cls) -> frozenset[str]:
        """Return the names of the platforms, and ``else``."""
        return frozenset({*PLATFORMS, "else"})

    @model_validator(mode="before")
    @classmethod
    def _by_name(cls, data: Any) -> Any:
        if not isinstance(data, Mapping) or "by_platform" in data:
            return data
        named = {name: text for name, text in data.items() if name in PLATFORMS}
        return {"by_platform": named, **({"else": data["else"]} if "else" in data else {})}

    def of(self, platform: Platform) -> str | None:
        """Return the text that names ``platform``, or ``None``."""
        return self.by_platform.get(platform)

    def on(self, platform: Platform) -> str | None:
        """Return the text for ``platform``, or ``None`` when the recipe has none for it."""
        own = self.of(platform)
        return self.otherwise if own is None else own

    def texts(self) -> Iterator[tuple[str, str]]:
        """Give every text with its key."""
        yield from self.by_platform.items()
        if self.otherwise is not None:
            yield "else", self.otherwise


PathChoice = Annotated[
    Annotated[PathText, Tag(f"{TAG}text")] | Annotated[PerPlatform, Tag(f"{TAG}map")],
    Discriminator(_is_mapping),
]

ProgramText = Annotated[str, AfterValidator(_check_program)]


class PerPlatformProgram(PerPlatform):
    """One program for each platform: a path, or a command."""

    by_platform: dict[str, ProgramText] = Field(default_factory=dict)
    otherwise: ProgramText | None = Field(None, alias="else")


ProgramChoice = Annotated[
    Annotated[str, AfterValidator(_check_program), Tag(f"{TAG}text")]
    | Annotated[PerPlatformProgram, Tag(f"{TAG}map")],
    Discriminator(_is_mapping),
]


def is_command(text: str) -> bool:
    """Return whether a program is given as a command and not as a path."""
    return bool(_COMMAND.fullmatch(text))


def on_platform(choice: str | PerPlatform, platform: Platform) -> str | None:
    """Return what ``choice`` says for ``platform``, or ``None`` where it says nothing."""
    return choice if isinstance(choice, str) else choice.on(platform)


class For(Model):
    """The condition of a case: it is silent where it does not hold."""

    platform: PlatformName | None = None
    system: Range | None = None
    release: Range | None = None
    edition: Said | None = None


class InForm(Model):
    """What one key of several names: its form, and where it is.

    A document names the form by a key; its value stands here by that name, after what holds it.
    """

    role: ClassVar[Role]
    code: ClassVar[str]
    what: ClassVar[str]
    no_keys = frozenset({"in_file_", "in_key", "in_settings", "in_command"})

    in_file_: Mapping[str, PathChoice] = Field(default_factory=dict)
    in_key: dict[str, KeyText] = Field(default_factory=dict)
    in_settings: dict[str, SettingsPath] = Field(default_factory=dict)
    in_command: dict[str, Annotated[tuple[ArgumentText, ...], Field(min_length=1)]] = Field(
        default_factory=dict
    )

    @classmethod
    def known_keys(cls) -> frozenset[str]:
        """Return the names of the forms, and what else may stand beside one."""
        return (super().known_keys() - cls.no_keys) | frozenset(forms_for(cls.role))

    @classmethod
    def knows(cls, key: str) -> bool:
        """Return whether a key is the name of a form that was added."""
        return key in FORMS and FORMS[key].can(cls.role)

    @model_validator(mode="before")
    @classmethod
    def _by_form(cls, data: Any) -> Any:
        if not isinstance(data, Mapping) or cls.no_keys & data.keys():
            return data
        others = cls.known_keys() - frozenset(forms_for(cls.role))
        given = [name for name in data if name not in others and cls.knows(name)]
        if len(given) != 1:
            names = " and ".join(f'"{g}"' for g in given) or "none"
            hint = f"The forms are {', '.join(forms_for(cls.role))}"
            raise flaw(cls.code, f"expected one form of {cls.what}; found {names}", hint)
        holder = _HOLDERS[FORMS[given[0]].holder]
        rest = {name: value for name, value in data.items() if name != given[0]}
        return {**rest, holder: {given[0]: data[given[0]]}}

    @property
    def _held(self) -> tuple[str, Any]:
        held = (self.in_file_, self.in_key, self.in_settings, self.in_command)
        return next((name, where) for some in held for name, where in some.items())

    @property
    def form(self) -> str:
        """The name of the form."""
        return self._held[0]

    @property
    def where(self) -> str | PerPlatform:
        """The path template of the file, or the registry key or settings path."""
        where: str | PerPlatform = self._held[1]
        return where

    @property
    def in_file(self) -> bool:
        """Whether it is in a file."""
        return bool(self.in_file_)

    @property
    def key(self) -> str | None:
        """The key of the registry that it is in, if it is in one."""
        return next(iter(self.in_key.values()), None)

    @property
    def settings(self) -> str | None:
        """The path of the desktop's settings that it is in, if it is in one."""
        return next(iter(self.in_settings.values()), None)

    @property
    def command(self) -> tuple[str, ...] | None:
        """The command that prints it, if one does."""
        return next(iter(self.in_command.values()), None)


_HOLDERS: Mapping[Holder, str] = {
    "file": "in_file_",
    "key": "in_key",
    "settings": "in_settings",
    "command": "in_command",
}


class Reading(InForm):
    """A named way to get a value: one key names the form and where it is."""

    role = "reading"
    code = "reading-form"
    what = "reading"

    for_: For | None = Field(None, alias="for")
    at: str | None = None
    as_: Literal["number", "text", "path", "list", "set", "count", "yes-no"] | None = Field(
        None, alias="as"
    )
    pick: Literal["first", "last"] | None = None
    view: Literal["32", "64"] | None = None
    home: Literal["empty", "copy", "real"] | None = None

    @model_validator(mode="after")
    def _options(self) -> Reading:
        address = FORMS[self.form].address
        if address != "none" and self.at is None:
            raise flaw("reading-at", f'"{self.form}" needs "at": which value in it')
        if address == "none" and self.at is not None:
            raise flaw("reading-at", f'"{self.form}" has no "at"')
        if address == "expression":
            check_one_group(self.at or "")
        for option, form, fits in (
            ("view", "registry", self.key is not None),
            ("home", "output", self.command is not None),
        ):
            if getattr(self, option) is not None and not fits:
                raise flaw("reading-option", f'"{option}" belongs to "{form}" only')
        return self

    @property
    def file_read(self) -> str | PerPlatform | None:
        """The path template of the file that is read; ``None`` for forms without a file."""
        return self.where if self.in_file else None

    @property
    def parameters(self) -> frozenset[str]:
        """The names bound in a query, ``:name``."""
        if FORMS[self.form].database is None:
            return frozenset()
        plain = re.sub(r"'(?:[^']|'')*'|\"[^\"]*\"", "", self.at or "")
        return frozenset(re.findall(r"(?<![:\w]):([a-z][a-z0-9_]*)", plain))


class Sign(Model):
    """What shows that the application is there: a file or folder, a registry key or a command.

    A file or folder may hold globs; each match is one installation.
    """

    file: PathChoice | None = None
    folder: PathChoice | None = None
    registry: KeyText | None = None
    command: Annotated[str, AfterValidator(_check_program)] | None = None
    view: Literal["32", "64"] | None = None

    @model_validator(mode="after")
    def _one(self) -> Sign:
        given = (self.file, self.folder, self.registry, self.command)
        if sum(g is not None for g in given) != 1:
            raise flaw("sign", 'expected one of "file", "folder", "registry" and "command"')
        return self

    @property
    def where(self) -> str | PerPlatform | None:
        """The path template of the sign, if it is a file or folder."""
        return self.file if self.file is not None else self.folder


class Recognition(Model):
    """One case of recognising the application."""

    for_: For | None = Field(None, alias="for")
    sign: Sign
    release: Reading | None = None
    edition: Reading | None = None


class Index(InForm):
    """A program's own index of its folders: one form, and what is what in an entry of it.

    ``at`` leads to the entries: a list or mapping in a document, a glob of sections in an ini file,
    a query with named columns in a database.
    """

    role = "index"
    code = "index-form"
    what = "index"

    at: str
    path: Said
    name: Said | None = None
    in_use: Said | None = None


PlaceKind = Literal["folder", "file", "key", "value", "dconf"]


class Place(Model):
    """One case of where something is.

    ``folder``, ``file``, ``key``, ``value`` or ``dconf`` fix it, unless ``told_by`` tells another;
    ``first_of`` is whichever is there; ``each`` and ``index`` make it several.
    """

    for_: For | None = Field(None, alias="for")
    folder: PathChoice | None = None
    file: PathChoice | None = None
    key: KeyText | None = None
    value: KeyText | None = None
    view: Literal["32", "64"] | None = None
    dconf: SettingsPath | None = None
    told_by: Reading | None = None
    first_of: tuple[PathChoice, ...] = ()
    otherwise: PathChoice | None = Field(None, alias="else")
    follows: Name | None = None
    each: PathChoice | None = None
    index: Index | None = None
    holds: Annotated[tuple[Glob, ...], BeforeValidator(one_or_many)] = ()
    in_use: Reading | None = None
    pair: tuple[Literal["name", "in use", "register"], ...] = ()

    @model_validator(mode="after")
    def _one(self) -> Place:
        named = ("folder", "file", "key", "value", "dconf")
        fixed = [n for n in named if getattr(self, n) is not None]
        if len(fixed) + bool(self.first_of) + self.plural != 1:
            known = ", ".join(f'"{n}"' for n in (*named, "first_of", "each", "index"))
            raise flaw("place", f"expected one of {known}")
        if self.view is not None and self.key is None and self.value is None:
            raise flaw("place", '"view" belongs to "key" and "value"')
        if (self.otherwise is not None or self.follows is not None) and not self.first_of:
            raise flaw("place", '"else" and "follows" belong to "first_of"')
        if (self.holds or self.in_use is not None or self.pair) and not self.plural:
            raise flaw("place", '"holds", "in_use" and "pair" belong to "each" and "index"')
        if self.told_by is not None and not (self.folder or self.file):
            raise flaw("place", '"told_by" belongs to "folder" and "file"')
        return self

    @property
    def plural(self) -> bool:
        """Whether the place is several folders."""
        return self.each is not None or self.index is not None

    @property
    def kind(self) -> PlaceKind:
        """What the place is; what ``first_of`` finds may be a file too."""
        kinds: tuple[PlaceKind, ...] = ("file", "key", "value", "dconf")
        return next((kind for kind in kinds if getattr(self, kind) is not None), "folder")

    @property
    def where(self) -> str | PerPlatform | None:
        """The path template that holds unless the program tells another."""
        return self.folder if self.folder is not None else self.file


class Check(Model):
    """A reading compared between old and new; ``of`` says which values of parts it counts."""

    compare: Literal["same", "at least"] = "same"
    of: dict[Name, Said] = Field(default_factory=dict)

    def looked_at(self, parts: Mapping[str, tuple[str, ...]]) -> bool:
        """Return whether what the check counts was chosen; ``parts`` are the values chosen."""
        return all(value in parts.get(part, (value,)) for part, value in self.of.items())


class Loss(Model):
    """Something that is not carried, and what to do about it.

    ``before`` is what to do on old beforehand. ``when`` are readings of old without which there is
    no loss; ``proof`` are readings of new that show the remedy was done.
    """

    what: Said
    remedy: Said
    before: str = ""
    when: dict[Name, Condition] = Field(default_factory=dict)
    proof: dict[Name, Condition] = Field(default_factory=dict)


class StepRule(Model):
    """One step as the recipe states it: its kind and that kind's own settings."""

    kind: str
    rule: Settings

    @classmethod
    def known_keys(cls) -> frozenset[str]:
        """Return nothing: a step's keys are judged by its kind."""
        return frozenset()

    @model_validator(mode="wrap")
    @classmethod
    def _by_kind(cls, data: Any, handler: Any, info: ValidationInfo) -> StepRule:
        kinds = info.context.kinds if isinstance(info.context, Notation) else {}
        keys = [data] if isinstance(data, str) else list(data) if isinstance(data, dict) else []
        kind = next((str(k) for k in keys if k in kinds), None)
        if kind is None:
            raise expected_one_of("step-kind", str(keys[0]) if keys else "", sorted(kinds))
        settings = {kind: ""} if isinstance(data, str) else data
        rule = kinds[kind].model_validate(settings, context=info.context)
        return cls.model_construct(kind=kind, rule=rule)


class Notation(Unknown):
    """The context of loading a recipe: the known step kinds and the unknown keys met."""

    def __init__(self, kinds: Mapping[str, type[Settings]]) -> None:
        super().__init__()
        self.kinds = kinds


class Leg(Model):
    """The steps done at one station without walking away."""

    old: tuple[StepRule, ...] | None = None
    new: tuple[StepRule, ...] | None = None
    between: tuple[StepRule, ...] | None = None

    @model_validator(mode="after")
    def _one(self) -> Leg:
        if sum(getattr(self, station) is not None for station in STATIONS) != 1:
            raise flaw("leg", 'expected one station: "old", "new" or "between"')
        return self

    @property
    def station(self) -> Station:
        """Where the leg is done."""
        return next(station for station in STATIONS if getattr(self, station) is not None)

    @property
    def steps(self) -> tuple[StepRule, ...]:
        """The steps of the leg, in order."""
        steps: tuple[StepRule, ...] = getattr(self, self.station)
        return steps


Outside = Literal["ask", "carry", "leave"]


class WrittenPaths(InForm):
    """Where paths of the machine stand in an item: a file by its form, and the values in it.

    ``at`` is what a reading of that form takes, where ``*`` stands for any member, section or name;
    ``table.column`` of a database, a key and a name of registry text. ``outside`` says what becomes
    of files that they name and that do not move.
    """

    role = "paths"
    code = "paths-form"
    what = "paths"

    for_: For | None = Field(None, alias="for")
    at: Said
    outside: Outside = "leave"

    @model_validator(mode="after")
    def _address(self) -> WrittenPaths:
        check = FORMS[self.form].check_paths_at
        if check is not None:
            check(self.at)
        return self


class Route(Model):
    """One way to move an item."""

    name: Said
    for_: For | None = Field(None, alias="for")
    needs: Needs = Field(default_factory=Needs)
    limit: Limit = Field(default_factory=Limit)
    only: dict[Name, dict[Name, Condition]] = Field(default_factory=dict)
    rest: Said | Loss | None = None
    await_: dict[Name, Condition] = Field(default_factory=dict, alias="await")
    existing: Existing = "put aside"
    legs: tuple[Leg, ...] = Field(min_length=1)
    losses: tuple[Loss, ...] = ()

    @model_validator(mode="after")
    def _rest_of_what(self) -> Route:
        if self.rest is not None and not self.only:
            raise flaw("rest", '"rest" belongs to "only"')
        return self


class Item(Model):
    """One thing a person would miss."""

    title: Said
    kind: Literal["data", "settings", "registry", "licence"] = "data"
    from_: Name = Field(alias="from")
    take: Annotated[tuple[Glob, ...], BeforeValidator(one_or_many)] = ()
    leave: Annotated[tuple[Glob, ...], BeforeValidator(one_or_many)] = ()
    parts: dict[Name, Name | tuple[Said, ...]] = Field(default_factory=dict)
    paths: Annotated[tuple[WrittenPaths, ...], BeforeValidator(one_or_many)] = ()
    checks: dict[Name, Check] = Field(default_factory=dict)
    losses: tuple[Loss, ...] = ()
    retire: YesNo = False
    optional: YesNo = False
    routes: tuple[Route, ...] = ()

    @model_validator(mode="after")
    def _routes(self) -> Item:
        if not self.routes and not self.losses:
            raise flaw("no-route", "an item without routes must say its losses")
        names = [route.name for route in self.routes]
        if len(set(names)) < len(names):
            raise flaw("route-name", "two routes of this item have one name")
        for route in self.routes:
            if isinstance(route.rest, str) and route.rest not in names:
                raise flaw("rest", f'"{route.rest}" is no route of this item')
        return self


class ActiveReading(Reading):
    """What the program itself says of its licence: it is active, not, or that is not known.

    ``is`` is what the reading gives where it is active, ``not`` what it gives where it is not;
    without ``not`` that is anything else.
    """

    is_: Said = Field(alias="is")
    not_: Annotated[tuple[Said, ...], BeforeValidator(one_or_many)] = Field((), alias="not")


class Exchange(Model):
    """Readings of a request and of an answer that give the same where they belong together."""

    request: Reading
    answer: Reading


class LicenceRoute(Model):
    """One way to release a licence's seat on old, and to claim it on new.

    ``ready`` is tried on new before anything is done on old.
    """

    name: Said
    for_: For | None = Field(None, alias="for")
    needs: Needs = Field(default_factory=Needs)
    ready: tuple[Leg, ...] = ()
    free: tuple[Leg, ...] = Field(min_length=1)
    claim: tuple[Leg, ...] = Field(min_length=1)
    losses: tuple[Loss, ...] = ()

    @model_validator(mode="after")
    def _stations(self) -> LicenceRoute:
        if any(leg.station != "new" for leg in self.ready):
            hint = "It tries whether new can take the licence, before anything is done on old"
            raise flaw("licence-legs", '"ready" is not on new', hint)
        if any(leg.station == "old" for leg in self.claim) or self.claim[-1].station != "new":
            hint = 'The last leg of "claim" is on new, and only new and between do it'
            raise flaw("licence-legs", '"claim" is not done on new', hint)
        return self

    @property
    def legs(self) -> tuple[Leg, ...]:
        """All legs: what is tried, then those that release, then those that claim."""
        return (*self.ready, *self.free, *self.claim)

    def numbered(self) -> tuple[tuple[str, int, Station, StepRule], ...]:
        """Return every step with the name of its part and its number in the route, from 1."""
        parts = (("ready", self.ready), ("free", self.free), ("claim", self.claim))
        steps = [(part, leg.station, s) for part, legs in parts for leg in legs for s in leg.steps]
        return tuple((part, n, at, s) for n, (part, at, s) in enumerate(steps, start=1))

    def as_route(self) -> Route:
        """Return the route as steps see it that know nothing of licences."""
        return Route(name=self.name, needs=self.needs, legs=self.legs, losses=self.losses)


class Licence(Model):
    """A licence whose seat is released on old and claimed on new.

    One without ``serial`` is an account's, a thing's that is plugged in or a server's. ``keep``
    are readings of old that the claim needs as they were when the move began; ``files`` are what
    the program keeps its licence in, where ``serial`` and ``active`` do not read them.
    """

    title: Said = "Licence"
    kind: Literal["licence"]
    serial: Reading | None = None
    active: ActiveReading
    keep: tuple[Name, ...] = ()
    files: Annotated[tuple[PathChoice, ...], BeforeValidator(one_or_many)] = ()
    exchange: Exchange | None = None
    losses: tuple[Loss, ...] = ()
    routes: tuple[LicenceRoute, ...] = Field(min_length=1)

    @model_validator(mode="after")
    def _names(self) -> Licence:
        names = [route.name for route in self.routes]
        if len(set(names)) < len(names):
            raise flaw("route-name", "two routes of this item have one name")
        return self

    def as_item(self) -> Item:
        """Return the licence as steps see it that know nothing of licences: it has no place."""
        return Item.model_construct(
            title=self.title,
            kind="licence",
            from_="",
            losses=self.losses,
            routes=tuple(route.as_route() for route in self.routes),
        )


def _is_licence(value: Any) -> str:
    kind = value.get("kind") if isinstance(value, Mapping) else getattr(value, "kind", None)
    return f"{TAG}licence" if kind == "licence" else f"{TAG}item"


AnyItem = Annotated[
    Annotated[Item, Tag(f"{TAG}item")] | Annotated[Licence, Tag(f"{TAG}licence")],
    Discriminator(_is_licence),
]


class Ask(Model):
    """Something a person is asked for once, by the words given."""

    secret: Said | None = None
    text: Said | None = None

    @model_validator(mode="after")
    def _one(self) -> Ask:
        if (self.secret is None) == (self.text is None):
            raise flaw("ask", 'expected one of "secret" and "text"')
        return self


class Application(Model):
    """The program a recipe is for."""

    id: AppId
    name: Said
    maker: str = ""
    releases: Range | None = None
    programs: dict[Name, ProgramChoice] = Field(default_factory=dict)
    screen: tuple[ArgumentText, ...] = ()
    open: tuple[ArgumentText, ...] = ()
    close: tuple[ArgumentText, ...] = ()
    lock: Annotated[tuple[PathChoice, ...], BeforeValidator(one_or_many)] = ()


NAMES_MOST = 400
"""Places, readings or items of a recipe, at most."""


class Recipe(Model):
    """A whole recipe."""

    recipe: Literal["1"]
    revision: Annotated[int, Field(ge=1)]
    application: Application
    recognise: tuple[Recognition, ...] = Field(min_length=1)
    places: dict[Name, Annotated[tuple[Place, ...], BeforeValidator(one_or_many)]] = Field(
        max_length=NAMES_MOST
    )
    readings: dict[Name, Annotated[tuple[Reading, ...], BeforeValidator(one_or_many)]] = Field(
        default_factory=dict, max_length=NAMES_MOST
    )
    uses: dict[AppId, Range] = Field(default_factory=dict)
    asks: dict[Name, Ask] = Field(default_factory=dict)
    listed: dict[Name, AnyItem] = Field(min_length=1, max_length=NAMES_MOST, alias="items")

    @cached_property
    def items(self) -> dict[str, Item]:
        """The items that are files or named values, by name."""
        return {name: item for name, item in self.listed.items() if isinstance(item, Item)}

    def known_as_item(self, name: str) -> Item | None:
        """Return the item of that name, or the licence as one, or ``None``."""
        if name in self.licences:
            return self.licences[name].as_item()
        return self.items.get(name)

    @cached_property
    def licences(self) -> dict[str, Licence]:
        """The items that are licences, by name."""
        return {name: item for name, item in self.listed.items() if isinstance(item, Licence)}
