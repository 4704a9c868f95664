"""Commands of an application as recipes state them, and what may not stand in one."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated

from pydantic import Field

from widetrail.errors import Halted
from widetrail.recipe.templates import Brace, parse_template, plain
from widetrail.recipe.text_types import ArgumentText

Arguments = Annotated[tuple[ArgumentText, ...], Field(min_length=1)]


EXCHANGED = REQUEST_MADE, ANSWER_MADE = ("{request}", "{answer}")
"""Files that a licence's steps make, which the engine names."""


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
            why=f'"{plain(value)}" begins with - and would be read as one',
            todo="Leave it out of what is chosen, or put -- before it in the recipe.",
        )


def show_command(command: tuple[str, ...]) -> str:
    """Return an argument list for people; an argument with spaces stands in quotes."""
    shown = (plain(a) for a in command)
    return " ".join(f'"{a}"' if not a or " " in a else a for a in shown)
