"""How a recipe recognises its application and says where its things are."""

from typing import Annotated, Literal, Self

from pydantic import (
    AfterValidator,
    BeforeValidator,
    Field,
    model_validator,
)

from widetrail.formats.documents import Model
from widetrail.formats.flaws import flaw
from widetrail.recipe.by_platform import PathChoice, PerPlatform
from widetrail.recipe.conditions import one_or_many
from widetrail.recipe.readings import For, InForm, Reading
from widetrail.recipe.text_types import (
    Glob,
    KeyText,
    Name,
    Said,
    SettingsPath,
    check_program,
)


class Sign(Model):
    """What shows that the application is there: a file or folder, a registry key, a command, or
    what one of its programs ``prints``, which is started with consent only.

    A file or folder may hold globs; each match is one installation.
    """

    file: PathChoice | None = None
    folder: PathChoice | None = None
    registry: KeyText | None = None
    command: Annotated[str, AfterValidator(check_program)] | None = None
    prints: Reading | None = None
    view: Literal["32", "64"] | None = None

    @model_validator(mode="after")
    def _one(self) -> Self:
        given = (self.file, self.folder, self.registry, self.command, self.prints)
        if sum(g is not None for g in given) != 1:
            known = '"file", "folder", "registry", "command" and "prints"'
            raise flaw("sign", f"expected one of {known}")
        if self.prints is not None and self.prints.command is None:
            raise flaw("sign", '"prints" takes an "output"')
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


Pairing = Literal["name", "in use", "register"]
PlaceKind = Literal["folder", "file", "key", "value", "dconf"]


class Place(Model):
    """One case of where something is.

    ``folder``, ``file``, ``key``, ``value`` or ``dconf`` fix it, unless ``set_in`` tells another;
    ``first_of`` is whichever is there; ``each``, ``index`` and ``listed_in`` make it several, of
    which those of the last may be files.
    """

    for_: For | None = Field(None, alias="for")
    folder: PathChoice | None = None
    file: PathChoice | None = None
    key: KeyText | None = None
    value: KeyText | None = None
    view: Literal["32", "64"] | None = None
    dconf: SettingsPath | None = None
    set_in: Reading | None = None
    first_of: tuple[PathChoice, ...] = ()
    otherwise: PathChoice | None = Field(None, alias="else")
    follows: Name | None = None
    each: PathChoice | None = None
    index: Index | None = None
    listed_in: Reading | None = None
    contains: Annotated[tuple[Glob, ...], BeforeValidator(one_or_many)] = ()
    in_use: Reading | None = None
    pair: tuple[Pairing, ...] = ()

    @model_validator(mode="after")
    def _one(self) -> Self:
        named = ("folder", "file", "key", "value", "dconf")
        fixed = [n for n in named if getattr(self, n) is not None]
        if len(fixed) + bool(self.first_of) + self.plural != 1:
            known = ", ".join(f'"{n}"' for n in (*named, "first_of", "each", "index", "listed_in"))
            raise flaw("place", f"expected one of {known}")
        if self.view is not None and self.key is None and self.value is None:
            raise flaw("place", '"view" belongs to "key" and "value"')
        if (self.otherwise is not None or self.follows is not None) and not self.first_of:
            raise flaw("place", '"else" and "follows" belong to "first_of"')
        if (self.contains or self.in_use is not None or self.pair) and not self.plural:
            message = '"contains", "in_use" and "pair" belong to "each", "index" and "listed_in"'
            raise flaw("place", message)
        if self.set_in is not None and not (self.folder or self.file or self.first_of):
            raise flaw("place", '"set_in" belongs to "folder", "file" and "first_of"')
        return self

    @property
    def plural(self) -> bool:
        """Whether the place is several."""
        return self.each is not None or self.index is not None or self.listed_in is not None

    @property
    def paired_by(self) -> tuple[Pairing, ...]:
        """How each of several is matched with one on new. What settings list is a person's own
        choice of files: one of the same name on new is another one."""
        usual: tuple[Pairing, ...] = ("name", "register")
        return self.pair or (usual if self.listed_in is None else ("register",))

    @property
    def kind(self) -> PlaceKind:
        """What the place is; what ``first_of`` finds may be a file too."""
        kinds: tuple[PlaceKind, ...] = ("file", "key", "value", "dconf")
        return next((kind for kind in kinds if getattr(self, kind) is not None), "folder")

    @property
    def where(self) -> str | PerPlatform | None:
        """The path template that holds unless the program tells another."""
        return self.folder if self.folder is not None else self.file
