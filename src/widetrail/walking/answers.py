"""The person at the station: what they answer and do, from a file or not at all.

An answers file is YAML: names to answers. ``done`` says that a task is done, a list of commands
does it by the application's own programs::

    passphrase: reed bunting                # asked for by a recipe
    sign_in: done                           # a task by its name
    seedling-quest.sign_in: [[seedling, sign-in, ines]]
    tillbook.ledger[Tea tent].phrase: fen wren  # of one item
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Annotated, Any

from pydantic import BeforeValidator
from pydantic_core import PydanticCustomError

from widetrail.errors import InputUnusable
from widetrail.formats.document_schema import TEXT
from widetrail.formats.documents import read_text
from widetrail.formats.flaws import flaw
from widetrail.formats.yaml_positions import Map, read_marked
from widetrail.steps import Asked, Task

DONE = "done"
Answer = str | tuple[tuple[str, ...], ...]
"""What a person answers, or the commands that do what they would."""


def _answer(raw: object) -> Answer:
    if isinstance(raw, str):
        return str(raw)
    if isinstance(raw, tuple):
        return raw
    commands = raw if isinstance(raw, list) and all(isinstance(c, list) and c for c in raw) else []
    if commands and all(isinstance(word, str) for command in commands for word in command):
        return tuple(tuple(command) for command in commands)
    raise flaw("answer", 'expected a text, "done" or a list of commands')


def answers_schema() -> dict[str, Any]:
    """Return the JSON Schema of an answers file."""
    command = {"type": "array", "items": TEXT, "minItems": 1}
    told = "A text, done where a task is done, or commands of the program that do it"
    return {
        "type": "object",
        "description": "Names of what is asked for, or of tasks, with answers",
        "additionalProperties": {
            "description": told,
            "anyOf": [TEXT, {"type": "array", "items": command, "minItems": 1}],
        },
    }


Given = Annotated[Answer, BeforeValidator(_answer)]


class Answers:
    """Hands that answer from what was written beforehand; ``None`` and ``False`` for the rest."""

    def __init__(self, answers: Mapping[str, Answer] | None = None) -> None:
        self._answers = dict(answers or {})
        self._noted: dict[tuple[str, str], str] = {}

    def answer(self, asked: Asked) -> str | None:
        found = self._find(asked.recipe, asked.item, asked.name)
        if found is None:
            return self._noted.get((asked.item, asked.name))
        if not isinstance(found, str) or (asked.choices and found not in asked.choices):
            wanted = " or ".join(asked.choices) or "a text"
            raise InputUnusable(f"the answer to {asked.name} must be {wanted}")
        return found

    def act(self, task: Task, play: Callable[[Sequence[str]], None]) -> bool:
        found = self._find(task.recipe, task.item, task.name, task.step)
        if found is None:
            return False
        self._noted |= {(task.item, name): value for name, value in (task.shown or {}).items()}
        for command in found if isinstance(found, tuple) else ():
            play(command)
        return isinstance(found, tuple) or found == DONE

    def _find(self, recipe: str, item: str, name: str, step: str = "") -> Answer | None:
        known = [step, *(f"{of}.{name}" for of in (item, recipe) if name), name]
        return next((self._answers[key] for key in known if key in self._answers), None)


def read_answers(path: Path) -> Answers:
    """Read an answers file.

    Raises:
        InputUnusable: It is not there, or holds what is not an answer.
    """
    tree, findings = read_marked(read_text(path), str(path))
    if findings or not isinstance(tree, Map):
        what = str(findings[0]) if findings else "expected names with answers"
        raise InputUnusable("the answers cannot be used", where=str(path), why=what)
    try:
        return Answers({name: _answer(value) for name, value in tree.items()})
    except PydanticCustomError as error:
        raise InputUnusable(
            "the answers cannot be used",
            where=str(path),
            why=str(error),
            todo='Write a text, "done" or a list of commands for each name.',
        ) from error
