"""How each step came out in the field, as a report tells it."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import field
from typing import Any

from widetrail.lazily import dataclass


@dataclass(frozen=True)
class StepTold:
    """A step of a move: how it came out, by what the system refused a change, how its program
    ended, whether that made files, and what came of each check.

    ``says`` is what the program said of its licence, ``told`` what it printed of values, ``noted``
    the readings that it took, by where. ``cut off`` is one that was begun and never came to an end.
    """

    id: str
    item: str
    kind: str
    state: str
    reason: str = ""
    refused: str = ""
    status: int = 0
    made: bool = False
    verdicts: tuple[tuple[str, str], ...] = ()
    says: str = ""
    told: Mapping[str, Any] = field(default_factory=dict)
    noted: Mapping[str, Mapping[str, Any]] = field(default_factory=dict)

    def meant_by(self, *, each: bool) -> str:
        """Return by what a rehearsal means it: its id where ``each`` of several is meant, else the
        end of that, without which of several it is of."""
        item, found, rest = self.id.partition("]/")
        return self.id if each else rest if found else item

    @property
    def known_by(self) -> str:
        """Its id without which of several it is of: those have other names on other machines."""
        return re.sub(r"\[[^]]*\]", "", self.id)

    def is_like(self, other: StepTold) -> bool:
        """Return whether another step came out in the same way: as told, or for the same cause."""
        caused = (self.refused, self.status, self.verdicts)
        same = caused == (other.refused, other.status, other.verdicts)
        return self.state == other.state and (same or self.reason == other.reason)


def steps_of(
    plan: Mapping[str, Any],
    logbook: Iterable[Mapping[str, Any]],
    journal: Iterable[Mapping[str, Any]],
) -> dict[str, StepTold]:
    """Return the newest word on each step of a plan, by its id, from plain JSON values."""
    items = {step["id"]: step["item"] for step in plan["steps"]}
    found: dict[str, StepTold] = {}
    for entry in logbook:
        for step, outcome in entry.get("steps", {}).items():
            found[step] = _told(step, items.get(step, ""), outcome)
    for record in journal:
        step = str(record.get("step", ""))
        if record.get("event") == "step done":
            found[step] = _told(step, items.get(step, ""), record["outcome"])
        elif record.get("event") == "step begun":
            found[step] = StepTold(step, items.get(step, ""), str(record["kind"]), "cut off")
    return found


def _told(step: str, item: str, outcome: Mapping[str, Any]) -> StepTold:
    facts, kind = outcome.get("facts", {}), str(outcome.get("kind", ""))
    checks = facts.get("checks", {}) if kind == "check" else {}
    noted = {
        "old": facts.get("readings", {}) if kind == "note" else {},
        "new": {name: one["new"] for name, one in checks.items() if one.get("new")},
    }
    return StepTold(
        step,
        item,
        kind,
        str(outcome.get("state", "")),
        str(outcome.get("reason", "")),
        str(facts.get("refused") or ""),
        int(facts.get("status") or 0),
        bool(facts.get("made")),
        tuple(sorted((name, str(one["verdict"])) for name, one in checks.items())),
        str((facts.get("seat") or {}).get("says") or ""),
        facts.get("told") or {},
        noted,
    )
