"""The kinds of steps that there are: our own, and those that others add.

Another distribution adds a kind by an entry point of the group ``widetrail.steps``: its name is
the kind's, and it names a ``Rule``, an ``Act`` or what is both. Entry points are looked for only
where a kind is none of our own.
"""

from __future__ import annotations

from collections.abc import Mapping
from functools import cache
from typing import Annotated, Any

from pydantic import BeforeValidator, SerializeAsAny, ValidationError

from widetrail.formats.added import Added
from widetrail.formats.stored_values import why_not
from widetrail.lazily import Imported
from widetrail.steps.journal_events import OWN, Record
from widetrail.steps.kind import Act, Rule
from widetrail.steps.outcomes import Outcome, WrittenOutcome, outcome_of
from widetrail.steps.step import Step

GROUP = "widetrail.steps"
"""The group of entry points by which a distribution adds kinds of steps."""

_BOTH = {
    "run": ("run", "Run"),
    "person": ("person", "Person"),
    "wait": ("wait", "Wait"),
    "open": ("program", "Open"),
    "close": ("program", "Close"),
    "first_start": ("program", "FirstStart"),
    "remove": ("remove", "Remove"),
    "detach": ("detach", "Detach"),
    "write": ("write", "Write"),
    "records": ("records", "MergeRecords"),
}

RULES: Mapping[str, Rule[Any]] = Added(
    Rule,
    Imported("widetrail.steps", {"copy": ("copy", "Copy"), **_BOTH}, lambda kind: kind()),
    GROUP,
    "kind of step",
)
"""The kinds of steps that a recipe may use."""

_ACTS = {
    "note": ("note", "Note"),
    "pack": ("pack", "Pack"),
    "publish": ("publish", "Publish"),
    "enter": ("enter", "Enter"),
    "check": ("check", "Checks"),
    "remnants": ("remnants", "Remnants"),
    "retire": ("retire", "Retire"),
    "seat": ("seat", "SeatActs"),
    **_BOTH,
}

ACTS: Mapping[str, Act[Any, Any]] = Added(
    Act, Imported("widetrail.steps", _ACTS, lambda kind: kind()), GROUP, "kind of step"
)
"""The kinds of steps that a plan may hold."""


def _as_its_kind(data: Any) -> Any:
    """Return a step of a document as the model of its kind."""
    if not isinstance(data, dict):
        return data
    act = ACTS.get(str(data.get("kind")))
    if act is None:
        raise ValueError(f"{data.get('kind')} is not a kind of step")
    try:
        return act.step.model_validate(data)
    except ValidationError as error:
        raise ValueError(why_not(error)) from error


AnyStep = Annotated[SerializeAsAny[Step], BeforeValidator(_as_its_kind)]
"""A step of any kind, as a plan holds it."""


def brings_about(kind: str) -> bool:
    """Return whether a recipe's step of that kind may bring about what was not there before."""
    act = ACTS.get(kind)
    return act is not None and act.brings_about


def act_of(step: Step) -> Act[Any, Any]:
    """Return what tells, does and takes back a step."""
    return ACTS[step.kind]


def words_of(step: Step) -> str:
    """Return a step as a plan tells it to a person."""
    return act_of(step).words(step)


def read_outcome(told: WrittenOutcome) -> Outcome:
    """Return an outcome as it was written down.

    Raises:
        ValueError: It is none, or its facts are not those of its kind.
    """
    act = ACTS.get(told.kind)
    if act is None:
        raise ValueError(f"{told.kind} is not a kind of step")
    return outcome_of(told, act.facts.model_validate(told.facts))


@cache
def record_of(event: str) -> type[Record] | None:
    """Return the model of the journal's records of an event that steps write."""
    own = (record for act in ACTS.values() for record in act.records)
    return next((record for record in (*OWN, *own) if record.event == event), None)
