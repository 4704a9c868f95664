"""What may stand in the facts of a step, once they were written down and may have been changed."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from pydantic import Field, StrictInt

from widetrail.formats.told import Count, Text, Told

BY_NAME = frozenset({"note", "check", "wait", "first_start"})
"""The kinds of steps whose facts stand by names of the recipe: readings and places."""


class _Why(Told):
    path: Text
    reason: Text


_Paths = list[Text | _Why]


class StepFacts(Told):
    """The facts of a step that are used by their names."""

    files: Count = 0
    size: Count = 0
    links: Count = 0
    verified: Count = 0
    values: Count = 0
    paths_rewritten: Count = Field(0, alias="paths rewritten")
    to: Text = ""
    status: StrictInt | None = None
    removed: Text = ""
    retired: Text = ""
    written: Text = ""
    came_as: dict[Text, Text] = Field(default_factory=dict, alias="came as")
    tells: dict[Text, Text] = Field(default_factory=dict)
    put_aside: list[Text] = Field(default_factory=list, alias="put aside")
    beside: list[Text] = Field(default_factory=list)
    passed_by: list[Text] = Field(default_factory=list, alias="passed by")
    made: list[Text] = Field(default_factory=list)
    appeared: _Paths = Field(default_factory=list)
    paths_elsewhere: _Paths = Field(default_factory=list, alias="paths elsewhere")
    paths_not_said: _Paths = Field(default_factory=list, alias="paths not said")
    not_rewritten: _Paths = Field(default_factory=list, alias="not rewritten")
    written_anew: _Paths = Field(default_factory=list, alias="written anew")
    mentions: _Paths = Field(default_factory=list)
    not_looked_through: _Paths = Field(default_factory=list, alias="not looked through")
    no_files: _Paths = Field(default_factory=list, alias="no files")
    open_to_others: _Paths = Field(default_factory=list, alias="open to others")
    unreadable: _Paths = Field(default_factory=list)
    dangling: _Paths = Field(default_factory=list)
    without_attributes: _Paths = Field(default_factory=list, alias="without attributes")


class _Checked(Told):
    old: Any
    new: Any
    verdict: Text


def judge_facts(kind: str, facts: Mapping[str, Any]) -> None:
    """Raise where the facts of a step of a kind, which are plain values, are none.

    Raises:
        ValueError: They are not such as a step of that kind has.
    """
    if kind == "check":
        for checked in facts.values():
            _Checked.model_validate(checked)
    elif kind == "note":
        for answer in facts.values():
            _judge_answer(answer)
    elif kind not in BY_NAME:
        StepFacts.model_validate(facts)


def _judge_answer(answer: object) -> None:
    if not isinstance(answer, dict):
        raise ValueError("it holds an answer that is none")
    if "by" in answer:
        _ByPart.model_validate(answer)
        for inner in answer["by"].values():
            _judge_answer(inner)


class _ByPart(Told):
    by: dict[Text, dict[str, Any]]
