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
from widetrail.field.field_file import FieldFile
from widetrail.field.machines_made import MachinesMade
from widetrail.field.outcomes_told import StepTold, steps_of
from widetrail.lazily import dataclass
from widetrail.machine import FolderMachine
from widetrail.planning import Plan
from widetrail.recipe import SUFFIX as RECIPE_SUFFIX
from widetrail.recipe import Loaded, Station, load_recipe_text
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
    if like is None:
        making = MachinesMade(report, plan, recipes, steps, folder)
        machines: dict[Station, FolderMachine] = {
            station: making.machine(station)
            for station in dict.fromkeys(("old", "new", *(leg.station for leg in plan.legs)))
        }
        checked = making.answers.checked(machines["new"], "new")
        checks = [step.id for step in steps.values() if step.kind == "check"]
        said = [one for n, m in machines.items() for one in making.answers.said(m, n)]
        told = [*_answering([*said, *((check, checked) for check in checks)])]
        sides: dict[str, Any] = {name: {"machine": f"field-{name}"} for name in machines}
    else:
        told = list[dict[str, Any]]()
        sides = _copied(like, folder)
    lacking = [f"a walk that was cut off at {s.id}" for s in wrong if s.state == "cut off"]
    rehearsal = folder / f"field{SUFFIX}"
    chosen = _chosen(report, plan, recipes, steps, like=like is not None)
    stops = [*_refusals(wrong, each=like is None), *told]
    write_rehearsal(rehearsal, {**chosen, **sides, "stops": stops})
    return Rebuilt(rehearsal, wrong, tuple(lacking))


class _Whole(yaml.SafeDumper):
    """Writes each value where it stands: rehearsal files know no names for values."""

    def ignore_aliases(self, data: object) -> bool:
        return True


def write_rehearsal(path: Path, told: Mapping[str, Any]) -> None:
    """Write a rehearsal as a document; keys without a value are left out."""
    plain = {name: value for name, value in told.items() if value}
    text = yaml.dump(plain, Dumper=_Whole, sort_keys=False, allow_unicode=True)
    path.write_text(text, encoding="utf-8")


def read_rehearsal(path: Path) -> dict[str, Any]:
    """Return a rehearsal that was written so, as plain values."""
    told: dict[str, Any] = yaml.safe_load(path.read_text(encoding="utf-8"))
    return told


def as_recorded(steps: Iterable[StepTold], *, each: bool) -> list[dict[str, Any]]:
    """Return stops by which steps come out as they did in the field, without being done; ``each``
    where those of one of several are meant by its name."""
    return [
        {
            "before": step.meant_by(each=each),
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


def _chosen(
    report: FieldFile,
    plan: Plan,
    recipes: Iterable[Loaded],
    steps: Mapping[str, StepTold],
    *,
    like: bool,
) -> dict[str, Any]:
    """Return the rehearsal of a report's recipes with what was chosen in the field."""
    told: Mapping[str, Any] = next((e["choices"] for e in report.logbook if "choices" in e), {})
    many = {name: [one for one in told.get(name, ()) if _holds(one, like)] for name in _MANY}
    each = {
        name: {one: word for one, word in told.get(name, {}).items() if _holds(one, like)}
        for name in _EACH
    }
    hands = {name: "made up" for one in recipes for name in one.recipe.asks}
    hands |= {s.id: "done" for s in steps.values() if s.kind == "person" and s.state == "done"}
    if not like:
        each["routes"] = {item.id: item.route for item in plan.placed if item.route}
    return {
        "rehearsal": "what happened in the field",
        "recipe": [one.id for one in plan.recipes],
        **many,
        **each,
        "choose": {} if like else _parts(plan),
        "hands": {} if like else hands,
        "ask_programs": "yes" if told.get("ask_programs") else "",
        "release_after": told.get("release_after", ""),
        "sealed": "made up for the rehearsal" if plan.sealed else "",
        "until": "end",
        "patience": "5 s",
        "expect": {name: {} for name in _own_items(plan)[:1]},
    }


def _own_items(plan: Plan) -> list[str]:
    """Return the items of the first recipe, of which alone a rehearsal expects anything."""
    every = [*(item.id for item in plan.items), *(item.id for item in plan.left)]
    return [item_name(name) for name in every if name.startswith(f"{plan.recipes[0].id}.")]


def _parts(plan: Plan) -> dict[str, Any]:
    """Return what was chosen of parts, by item: rehearsals choose of the first recipe only."""
    return {
        item_name(item.id): {part: list(item.parts[part]) for part in item.parts_left}
        for item in plan.items
        if item.parts_left and item.recipe == plan.recipes[0].id
    }


def _holds(chosen: str, like: bool) -> bool:
    """Return whether what is chosen of an item can be chosen: on other machines, one of several has
    another name."""
    return not like or "[" not in chosen


_MANY = ("only", "without")
_EACH = ("routes", "duplicates")
"""Choices of the field that a rehearsal makes too."""


def item_name(item: str) -> str:
    """Return an item as rehearsals name it: without its recipe."""
    return item.partition(".")[2]


def _refusals(wrong: Sequence[StepTold], *, each: bool) -> Iterator[dict[str, Any]]:
    """Give what the system refused, each time again."""
    for step in wrong:
        if step.refused:
            at = step.meant_by(each=each)
            yield {"before": at, "by": step.refused, "lasting": "yes"}


def _answering(told: Iterable[tuple[str, Mapping[str, Any]]]) -> Iterator[dict[str, Any]]:
    """Have readings tell from a step on what they told there."""
    for step, answers in told:
        if answers:
            yield {"before": step, "by": {"answers": answers}, "lasting": "yes"}
