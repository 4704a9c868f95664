"""Commands of an application as recipes state them, and what may not stand in one."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, Literal

from pydantic import AfterValidator, BeforeValidator, Field, model_validator

from widetrail.errors import Halted
from widetrail.formats.checked import Model, flaw
from widetrail.recipe.conditions import Condition, Duration, one_or_many
from widetrail.recipe.models import ArgumentText, Name, Said, check_one_group
from widetrail.recipe.templates import Brace, parse_template, plain

COMMANDS = COMMAND, UNDONE_BY, ENDED_BY, OPENS, CLOSES = (
    "command",
    "undone by",
    "ended by",
    "opens",
    "closes",
)
"""The arguments of a step that are commands: a program of the recipe, and what it is given."""

Arguments = Annotated[tuple[ArgumentText, ...], Field(min_length=1)]


EXCHANGED = REQUEST_MADE, ANSWER_MADE = ("{request}", "{answer}")
"""Files that a licence's steps make, which the engine names."""


def _check_made(text: str) -> str:
    if text in EXCHANGED:
        return text
    pieces = parse_template(text)
    inside = len(pieces) > 1 and pieces[0] == Brace("parcel") and str(pieces[1]).startswith("/")
    if not inside or len(text) < len("{parcel}/x") or "/" in text[len("{parcel}/") :]:
        hint = 'Write it like "{parcel}/export.zip"'
        raise flaw("made", f'"{text}" is no file of the parcel', hint)
    return text


Made = Annotated[ArgumentText, AfterValidator(_check_made)]


class RunRule(Model):
    """The settings of ``run``."""

    run: Arguments
    stdin: ArgumentText | None = None
    env: dict[str, ArgumentText] = Field(default_factory=dict)
    stdout: Made | None = None
    exit: Annotated[tuple[int, ...], BeforeValidator(one_or_many)] = (0,)
    refused: Annotated[tuple[int, ...], BeforeValidator(one_or_many)] = ()
    within: Duration = "10 min"
    makes: Made | None = None
    tells: dict[Name, Annotated[str, AfterValidator(check_one_group)]] = Field(default_factory=dict)
    changes: Annotated[tuple[Name, ...], BeforeValidator(one_or_many)] = ()
    repeat: Literal["safe", "ask", "never"] = "ask"
    done_when: dict[Name, Condition] = Field(default_factory=dict)
    undone_by: Arguments | None = None
    ended_by: Arguments | None = None
    per: Name | None = None
    title: Said | None = None

    @model_validator(mode="after")
    def _options(self) -> RunRule:
        for argument in self.run[1 : self.run.index("--") if "--" in self.run else None]:
            pieces = parse_template(argument)
            if argument.startswith("-") and len(pieces) > 1 and isinstance(pieces[-1], Brace):
                hint = "Give the value as an argument of its own"
                raise flaw("argument", f'"{argument}" joins an option and a value', hint)
        if set(self.exit) & set(self.refused):
            raise flaw("exit", "one exit status cannot mean well and refused")
        if self.stdout is not None and (self.makes is not None or self.tells):
            raise flaw("stdout", '"stdout" makes a file, so there is no "makes" or "tells" beside')
        return self


def refuse_option(argument: str, value: str, before: Sequence[str], where: str) -> None:
    """Refuse a value that a program would take for an option.

    ``argument`` is the template that ``value`` came of, ``before`` the arguments before it.

    Raises:
        Halted: It begins with ``-`` where the template does not, and no ``--`` stands before it.
    """
    pieces = parse_template(argument)
    given = bool(pieces) and isinstance(pieces[0], Brace)
    if given and value.startswith("-") and "--" not in before:
        raise Halted(
            "a value looks like an option",
            where=where,
            why=f'"{plain(value)}" begins with - and would be taken for one',
            todo="Leave it out of what is chosen, or put -- before it in the recipe.",
        )


def show_command(command: tuple[str, ...]) -> str:
    """Return an argument list for people; an argument with spaces stands in quotes."""
    shown = (plain(a) for a in command)
    return " ".join(f'"{a}"' if not a or " " in a else a for a in shown)
