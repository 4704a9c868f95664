"""How the calls of programs went in the field, for stand-ins that end, print and make the same."""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import partial
from typing import NotRequired, TypedDict

from widetrail.field.answers_told import AnswersTold
from widetrail.field.outcomes_told import StepTold
from widetrail.formats import Unreadable
from widetrail.formats.forms import FORMS
from widetrail.formats.interface import Unwritable
from widetrail.formats.parser_process import matches
from widetrail.machine import FolderMachine
from widetrail.recipe import Reading, Station
from widetrail.steps.program import FirstStartStep
from widetrail.steps.run_settings import RunSettings
from widetrail.steps.run_step import RunStep
from widetrail.steps.write import written_with


class Call(TypedDict):
    """A call in the field: its arguments, in which braces stand for a place; how it ended; and by
    its number among the arguments what is in the file that it made there. ``folders`` are those
    that it made, and ``prints`` is what it printed."""

    arguments: list[str]
    status: int
    makes: NotRequired[dict[str, str]]
    folders: NotRequired[list[str]]
    prints: NotRequired[list[str]]


class CallsTold:
    """Tells how the calls of a recipe's program went at a station."""

    def __init__(self, answers: AnswersTold) -> None:
        self._answers = answers

    def of(
        self, recipe: str, program: str, machine: FolderMachine, station: Station
    ) -> Iterator[Call]:
        """Give the calls of a program, in the order of the steps; ``machine`` is who plays it."""
        for step in self._answers.plan.steps:
            if step.station != station or self._answers.plan.item(step.item).recipe != recipe:
                continue
            told = self._answers.steps.get(step.id)
            if isinstance(step, FirstStartStep) and step.opens[:1] == (program,):
                made = self._answers.first_made(machine, step)
                folders = [made] if made is not None else []
                yield {"arguments": [*step.opens[1:]], "status": 0, "folders": folders}
            elif isinstance(step, RunStep) and step.command[0] == program and told is not None:
                yield {
                    "arguments": [*step.command[1:]],
                    "status": told.status,
                    "makes": self._made(step) if told.made else {},
                    "prints": [*self._printed(step, told)],
                }

    def _made(self, step: RunStep) -> dict[str, str]:
        """Return what is in the files that a call made, by the numbers of its arguments."""
        rule, found = self._answers.rule(step), dict[str, str]()
        arguments = rule.run[1:] if isinstance(rule, RunSettings) else ()
        for number, argument in enumerate(arguments):
            for made in rule.makes if isinstance(rule, RunSettings) else ():
                if made in argument:
                    found[str(number)] = self._held(step, made)
        return found

    def _held(self, step: RunStep, made: str) -> str:
        """Return a text that is read as a request or an answer, where that is what is made."""
        planned = self._answers.plan.item(step.item)
        licence = self._answers.recipes[planned.recipe].recipe.licences.get(planned.item)
        exchange = licence.exchange if licence is not None else None
        reading: Reading | None = getattr(exchange, made.strip("{}"), None)
        return "\0" if reading is None else _read_as(reading, "made-up")

    def _printed(self, step: RunStep, told: StepTold) -> Iterator[str]:
        """Give a line for each value that a program printed, as the recipe finds it."""
        rule = self._answers.rule(step)
        for name, expression in rule.prints.items() if isinstance(rule, RunSettings) else ():
            yield _line(expression, str(told.told.get(name, "")))


def _read_as(reading: Reading, value: str) -> str:
    """Return a text from which a reading takes a value, where one can be written."""
    for begun in (b"", b"{}\n", b"<r/>\n"):
        try:
            return written_with(FORMS[reading.form], begun, reading.at or "", value).decode()
        except (Unreadable, Unwritable):
            continue
    return _line(reading.at or "", value)


_GROUP = re.compile(r"\((?!\?)((?:\\.|\[[^]]*\]|[^()\\])*)\)")
"""The group of an expression that has one, with none in it."""


def _line(expression: str, value: str) -> str:
    """Return a line in which an expression finds a value, or one like it where it finds no such."""
    group = _GROUP.search(expression)
    if group is None:
        return value
    fits = matches(f"^(?:{group[1]})$", value)
    before, after = expression[: group.start()], expression[group.end() :]
    return _plain(before) + (value if fits else _plain(group[1])) + _plain(after)


def _plain(expression: str) -> str:
    """Return a text that a plain expression matches: of letters, digits, blanks and repeats."""
    text = expression.strip("^$")
    for found, made in (("\\d", "1"), ("\\s", " "), ("\\w", "x"), ("\\S", "x"), ("[0-9]", "1")):
        many = re.compile(rf"{re.escape(found)}(?:\{{(\d{{1,3}})[^}}]*\}}|[+*]\??)?")
        text = many.sub(partial(_repeated, made), text)
    return re.sub(r"\\(\W)", r"\1", text)


def _repeated(made: str, found: re.Match[str]) -> str:
    return made * int(found[1] or 1)
