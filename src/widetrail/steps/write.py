"""``write``: one value in a settings file, a database, the registry or the desktop's settings."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Annotated, Literal

from pydantic import AfterValidator, Field, model_validator

from widetrail.finding.readings import COPY_MOST, copied_database
from widetrail.finding.stores import Store, StoreKind, as_value, name_in
from widetrail.formats.bounded import ask
from widetrail.formats.checked import Model, flaw
from widetrail.formats.companions import BESIDE
from widetrail.formats.interface import NotThere, Raw, Scalar, Spot, Unreadable, Unwritable
from widetrail.formats.outside import read_outside
from widetrail.formats.rewriting import read_value, write_value
from widetrail.formats.told import Text
from widetrail.recipe.models import ArgumentText, KeyText, PathText, SettingsPath
from widetrail.recipe.settings import Settings, StepText
from widetrail.recipe.templates import literal, plain
from widetrail.steps.interface import Doing
from widetrail.steps.kind import Act, Rule, Touched
from widetrail.steps.outcomes import Done, Facts, Failed, Outcome
from widetrail.steps.putting import put_again, put_file, put_values
from widetrail.steps.step import Step, Unfolding

FILES = ("ini", "json", "toml", "yaml", "plist", "xml", "text", "reg", "sqlite")
STORES = ("registry", "dconf")

_ADDING = ("ini", "json", "toml")
"""The forms in which a value may be new; in the others it must stand there already, once."""


def _check_at(at: str) -> str:
    if not at.strip("/"):
        raise flaw("place", "expected where the value stands, such as section/key or /a/key")
    return at


class WrittenValue(Model):
    """A value and where it stands: the file by its form, or a store, and the place in it.

    In a database ``at`` is ``table.column``, and ``where`` are columns with their values in the one
    row that is meant.
    """

    ini: PathText | None = None
    json_: PathText | None = Field(None, alias="json")
    toml: PathText | None = None
    yaml: PathText | None = None
    plist: PathText | None = None
    xml: PathText | None = None
    text: PathText | None = None
    reg: PathText | None = None
    sqlite: PathText | None = None
    registry: KeyText | None = None
    dconf: SettingsPath | None = None
    at: Annotated[str, AfterValidator(_check_at)]
    where: dict[str, str] = Field(default_factory=dict)
    value: ArgumentText
    as_: Literal["text", "path"] = Field("text", alias="as")

    @model_validator(mode="after")
    def _names_one(self) -> WrittenValue:
        if len(self._given) != 1:
            raise flaw("file", f"expected one of {', '.join((*FILES, *STORES))}")
        form = self._given[0][0]
        if form in ("json", "toml", "yaml") and not self.at.startswith("/"):
            raise flaw("place", f'"{self.at}" is no JSON Pointer; it begins with /')
        if bool(self.where) != (form == "sqlite"):
            raise flaw("place", '"where" names the row of a database, and belongs to "sqlite"')
        return self

    @property
    def _given(self) -> list[tuple[str, str]]:
        named = {form: f"{form}_" if form == "json" else form for form in (*FILES, *STORES)}
        found = {form: getattr(self, name) for form, name in named.items()}
        return [(form, path) for form, path in found.items() if path is not None]

    @property
    def file(self) -> tuple[str, str]:
        """The form, and the path of the file or store."""
        return self._given[0]

    @property
    def in_file(self) -> bool:
        """Whether the value stands in a file, and in no store."""
        return self.file[0] in FILES


class WriteSettings(Settings):
    """The settings of ``write``."""

    write: WrittenValue

    def templates(self) -> Iterator[StepText]:
        form, path = self.write.file
        if self.write.in_file:
            yield StepText(("write", form), "written", path)
        yield StepText(("write", "value"), "written", self.write.value)


class WriteStep(Step):
    """A value that is written at ``at`` of a file or store; ``where`` names the row of a database.

    ``value_is`` tells whether the value is a path, which each platform writes its own way.
    """

    kind: Literal["write"] = "write"
    form: str
    file: str
    at: str
    where: dict[str, str] = Field(default_factory=dict)
    value: str
    value_is: Literal["text", "path"] = "text"


class WriteFacts(Facts):
    """The file or place of a store that was written to."""

    written: Text = ""


class Write(Rule[WriteSettings], Act[WriteStep]):
    """Unfolds into one value that is written; what was there before is kept."""

    settings = WriteSettings
    step = WriteStep
    facts = WriteFacts
    makes_known = True
    needs_closed = True

    def unfold(self, settings: WriteSettings, unfolding: Unfolding) -> tuple[Step, ...]:
        said = settings.write
        form, path = said.file
        file = unfolding.expand(path) if said.in_file else literal(path)
        step = unfolding.step(
            WriteStep,
            form=form,
            file=file,
            at=said.at,
            where={column: literal(value) for column, value in said.where.items()},
            value=unfolding.expand(said.value),
            value_is=said.as_,
            changes=(file,) if said.in_file else (),
        )
        return (step,)

    def touches(self, step: WriteStep, doing: Doing) -> Iterator[Touched]:
        if step.form in STORES or doing.store(step.item) is not None:
            yield Touched(plain(step.file))
        yield from super().touches(step, doing)

    def words(self, step: WriteStep) -> str:
        value, file = plain(step.value), plain(step.file)
        return f'write "{value}" at {step.at} in {file}; all else in it stays'

    def do(self, step: WriteStep, doing: Doing) -> Outcome:
        path = doing.fill(step, step.file)
        before = put_again(step, doing)
        if before is not None:
            return _done(path, before)
        value = doing.fill(step, step.value)
        if step.value_is == "path":
            value = value.replace("/", doing.machine.rules.separator)
        doing.await_closed(step.item)
        try:
            if step.form in STORES:
                return _done(path, _in_store(step, doing, path, value))
            return _in_file(step, doing, path, value)
        except (Unreadable, Unwritable) as error:
            return Failed(f"{path} {error}", "Look at it; it is as it was.")


def _done(path: str, put_aside: list[str]) -> Done:
    return Done(WriteFacts(written=path, put_aside=tuple(put_aside)))


def _in_file(step: WriteStep, doing: Doing, path: str, value: str) -> Outcome:
    machine, form, at = doing.machine, step.form, step.at
    if machine.look(path) is None:
        todo = "Start the program once, so that it makes the file, then walk again."
        return Failed(f"{path} is not there", todo)
    if form == "sqlite":
        where = {column: doing.fill(step, text) for column, text in step.where.items()}
        with copied_database(machine, path) as copy:
            ask("put cell", copy, at, where, value)
            data = read_outside(Path(copy), COPY_MOST, named=True)
        journals = [f"{path}{suffix}" for suffix in BESIDE]
        return _done(path, put_file(step, doing, path, data, journals))
    data = machine.read(path)
    written = written_with(form, data, at, value)
    if written == data:
        return _done(path, [])
    return _done(path, put_file(step, doing, path, written))


def written_with(form: str, data: bytes, at: str, value: str) -> bytes:
    """Return the file with the value, of the kind that stands there already.

    Raises:
        Unreadable: The file cannot be read in that form, or has no such place.
        Unwritable: The value cannot stand there.
    """
    if form not in _ADDING:
        spots: list[Spot] = ask("spots", form, data, at)
        if len(spots) != 1:
            raise Unreadable(f"has {len(spots)} texts at {at}, and one was expected")
        written: bytes = ask("put", form, data, at, {spots[0].where: value})
        return written
    try:
        old = read_value(form, data, at)
    except NotThere:
        old = None
    return write_value(form, data, at, value if form == "ini" else _like(old, value))


def _in_store(step: WriteStep, doing: Doing, place: str, value: str) -> list[str]:
    kind: StoreKind = "registry" if step.form == "registry" else "dconf"
    store, name = Store(doing.machine, kind, place), name_in(kind, step.at)
    before = store.read()
    text = as_value(kind, name, value, before.get(name))
    changes = {} if before.get(name) == text else {name: text}
    return put_values(step, doing, store, changes, before)


def _like(old: Raw, value: str) -> Scalar:
    """Return a text as the kind of value that ``old`` is.

    Raises:
        Unwritable: It cannot be taken as that.
    """
    match old:
        case bool():
            known = {"true": True, "yes": True, "false": False, "no": False}
            if value.casefold() in known:
                return known[value.casefold()]
        case int() if value.removeprefix("-").isdecimal():
            return int(value)
        case float():
            try:
                return float(value)
            except ValueError:
                pass
        case str() | None:
            return value
    kind = {bool: "yes or no", int: "a whole number", float: "a number"}.get(type(old), "a list")
    raise Unwritable(f"has {kind} there, which the text to be written is not")
