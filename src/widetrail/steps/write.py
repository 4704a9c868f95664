"""``write``: one value in a settings file, a database, the registry or the desktop's settings."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Literal, Protocol

from pydantic import Field

from widetrail.finding.readings import COPY_MOST, copied_database
from widetrail.finding.stores import Store, StoreKind, as_value, name_in
from widetrail.formats import Raw, Unreadable
from widetrail.formats.companions import BESIDE
from widetrail.formats.form import Form
from widetrail.formats.forms import FORMS
from widetrail.formats.interface import NotThere, Scalar, Unwritable
from widetrail.formats.outside import read_outside
from widetrail.formats.parser_process import ask_form
from widetrail.formats.stored_values import Text
from widetrail.machine.platforms import StoreName
from widetrail.recipe.templates import literal, plain
from widetrail.steps.contexts import OfItem, Work
from widetrail.steps.kind import Act, Rule, Touched
from widetrail.steps.outcomes import Done, Facts, Failed, Outcome
from widetrail.steps.replacing import put_again, put_file, put_values
from widetrail.steps.step import Step, Unfolding
from widetrail.steps.write_settings import WriteSettings


class Has(Work, OfItem, Protocol):
    """What writing a value takes."""


class WriteStep(Step):
    """A value that is written at ``at`` of a file or store; ``where`` names the row of a database.

    ``value_is`` tells whether the value is a path, which each platform writes its own way, and
    ``keeps_secret`` that it is a secret which the program itself keeps there.
    """

    kind: Literal["write"] = "write"
    form: str
    file: str
    at: str
    where: dict[str, str] = Field(default_factory=dict)
    value: str
    value_is: Literal["text", "path"] = "text"
    keeps_secret: bool = False

    @property
    def stores(self) -> tuple[tuple[StoreName, str], ...]:
        store = _STORES.get(FORMS[self.form].holder)
        return ((store, self.file),) if store is not None else ()


_STORES: Mapping[str, StoreName] = {"key": "registry", "settings": "dconf"}
"""The store that a form's values stand in, by what holds them."""


class WriteFacts(Facts):
    """The file or place of a store that was written to."""

    written: Text = ""


class Write(Rule[WriteSettings], Act[WriteStep, Has]):
    """Unfolds into one value that is written; what was there before is kept."""

    settings = WriteSettings
    step = WriteStep
    facts = WriteFacts
    makes_known = True
    needs_closed = True

    def unfold(self, settings: WriteSettings, unfolding: Unfolding) -> tuple[Step, ...]:
        said = settings.write
        path = str(said.where)
        file = unfolding.expand(path) if said.in_file else literal(path)
        step = unfolding.step(
            WriteStep,
            form=said.form,
            file=file,
            at=said.at,
            where={column: literal(value) for column, value in said.row.items()},
            value=unfolding.expand(said.value),
            value_is=said.as_,
            keeps_secret=said.keeps_secret,
            changes=(file,) if said.in_file else (),
        )
        return (step,)

    def touches(self, step: WriteStep, doing: OfItem) -> Iterator[Touched]:
        if step.stores or doing.store(step.item) is not None:
            yield Touched(plain(step.file))
        yield from super().touches(step, doing)

    def words(self, step: WriteStep) -> str:
        value, file = plain(step.value), plain(step.file)
        kept = "; the program keeps this secret there, where the account can read it"
        more = kept if step.keeps_secret else ""
        return f'Set {step.at} to "{value}" in {file}; the rest of the file stays{more}'

    def do(self, step: WriteStep, doing: Has) -> Outcome:
        path = doing.fill(step, step.file)
        before = put_again(step, doing)
        if before is not None:
            return _done(path, before)
        value = doing.fill(step, step.value)
        if step.value_is == "path":
            value = value.replace("/", doing.machine.rules.separator)
        doing.await_closed(step.item)
        try:
            if FORMS[step.form].is_store:
                return _done(path, _in_store(step, doing, path, value))
            return _in_file(step, doing, path, value)
        except (Unreadable, Unwritable) as error:
            return Failed(f"{path} {error}", "Check it; nothing was changed.")


def _done(path: str, backed_up: list[str]) -> Done:
    return Done(WriteFacts(written=path, backed_up=tuple(backed_up)))


def _in_file(step: WriteStep, doing: Has, path: str, value: str) -> Outcome:
    machine, form, at = doing.machine, FORMS[step.form], step.at
    if machine.look(path) is None:
        todo = "Start the program once, so that it makes the file, then walk again."
        return Failed(f"{path} is not there", todo)
    if form.database is not None:
        where = {column: doing.fill(step, text) for column, text in step.where.items()}
        with copied_database(machine, path) as copy:
            ask_form(form, form.database.put_cell, copy, at, where, value)
            data = read_outside(Path(copy), COPY_MOST, named=True)
        journals = [f"{path}{suffix}" for suffix in BESIDE]
        return _done(path, put_file(step, doing, path, data, journals))
    data = machine.read(path)
    written = written_with(form, data, at, value)
    if written == data:
        return _done(path, [])
    return _done(path, put_file(step, doing, path, written))


def written_with(form: Form, data: bytes, at: str, value: str) -> bytes:
    """Return the file with the value, of the kind that stands there already.

    Raises:
        Unreadable: The file cannot be read in that form, or has no such place.
        Unwritable: The value cannot stand there.
    """
    if form.add is None:
        if form.spots is None or form.put is None:
            raise Unwritable(f"is {form.name}, which is not written so")
        spots = ask_form(form, form.spots, data, at)
        if len(spots) != 1:
            raise Unreadable(f"has {len(spots)} texts at {at}, and one was expected")
        return ask_form(form, form.put, data, at, {spots[0].where: value})
    assert form.value is not None, "what can be added can be read"
    try:
        old = form.value(data, at)
    except NotThere:
        old = None
    return form.add(data, at, _like(old, value))


def _in_store(step: WriteStep, doing: Has, place: str, value: str) -> list[str]:
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
