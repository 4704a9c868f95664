"""The step that a command becomes, what it takes, and what is known of it."""

from __future__ import annotations

from typing import Literal, Protocol

from pydantic import Field

from widetrail.steps.contexts import Evidence, Licences, OfItem, People, Programs, Work
from widetrail.steps.outcomes import Facts
from widetrail.steps.step import Step


class Has(Work, OfItem, Evidence, Programs, People, Licences, Protocol):
    """What running a command takes."""


class RunStep(Step):
    """A command that is run; ``hidden`` are the names of secrets that it tells, ``parts`` the value
    of a part that it is run for."""

    commands_in = ("command", "undo_command", "final_command")

    kind: Literal["run"] = "run"
    command: tuple[str, ...]
    within: str
    exit: tuple[int, ...] = (0,)
    title: str = ""
    stdin: str | None = None
    stdout: str | None = None
    env: dict[str, str] = Field(default_factory=dict)
    hidden: tuple[str, ...] = ()
    parts: dict[str, str] = Field(default_factory=dict)
    undo_command: tuple[str, ...] = ()
    final_command: tuple[str, ...] = ()

    @property
    def given(self) -> tuple[str, ...]:
        return (*([self.stdin] if self.stdin is not None else ()), *self.env.values())


class RunFacts(Facts):
    """How a run ended: its exit status, how its end is known where it was cut off (``done_when``
    holds, or a person says so), and whether what it makes is there where it failed."""

    passing = Facts.passing | {"status", "resumed", "is_done"}

    status: int | None = None
    resumed: Literal["", "done_when", "person"] = ""
    is_done: bool | None = None
