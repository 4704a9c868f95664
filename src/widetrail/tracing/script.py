"""The script of a trace: a program of a machine, what it prints, and what is done in it."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

from pydantic import BeforeValidator, Field

from widetrail.formats.documents import Model, YesNo, load
from widetrail.recipe.conditions import one_or_many

SUFFIX = ".trace.yaml"

Command = Annotated[tuple[str, ...], Field(min_length=1)]
Runs = Annotated[int, Field(ge=1, le=50)]


class Act(Model):
    """One thing that is done in the program, in words, with the commands that do it.

    ``marker`` is a text that was typed, or a place that was chosen: it is looked for in what
    changed. Where it is ``secret``, it stands in no record. ``input`` is typed into each command.
    """

    did: str
    marker: str = ""
    secret: YesNo = False
    run: Annotated[tuple[Command, ...], Field(min_length=1)]
    input: str = ""
    repeat: Runs = 1


class TraceFile(Model):
    """A script: the machine below ``machines``, the program by its name or path, the command that
    prints what a person sees, and what is done.

    Commands begin with the name of a program of the machine. ``idle`` runs only wait ``waits``
    seconds each, ``starts`` only print; both show what changes whatever one does. ``known`` are
    paths that the program is known to keep beside what it reads when it prints.
    """

    trace: str
    machine: str
    program: str
    screen: Command
    idle: Runs = 3
    waits: Annotated[float, Field(ge=0, le=600)] = 0.2
    starts: Runs = 3
    acts: tuple[Act, ...] = ()
    known: Annotated[tuple[str, ...], BeforeValidator(one_or_many)] = ()


def load_script(path: Path) -> TraceFile:
    """Load the script at ``path``.

    Raises:
        InputUnusable: It cannot be read.
        DocumentUnusable: It has findings.
    """
    return load(TraceFile, path)
