"""Lint rules of programs: each that is started is one of the application's."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from widetrail.findings import did_you_mean
from widetrail.formats.documents import Where
from widetrail.recipe.lint.rule import Struck
from widetrail.recipe.lint.whole import Whole
from widetrail.recipe.routes import Leg


def programs(whole: Whole) -> Iterator[Struck]:
    """Find programs that are started and are none of the application."""
    application = whole.recipe.application
    started: list[tuple[Where, str]] = []
    for key, command in application.commands():
        started.extend((("application", key, 0), name) for name in command[:1])
    for where, reading in whole.readings:
        if reading.command is not None:
            started.append(((*where, reading.form, 0), reading.command[0]))
    for legs_at, _, legs, _ in whole.legs:
        started.extend(((*legs_at, *at), command[0]) for at, command in _commands(legs))
    for where, program in started:
        if program not in application.programs:
            hint = did_you_mean(program, application.programs)
            message = f'"{program}" is not a program of this application'
            yield Struck("unknown-program", where, message, hint)


def _commands(legs: Sequence[Leg]) -> Iterator[tuple[Where, Sequence[str]]]:
    """Give the commands that the steps of legs start, with where they stand among these."""
    for leg_number, leg in enumerate(legs):
        for step_number, step in enumerate(leg.steps):
            for key, command in step.rule.commands():
                yield (leg_number, leg.station, step_number, key, 0), command
