"""``note`` and ``check``: readings taken on old, and compared with those taken on new."""

from __future__ import annotations

from widetrail.finding import ByPart, Finder, Known, Unknown
from widetrail.recipe import Item
from widetrail.recipe.arms import reach
from widetrail.recipe.models import Check
from widetrail.steps.interface import Doing, Done, Fact, Facts, Failed, Outcome, Step


class Note:
    """Takes the item's readings on old."""

    def words(self, step: Step) -> str:
        return f"note of {step.item}: {', '.join(step.arguments)}"

    def do(self, step: Step, doing: Doing) -> Outcome:
        finder = doing.finder(step.item)
        return Done({name: _told(finder, doing.item(step.item), name) for name in step.arguments})


class Compare:
    """Takes the same readings on new and compares."""

    def words(self, step: Step) -> str:
        wanted = ", ".join(f"{name} ({step.text(name)})" for name in step.arguments)
        return f"check {step.item} against old: {wanted}"

    def do(self, step: Step, doing: Doing) -> Outcome:
        finder, noted = doing.finder(step.item), doing.noted(step.item)
        item = doing.item(step.item)
        facts: Facts = {}
        wrong: list[str] = []
        for name in step.arguments:
            new, old = _told(finder, item, name), noted.get(name)
            verdict = judge(item.checks[name], old, new)
            facts[name] = {"old": old, "new": new, "verdict": verdict}
            reach(finder.loaded, item.checks[name], verdict)
            if verdict != "holds":
                wrong.append(f"{name}: {_shown(old)} on old, {_shown(new)} on new")
        if wrong:
            todo = "Compare both in the program before anything is thrown away on old."
            return Failed("; ".join(wrong), todo, facts)
        return Done(facts)


def judge(check: Check, old: Fact, new: Fact) -> str:
    """Return ``holds``, ``differs`` or ``unknown`` for two noted answers.

    An answer is ``{"value": …}`` or ``{"unknown": reason}``; unknown is never equal to anything.
    """
    if not (isinstance(old, dict) and isinstance(new, dict)):
        return "unknown"
    if "by" in old and "by" in new:
        return _judge_parts(check, old["by"], new["by"])
    if "value" not in old or "value" not in new:
        return "unknown"
    before, after = old["value"], new["value"]
    if check.compare == "same":
        return "holds" if before == after else "differs"
    if isinstance(before, int | float) and isinstance(after, int | float):
        return "holds" if after >= before else "differs"
    if isinstance(before, list) and isinstance(after, list):
        return "holds" if all(v in after for v in before) else "differs"
    return "unknown"


def _judge_parts(check: Check, old: Fact, new: Fact) -> str:
    if not (isinstance(old, dict) and isinstance(new, dict)):
        return "unknown"
    verdicts = {judge(check, value, new.get(part)) for part, value in old.items()}
    if check.compare == "same" and new.keys() - old.keys():
        verdicts.add("differs")
    return next((v for v in ("differs", "unknown") if v in verdicts), "holds")


def _told(finder: Finder, item: Item, name: str) -> Fact:
    answer = finder.answer(name, item)
    if isinstance(answer, ByPart):
        return {"by": {part: _one(value) for part, value in answer.answers}}
    return _one(answer)


def _one(answer: Known | Unknown) -> Fact:
    if isinstance(answer, Unknown):
        return {"unknown": answer.reason}
    value = answer.value
    return {"value": list(value) if isinstance(value, tuple) else value}


def _shown(fact: Fact) -> str:
    if not isinstance(fact, dict):
        return "not noted"
    by = fact.get("by")
    if isinstance(by, dict):
        return ", ".join(f"{part} {_shown(value)}" for part, value in by.items())
    return str(fact["value"]) if "value" in fact else f"unknown ({fact.get('unknown')})"
