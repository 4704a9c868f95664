"""What a recipe says of a command that is run, the step it becomes, and what is known of it."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Annotated, ClassVar, Literal

from pydantic import AfterValidator, BeforeValidator, Field, model_validator

from widetrail.formats.expressions import check_one_group
from widetrail.formats.flaws import flaw
from widetrail.recipe.conditions import Condition, Duration, one_or_many
from widetrail.recipe.settings import Settings, StepText
from widetrail.recipe.templates import Brace, braces, parse_template
from widetrail.recipe.text_types import ArgumentText, Name, Said
from widetrail.steps.commands import EXCHANGED, Arguments

_KILLED = "one that is killed while the command runs (during)"


def _check_made(text: str) -> str:
    if text in EXCHANGED:
        return text
    pieces = parse_template(text)
    inside = len(pieces) > 1 and pieces[0] == Brace("parcel") and str(pieces[1]).startswith("/")
    if not inside or len(text) < len("{parcel}/x") or "/" in text[len("{parcel}/") :]:
        hint = 'Write it like "{parcel}/export.zip"'
        raise flaw("made", f'"{text}" is not a file of the parcel', hint)
    return text


Made = Annotated[ArgumentText, AfterValidator(_check_made)]


OneGroup = Annotated[str, AfterValidator(check_one_group)]


class RunSettings(Settings):
    """The settings of ``run``."""

    for_licences = True
    not_for_licences = ("changes", "undo", "finally", "prints", "stdout")
    unordered = ("changes",)
    not_empty = ("prints", "done_when")
    commands_at = ("run", "undo", "finally")
    noticed_by: ClassVar = {
        "changes": "one that is undone",
        "repeat": _KILLED,
        "finally": _KILLED,
        "done_when": _KILLED,
        "undo": "one that is undone",
        "prints": "one where the program prints another number than the reading",
        "makes": "one where the file is not made",
        "within": "one that waits longer",
    }

    run: Arguments
    stdin: ArgumentText | None = None
    env: dict[str, ArgumentText] = Field(default_factory=dict)
    stdout: Made | None = None
    exit: Annotated[tuple[int, ...], BeforeValidator(one_or_many)] = (0,)
    refused: Annotated[tuple[int, ...], BeforeValidator(one_or_many)] = ()
    within: Duration = "10 min"
    makes: Annotated[tuple[Made, ...], BeforeValidator(one_or_many)] = ()
    prints: dict[Name, Annotated[str, AfterValidator(check_one_group)]] = Field(
        default_factory=dict
    )
    changes: Annotated[tuple[Name, ...], BeforeValidator(one_or_many)] = ()
    repeat: Literal["safe", "ask", "never"] = "ask"
    done_when: dict[Name, Condition] = Field(default_factory=dict)
    undo: Arguments | None = None
    finally_: Arguments | None = Field(None, alias="finally")
    per: Name | None = None
    title: Said | None = None

    @model_validator(mode="after")
    def _options(self) -> RunSettings:
        for argument in self.run[1 : self.run.index("--") if "--" in self.run else None]:
            pieces = parse_template(argument)
            if len(pieces) > 1 and pieces[0] in ("-", "--"):
                hint = "Write the option's name before it, as in --name={value}"
                raise flaw("argument", f'in "{argument}" a value is the name of an option', hint)
        if set(self.exit) & set(self.refused):
            raise flaw("exit", "one exit status cannot mean well and refused")
        if self.stdout is not None and (self.makes or self.prints):
            raise flaw("stdout", '"stdout" makes a file, so there is no "makes" or "prints" beside')
        return self

    def templates(self) -> Iterator[StepText]:
        yield from super().templates()
        if self.stdin is not None:
            yield StepText(("stdin",), "input", self.stdin)
        for key, made in self.made():
            yield StepText((key,), "made", made)
        for name, text in self.env.items():
            yield StepText(("env", name), "environment", text)

    def made(self) -> Iterator[tuple[str, str]]:
        """Give what the command makes, each with the key that says so."""
        yield from (("makes", made) for made in self.makes)
        if self.stdout is not None:
            yield "stdout", self.stdout

    def conditions(self) -> Mapping[str, Mapping[str, Condition]]:
        return {"done_when": self.done_when}

    def places(self) -> Iterator[tuple[str, str]]:
        return (("changes", name) for name in self.changes)

    def chooses(self, part: str) -> bool:
        named = {b.name for argument in self.run for b in braces(argument)}
        return part in named or self.per == part

    @property
    def part(self) -> str:
        return self.per or ""

    @property
    def names_told(self) -> tuple[str, ...]:
        return tuple(self.prints)

    @property
    def may_repeat(self) -> bool:
        return self.repeat == "safe"

    @property
    def fills_parcel(self) -> bool:
        return bool(self.makes)
