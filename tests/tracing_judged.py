"""Traces held against answers that were written by hand: what was found, and what was right."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import yaml

from widetrail.machine import FolderMachine
from widetrail.recipe import Globs
from widetrail.tracing import Trace
from widetrail.tracing.classes import TAKEN, Classes
from widetrail.tracing.lab import Lab
from widetrail.tracing.parts import shown

ANSWERS: dict[str, dict[str, Any]] = yaml.safe_load(
    (Path(__file__).parent / "trace_answers.yaml").read_text(encoding="utf-8")
)
"""What each program keeps, by its name."""


@dataclass(frozen=True)
class Judged:
    """What a trace found: files that are kept and were missed, files that were taken and are not
    kept, how many were right, and places that can be moved and were not found."""

    missed: tuple[str, ...]
    wrong: tuple[str, ...]
    right: int
    places_missed: tuple[str, ...]
    values_missed: tuple[str, ...]

    @property
    def recall(self) -> float:
        return self.right / max(self.right + len(self.missed), 1)

    @property
    def precision(self) -> float:
        return self.right / max(self.right + len(self.wrong), 1)


def judge(name: str, trace: Trace, machine: FolderMachine) -> Judged:
    """Hold a trace against the answer of its program."""
    answer = ANSWERS[name]
    kept = _files(machine, answer["keeps"])
    there = {one.path: one.kind for one in Classes(trace, machine).all}
    taken = {p for p, kind in there.items() if kind in TAKEN and machine.look(p) is not None}
    told = {t.place: t.value.at for t in trace.tells if t.proved != "no"}
    wanted = answer.get("told", {})
    values = {shown(one.part).partition("\\")[2] for one in trace.shows if one.needed}
    return Judged(
        tuple(sorted(kept - taken)),
        tuple(sorted(taken - kept)),
        len(kept & taken),
        tuple(place for place, at in wanted.items() if told.get(place) != at),
        tuple(value for value in answer.get("values", ()) if value not in values),
    )


def _files(machine: FolderMachine, globs: Sequence[str]) -> set[str]:
    held = Globs(tuple(globs), ignore_case=False)
    found = set()
    for disk in machine.disks():
        for entry in machine.walk(disk):
            path = f"{disk.rstrip('/')}/{entry.path}"
            if entry.kind == "file" and held(path):
                found.add(path)
    return found


def unneeded(trace: Trace, folder: Path) -> list[str]:
    """Return the parts that a trace calls needed, and that can be taken away alone unnoticed."""
    lab = Lab(folder, trace.program, trace.screen)
    needed = [one.part for one in trace.shows if one.needed and one.part.is_file]
    others = [one.part for one in trace.shows if not one.needed and one.part.is_file]
    return [p.path for p in needed if lab.same(lab.without([*others, p]))]
