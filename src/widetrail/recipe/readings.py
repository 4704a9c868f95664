"""What a recipe reads: a value in a form, where it stands, and for which machines."""

import re
from collections.abc import Mapping
from typing import TYPE_CHECKING, Annotated, Any, ClassVar, Literal, Self, get_args

from pydantic import (
    Field,
    model_validator,
)

from widetrail.formats.documents import Model
from widetrail.formats.expressions import check_one_group
from widetrail.formats.flaws import flaw
from widetrail.formats.form import Holder, Role
from widetrail.formats.forms import FORMS, forms_for
from widetrail.machine.platforms import Platform, PlatformName
from widetrail.recipe.by_platform import PathChoice, PerPlatform
from widetrail.recipe.printouts import ExitStatuses
from widetrail.recipe.text_types import (
    ArgumentText,
    KeyText,
    Range,
    Said,
    SettingsPath,
)

if TYPE_CHECKING:
    from widetrail.formats.document_schema import SchemaMaker


class For(Model):
    """The condition of a case: it is silent where it does not hold."""

    platform: PlatformName | None = None
    system: Range | None = None
    release: Range | None = None
    edition: Said | None = None

    def may_hold_on(self, platform: Platform) -> bool:
        """Return whether it is for a platform, or for all."""
        return self.platform in (None, platform)


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
    def _by_form(cls, data: object) -> object:
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

    @classmethod
    def schema_with(cls, maker: "SchemaMaker") -> dict[str, Any]:
        """Return the JSON Schema: the name of one form, and what may stand beside it."""
        made = maker.mapping(cls)
        fields = cls.model_fields
        forms = {}
        for name in forms_for(cls.role):
            held = fields[_HOLDERS[FORMS[name].holder]].annotation
            forms[name] = maker.described(cls, name, maker.of(get_args(held)[1]))
        made["properties"] = {**forms, **made["properties"]}
        made["oneOf"] = [{"required": [name]} for name in forms]
        return made

    @property
    def _held(self) -> tuple[str, str | PerPlatform]:
        held = (self.in_file_, self.in_key, self.in_settings)
        found = ((name, where) for some in held for name, where in some.items())
        return next(found, ("".join(self.in_command), ""))

    @property
    def form(self) -> str:
        """The name of the form."""
        return self._held[0]

    @property
    def where(self) -> str | PerPlatform:
        """The path template of the file, or the registry key or settings path; none is empty."""
        return self._held[1]

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
    stdin: ArgumentText | None = None
    exit: ExitStatuses | None = None

    @model_validator(mode="after")
    def _options(self) -> Self:
        address = FORMS[self.form].address
        if address != "none" and self.at is None:
            raise flaw("reading-at", f'"{self.form}" needs "at": which value in it')
        if address == "none" and self.at is not None:
            raise flaw("reading-at", f'"{self.form}" takes no "at"')
        if address == "expression":
            check_one_group(self.at or "")
        for option, form, fits in (
            ("view", "registry", self.key is not None),
            ("home", "output", self.command is not None),
            ("stdin", "output", self.command is not None),
            ("exit", "output", self.command is not None),
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
