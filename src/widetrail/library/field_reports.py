"""Reports from the field: made of a parcel, and rehearsed by whoever looks after its recipes."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from datetime import UTC, datetime
from pathlib import Path

from widetrail.errors import WideTrailError, not_written
from widetrail.field import (
    FieldFile,
    MadeUpNames,
    SeenHere,
    StepTold,
    as_recorded,
    hidden_names,
    item_name,
    load_names,
    make_field_report,
    public_names,
    read_rehearsal,
    rebuild,
    steps_of,
    store_names,
    write_rehearsal,
)
from widetrail.formats.documents import read_document
from widetrail.lazily import dataclass
from widetrail.library.moves import open_visit, what_is_due
from widetrail.library.recipes import Where
from widetrail.machine import Effects, Machine
from widetrail.parcel import Parcel
from widetrail.recipe import Station
from widetrail.rehearsing import Rehearsed, load_rehearsals, rehearse
from widetrail.rehearsing.machines_in_reach import PARCEL
from widetrail.steps import KINDS
from widetrail.walking import ItemReport, make_report


def field_report(
    parcel: Where, machine: Machine | None = None, station: Station | None = None
) -> tuple[FieldFile, MadeUpNames]:
    """Return what a maintainer needs of a move that went wrong, and the names that were made up.

    ``machine`` is the one that it is made on, where that is one of the move; what lies in the
    places there is told too, and what a walk is refused for. Nothing is changed.

    Raises:
        ParcelUnusable: It is not a parcel, or is damaged.
    """
    opened = Parcel(Path(parcel), Effects())
    recipes = opened.recipes(KINDS)
    names = load_names(public_names(recipes), hidden_names(opened, machine))
    found = SeenHere() if machine is None else _found(parcel, machine, station)
    return make_field_report(opened, recipes, names, found), names


def _found(parcel: Where, machine: Machine, station: Station | None) -> SeenHere:
    """Return what is seen on a machine of the move."""
    visit = None
    try:
        visit = open_visit(parcel, machine, station=station)
        if visit.due_here:
            what_is_due(visit)
    except WideTrailError as error:
        return SeenHere(visit, error)
    return SeenHere(visit)


def write_field_report(report: FieldFile, names: MadeUpNames, to: Where) -> Path:
    """Write a field report to a file that is not there yet, and keep on this computer which names
    were made up; return where these are.

    Raises:
        InputUnusable: The system refuses, or the file is there.
    """
    path = Path(to)
    try:
        with path.open("x", encoding="utf-8") as file:
            file.write(report.text())
    except OSError as error:
        raise not_written(path, error) from error
    return store_names(names)


@dataclass(frozen=True)
class FieldRehearsed:
    """What came of rehearsing a field report.

    ``again`` are the steps that went wrong in the field and did so again, in the same way;
    ``recorded`` those that did not and were told to, so that what follows from them is seen;
    ``other`` those that could not be had at all. ``more`` are those that only the rehearsal saw.
    ``lacking`` is what could not be rebuilt, ``rehearsal`` the file beside which all of it lies.
    """

    rehearsal: Path
    again: tuple[StepTold, ...]
    recorded: tuple[StepTold, ...]
    other: tuple[StepTold, ...]
    more: tuple[StepTold, ...]
    lacking: tuple[str, ...]
    went: Rehearsed

    @property
    def same_way(self) -> bool:
        """Whether all goes wrong as it did in the field, and nothing else."""
        return not self.other and not self.more


def rehearse_field_report(
    report: Where, folder: Where, like: Where | None = None
) -> FieldRehearsed:
    """Make machines and a rehearsal of a field report in a new folder, and rehearse them.

    ``like`` is a rehearsal of the same recipes whose machines are taken instead.

    Raises:
        InputUnusable: The report is none, or the folder is there.
        DocumentUnusable: A recipe of the report has findings that are errors.
    """
    told = FieldFile.read(read_document(Path(report), named=False), str(report))
    base = load_rehearsals(Path(like))[0] if like is not None else None
    rebuilt = rebuild(told, Path(folder), base)
    wrong = {step.known_by: step for step in rebuilt.wrong}
    went, parcel, found = _walked(rebuilt.rehearsal, Path(folder) / "walked")
    again = _alike(wrong, found)
    left = [step for known_by, step in wrong.items() if known_by not in again]
    recorded: set[str] = set()
    if left:
        file = read_rehearsal(rebuilt.rehearsal)
        stops = [*file.get("stops", ()), *as_recorded(left, each=base is None)]
        write_rehearsal(rebuilt.rehearsal, {**file, "stops": stops})
        as_told = Path(folder) / "walked-as-recorded"
        went, parcel, found = _walked(rebuilt.rehearsal, as_told)
        recorded = _alike(wrong, found) - again
    had = again | recorded
    if parcel is not None:
        _expect_what_came(rebuilt.rehearsal, parcel)
    return FieldRehearsed(
        rebuilt.rehearsal,
        tuple(wrong[one] for one in wrong if one in again),
        tuple(wrong[one] for one in wrong if one in recorded),
        tuple(wrong[one] for one in wrong if one not in had),
        tuple(one for one in found.values() if one.state != "done" and one.known_by not in had),
        rebuilt.lacking,
        went,
    )


def _expect_what_came(path: Path, parcel: Parcel) -> None:
    """Have a rehearsal expect what came of it: from now on it tells whether that changes."""
    meant = {item.id for item in parcel.plan.items if item.recipe == parcel.plan.recipes[0].id}
    expect = {
        item_name(item.id): {"state": item.state, "checks": dict(_differing(item))}
        for item in make_report(parcel).items
        if item.id in meant
    }
    if expect:
        write_rehearsal(path, {**read_rehearsal(path), "expect": expect})


def _differing(item: ItemReport) -> Iterator[tuple[str, Mapping[str, object]]]:
    """Give each check of an item that did not hold, as a rehearsal expects it."""
    for check in item.checks:
        if check.verdict != "holds":
            value = check.new.value if check.new is not None else None
            known = isinstance(value, int | str)
            yield check.name, {"differs": value} if known else {"unknown": ""}


def _alike(wrong: Mapping[str, StepTold], found: Mapping[str, StepTold]) -> set[str]:
    """Return by what those steps are known that came out in the way that they did in the field."""
    return {
        one.known_by
        for one in found.values()
        if one.known_by in wrong and one.is_like(wrong[one.known_by])
    }


def _walked(path: Path, keep: Path) -> tuple[Rehearsed, Parcel | None, Mapping[str, StepTold]]:
    """Rehearse, and return what came of it, its parcel, and how each step came out."""
    [rehearsal] = load_rehearsals(path)
    went = rehearse(rehearsal, datetime.now(UTC), keep=keep)
    if not (parcel := keep / "here" / PARCEL).exists():
        return went, None, {}
    opened = Parcel(parcel, Effects())
    entries = [generation.body.plain() for generation in opened.generations]
    return went, opened, steps_of(opened.plan.model_dump(mode="json"), entries, ())
