"""Rebuilding from a field report: machines and a rehearsal on which a move goes as it went.

Contents are not in a report. What stands in the places is of the sizes and (made-up) names that it
tells, with nothing in it; programs end as they did. What a program itself lists, counts or prints
cannot be had from that.
"""

from __future__ import annotations

import shutil
from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

import yaml

from widetrail.errors import InputUnusable
from widetrail.field.field_file import FieldFile, Structure
from widetrail.field.machines_made import MachinesMade
from widetrail.field.outcomes_told import StepTold, steps_of
from widetrail.lazily import dataclass
from widetrail.machine.paths import join
from widetrail.planning import Plan
from widetrail.recipe import SUFFIX as RECIPE_SUFFIX
from widetrail.recipe import load_recipe_text
from widetrail.rehearsing import SUFFIX, Rehearsal
from widetrail.rehearsing.machine_copies import copy_machine
from widetrail.rehearsing.stage import MACHINES, machines_near
from widetrail.steps import KINDS


@dataclass(frozen=True)
class Rebuilt:
    """A rehearsal that was made of a field report, the steps that went wrong in the field, and what
    could not be rebuilt."""

    rehearsal: Path
    wrong: tuple[StepTold, ...]
    lacking: tuple[str, ...]


def rebuild(report: FieldFile, folder: Path, like: Rehearsal | None = None) -> Rebuilt:
    """Write the recipes of a report, machines and a rehearsal into a new folder.

    With ``like`` the machines are those of that rehearsal, which have contents and programs, and
    what it says of them holds; only what is chosen and what goes wrong is the report's.

    Raises:
        InputUnusable: The folder is there, or cannot be written.
        DocumentUnusable: A recipe of the report has findings that are errors.
    """
    if folder.exists():
        raise InputUnusable("already exists", where=str(folder), todo="Name another folder.")
    try:
        folder.mkdir(parents=True)
        return _rebuilt(report, folder, like)
    except (AttributeError, LookupError, TypeError, ValueError, StopIteration, OSError) as error:
        what = "the field report cannot be rebuilt"
        raise InputUnusable(what, where=str(folder), why=str(error)) from error


def _rebuilt(report: FieldFile, folder: Path, like: Rehearsal | None) -> Rebuilt:
    plan = Plan.model_validate(report.plan)
    recipes = []
    for one in report.recipes:
        loaded = load_recipe_text(one.text, f"{one.id}{RECIPE_SUFFIX}", KINDS)
        path = folder / f"{loaded.id}{RECIPE_SUFFIX}"  # the report's own word could be any path
        path.write_text(one.text, encoding="utf-8", newline="")
        recipes.append(loaded)
    steps = steps_of(report.plan, report.logbook, report.journal)
    wrong = tuple(step for step in steps.values() if step.state != "done")
    lacking = list[str]()
    if like is None:
        making = MachinesMade(report, plan, recipes, steps, folder)
        lacking += [*making.machine("old"), *making.machine("new")]
        sides: dict[str, Any] = {n: {"machine": f"field-{n}"} for n in ("old", "new")}
    else:
        sides = _copied(like, folder)
    lacking += [f"a walk that was cut off at {s.id}" for s in wrong if s.state == "cut off"]
    rehearsal = folder / f"field{SUFFIX}"
    stops = [*_refusals(wrong), *(_meddling(report, plan, wrong) if like is None else ())]
    write_rehearsal(rehearsal, {**_chosen(report, plan), **sides, "stops": stops})
    return Rebuilt(rehearsal, wrong, tuple(lacking))


def write_rehearsal(path: Path, told: Mapping[str, Any]) -> None:
    """Write a rehearsal as a document; keys without a value are left out."""
    plain = {name: value for name, value in told.items() if value}
    path.write_text(yaml.safe_dump(plain, sort_keys=False, allow_unicode=True), encoding="utf-8")


def read_rehearsal(path: Path) -> dict[str, Any]:
    """Return a rehearsal that was written so, as plain values."""
    told: dict[str, Any] = yaml.safe_load(path.read_text(encoding="utf-8"))
    return told


def as_recorded(steps: Iterable[StepTold]) -> list[dict[str, Any]]:
    """Return stops by which steps come out as they did in the field, without being done."""
    return [
        {
            "before": step.tail,
            "by": {"comes_out": step.state, "why": step.reason or "as in the field"},
            "lasting": "yes",
        }
        for step in steps
        if step.state in ("failed", "waits")
    ]


def _copied(like: Rehearsal, folder: Path) -> dict[str, Any]:
    """Copy the machines of a rehearsal, and its maker's service; return what it says of them."""
    told = like.file.model_dump(mode="json", by_alias=True, exclude_unset=True)
    source = machines_near(like.path)
    (folder / MACHINES).mkdir()
    for name in sorted(
        {told[side]["machine"] for side in ("old", "new", "between") if side in told}
    ):
        copy_machine(source / name, folder / MACHINES / name)
    if like.file.maker is not None:
        maker = like.file.maker.folder
        shutil.copytree(source.parent / maker, folder / maker)
    kept = ("old", "new", "between", "hands", "ask_programs", "screen", "sealed", "maker")
    return {name: told[name] for name in kept if name in told}


def _chosen(report: FieldFile, plan: Plan) -> dict[str, Any]:
    """Return the rehearsal of a report's recipes with what was chosen in the field."""
    told: Mapping[str, Any] = next((e["choices"] for e in report.logbook if "choices" in e), {})
    many = {name: [one for one in told.get(name, ()) if "[" not in one] for name in _MANY}
    each = {
        name: {one: word for one, word in told.get(name, {}).items() if "[" not in one}
        for name in _EACH
    }
    return {
        "rehearsal": "what happened in the field",
        "recipe": [one.id for one in plan.recipes],
        **many,
        **each,
        "sealed": "made up for the rehearsal" if plan.sealed else "",
        "until": "end",
        "patience": "2 s",
        "expect": {item_name(plan.items[0].id if plan.items else plan.left[0].id): {}},
    }


_MANY = ("only", "without")
_EACH = ("routes", "duplicates")
"""Choices that hold on other machines too, where no name of one of several is in them."""


def item_name(item: str) -> str:
    """Return an item as rehearsals name it: without its recipe and which of several it is."""
    return item.partition(".")[2].partition("[")[0]


def _refusals(wrong: Sequence[StepTold]) -> Iterator[dict[str, Any]]:
    """Give what the system refused, each time again."""
    for step in wrong:
        if step.refused:
            yield {"before": step.tail, "by": step.refused, "lasting": "yes"}


def _meddling(report: FieldFile, plan: Plan, wrong: Sequence[StepTold]) -> Iterator[dict[str, Any]]:
    """Give what somebody did to places on new before they were checked: what is not there of what
    was packed, and what is there besides."""
    if report.here != "new":
        return
    for step in wrong:
        packed, there = report.packed.get(step.item), report.there.get(step.item, Structure())
        if step.kind != "check" or packed is None or packed.left_out or there.left_out:
            continue
        place = plan.item(step.item).new_path
        was = {one.path: one for one in packed.names if one.kind == "file"}
        now = {one.path: one for one in there.names if one.kind == "file"}
        gone = [join(place, path) for path in sorted(was.keys() - now.keys())]
        if not there.names:
            gone = [place]
        more = {
            join(place, p): {"size": f"{now[p].size} B"} for p in sorted(now.keys() - was.keys())
        }
        by = {"removes": gone, "files": more}
        if gone or more:
            yield {"before": step.id, "by": {name: told for name, told in by.items() if told}}
