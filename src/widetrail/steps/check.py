"""``check``: readings taken on new, compared with those that were noted on old."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal, Protocol

from pydantic import Field

from widetrail.formats.documents import Model
from widetrail.formats.stored_values import Text
from widetrail.recipe.routes import Check
from widetrail.steps.contexts import Evidence, OfItem
from widetrail.steps.kind import Act
from widetrail.steps.note import take_note
from widetrail.steps.outcomes import Done, Facts, Failed, Noted, Outcome
from widetrail.steps.step import Step


class Has(OfItem, Evidence, Protocol):
    """What comparing takes."""


Verdict = Literal["holds", "differs", "unknown"]
Compare = Literal["same", "at_least"]


class CheckStep(Step):
    """Readings of an item that are compared, each with how it must be."""

    kind: Literal["check"] = "check"
    readings: dict[str, Compare]


class Checked(Model):
    """A reading on both sides, and how they compare."""

    old: Noted | None = None
    new: Noted | None = None
    verdict: Verdict


class CheckFacts(Facts):
    """How each reading compared, by name."""

    checks: dict[Text, Checked] = Field(default_factory=dict)


class Checks(Act[CheckStep, Has]):
    """Takes the same readings on new and compares."""

    step = CheckStep
    effect = "looks"
    facts = CheckFacts

    def words(self, step: CheckStep) -> str:
        wanted = ", ".join(
            f"{name} ({compare.replace('_', ' ')})" for name, compare in step.readings.items()
        )
        return f"Check {step.item} against the old computer: {wanted}"

    def do(self, step: CheckStep, doing: Has) -> Outcome:
        finder, noted = doing.finder(step.item), doing.noted(step.item)
        item = doing.item(step.item)
        checks: dict[str, Checked] = {}
        wrong: list[str] = []
        for name in step.readings:
            new, old = take_note(finder, item, name), noted.get(name)
            verdict = judge(item.checks[name], old, new)
            checks[name] = Checked(old=old, new=new, verdict=verdict)
            finder.decide(item.checks[name], verdict)
            if verdict != "holds":
                wrong.append(
                    f"{name}: {_shown(old)} on the old computer, {_shown(new)} on the new computer"
                )
        facts = CheckFacts(checks=checks)
        if wrong:
            todo = "Compare both in the program before you delete anything on the old computer."
            return Failed("; ".join(wrong), todo, facts)
        return Done(facts)


def judge(check: Check, old: Noted | None, new: Noted | None) -> Verdict:
    """Return how two noted answers compare; an unknown one is never equal to anything."""
    if old is None or new is None:
        return "unknown"
    if old.by is not None and new.by is not None:
        return _judge_parts(check, old.by, new.by)
    if not (old.is_known and new.is_known):
        return "unknown"
    before, after = old.value, new.value
    if check.compare == "same":
        return "holds" if before == after else "differs"
    if isinstance(before, int | float) and isinstance(after, int | float):
        return "holds" if after >= before else "differs"
    if isinstance(before, tuple) and isinstance(after, tuple):
        return "holds" if all(v in after for v in before) else "differs"
    return "unknown"


def _judge_parts(check: Check, old: Mapping[str, Noted], new: Mapping[str, Noted]) -> Verdict:
    verdicts = {judge(check, value, new.get(part)) for part, value in old.items()}
    if check.compare == "same" and new.keys() - old.keys():
        verdicts.add("differs")
    graver: tuple[Verdict, ...] = ("differs", "unknown")
    return next((v for v in graver if v in verdicts), "holds")


def _shown(noted: Noted | None) -> str:
    if noted is None:
        return "not noted"
    if noted.by is not None:
        return ", ".join(f"{part} {_shown(value)}" for part, value in noted.by.items())
    return str(noted.value) if noted.is_known else f"unknown ({noted.unknown})"
