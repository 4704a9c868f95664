"""``write``: one value in a settings file on the machine, with every other byte kept."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import AfterValidator, Field, model_validator

from widetrail.formats.checked import Model, flaw
from widetrail.formats.interface import NotThere, Raw, Scalar, Unreadable, Unwritable
from widetrail.formats.rewriting import read_value, write_value
from widetrail.machine.moves import Move, carry_out
from widetrail.recipe.models import ArgumentText, PathText
from widetrail.recipe.templates import plain
from widetrail.steps.interface import Doing, Done, Failed, Outcome, Step, Unfolding
from widetrail.steps.room import ASIDE, STAGING
from widetrail.steps.saving import missing_folders, move, moves_of, room_at

FORMS = ("ini", "json", "toml")


def _check_at(at: str) -> str:
    if not at.strip("/"):
        raise flaw("place", "expected where the value stands, such as section/key or /a/key")
    return at


class WrittenValue(Model):
    """A value and where it stands: the file by its form, and the place in it."""

    ini: PathText | None = None
    json_: PathText | None = Field(None, alias="json")
    toml: PathText | None = None
    at: Annotated[str, AfterValidator(_check_at)]
    value: ArgumentText
    as_: Literal["text", "path"] = Field("text", alias="as")

    @model_validator(mode="after")
    def _names_one_file(self) -> WrittenValue:
        if sum(path is not None for path in (self.ini, self.json_, self.toml)) != 1:
            raise flaw("file", f"expected one file: {', '.join(FORMS)}")
        if self.ini is None and not self.at.startswith("/"):
            raise flaw("place", f'"{self.at}" is no JSON Pointer; it begins with /')
        return self

    @property
    def file(self) -> tuple[str, str]:
        """The form of the file, and its path."""
        forms = {"ini": self.ini, "json": self.json_, "toml": self.toml}
        return next((form, path) for form, path in forms.items() if path is not None)


class WriteRule(Model):
    """The settings of ``write``."""

    write: WrittenValue


class Write:
    """Unfolds into one value that is written; the file is published whole, the old one kept."""

    schema = WriteRule

    def unfold(self, unfolding: Unfolding) -> tuple[Step, ...]:
        rule = unfolding.rule
        assert isinstance(rule, WriteRule)
        form, path = rule.write.file
        file = unfolding.expand(path)
        arguments: dict[str, Any] = {
            "form": form,
            "file": file,
            "at": rule.write.at,
            "value": unfolding.expand(rule.write.value),
            "as": rule.write.as_,
        }
        return (unfolding.step("write", arguments=arguments, changes=(file,)),)

    def words(self, step: Step) -> str:
        at, value = step.text("at"), plain(step.text("value"))
        return f'write "{value}" at {at} in {plain(step.text("file"))}; all else in it stays'

    def do(self, step: Step, doing: Doing) -> Outcome:
        machine, path = doing.machine, doing.fill(step, step.text("file"))
        before = doing.recorded("moves", step.id)
        if before is not None:
            return Done({"written": path, "put aside": put_file(step, doing, path, b"")})
        value = doing.fill(step, step.text("value"))
        if step.text("as") == "path" and machine.platform == "windows":
            value = value.replace("/", "\\")
        there = machine.look(path)
        if there is None:
            todo = "Start the program once, so that it makes the file, then walk again."
            return Failed(f"{path} is not there", todo, {})
        doing.await_closed(step.item)
        data = machine.read(path)
        try:
            written = _written(step, data, value)
        except (Unreadable, Unwritable) as error:
            todo = "Look at the file; it is as it was."
            return Failed(f"{path} {error}", todo, {})
        if written == data:
            return Done({"written": path, "put aside": []})
        return Done({"written": path, "put aside": put_file(step, doing, path, written)})


def put_file(step: Step, doing: Doing, path: str, data: bytes) -> list[str]:
    """Put a whole file at ``path``; return where what was there is kept.

    It has the mode and attributes of that; a walk that was cut off goes on with its moves.
    """
    machine, before = doing.machine, doing.recorded("moves", step.id)
    if before is not None:
        carry_out(machine, moves_of(before))
        return [str(before["aside"])] if before["aside"] else []
    there, room = machine.look(path), room_at(doing, path, step.item)
    staged, aside = room.fresh(STAGING), room.fresh(ASIDE) if there is not None else ""
    moment = int(doing.now.timestamp() * 10**9)
    with machine.effects.create(machine.host(staged), 0o600) as file:
        file.write(data)
        if there is not None and (attributes := machine.attributes(path)):
            machine.effects.set_attributes(machine.host(staged), attributes)
        file.set_status(there.mode if there is not None else 0o600, moment)
        file.sync()
    machine.effects.sync_folder(machine.host(staged).parent)
    out = [Move("out", path, aside)] if aside else []
    moves = [*out, *missing_folders(machine, path), Move("into", staged, path)]
    move(step, doing, moves, aside=aside)
    return [aside] if aside else []


def _written(step: Step, data: bytes, value: str) -> bytes:
    """Return the file with the value, of the kind that stands there already."""
    form, at = step.text("form"), step.text("at")
    try:
        old = read_value(form, data, at)
    except NotThere:
        old = None
    return write_value(form, data, at, value if form == "ini" else _like(old, value))


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
