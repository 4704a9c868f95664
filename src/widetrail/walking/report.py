"""The report as a value: what a parcel's plan and logbook say about the move."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any

from widetrail.parcel import Parcel
from widetrail.planning import LeftItem, PlannedItem


@dataclass(frozen=True, slots=True)
class CheckLine:
    """One check: what was read on both sides, as plain values or ``{"unknown": reason}``."""

    name: str
    old: Any
    new: Any
    verdict: str


@dataclass(frozen=True, slots=True)
class ItemReport:
    """What became of one item; ``state`` is carried, failed, packed or planned."""

    id: str
    title: str
    route: str
    state: str
    old_path: str
    new_path: str
    files: int
    size: int
    verified: int
    put_aside: tuple[str, ...]
    checks: tuple[CheckLine, ...]
    losses: tuple[tuple[str, str], ...]


@dataclass(frozen=True, slots=True)
class LeftReport:
    """An item that stayed behind: why, and what to do about it."""

    id: str
    title: str
    reasons: tuple[str, ...]
    losses: tuple[tuple[str, str], ...]
    todo: str


@dataclass(frozen=True, slots=True)
class LegReport:
    """One leg: where it is walked, and when it was, if it was."""

    number: int
    station: str
    machine: str
    time: str


@dataclass(frozen=True, slots=True)
class Report:
    """The whole move, as far as it went."""

    run: str
    plan: str
    old: str
    new: str
    applications: tuple[str, ...]
    legs: tuple[LegReport, ...]
    items: tuple[ItemReport, ...]
    left: tuple[LeftReport, ...]
    next_machine: str
    notices: tuple[str, ...]
    last: tuple[str, ...]

    @property
    def well(self) -> bool:
        """Whether nothing that was done so far came out wrong."""
        return all(item.state != "failed" for item in self.items)

    @property
    def tasks(self) -> tuple[str, ...]:
        """What a person still has to do, in order."""
        if self.next_machine:
            return (f"Carry the parcel to {self.next_machine} and walk there.",)
        losses = [loss for item in self.items for loss in item.losses]
        losses += [loss for item in self.left for loss in item.losses]
        tasks = [f"For {what}: {remedy}" for what, remedy in losses]
        tasks += [f"{item.title}: {item.todo}" for item in self.left if item.todo]
        return tuple(dict.fromkeys([*tasks, *self.last]))

    def as_json(self) -> dict[str, Any]:
        """Return the report as plain JSON values."""
        return {**asdict(self), "well": self.well, "tasks": list(self.tasks)}


def make_report(parcel: Parcel) -> Report:
    """Return what ``parcel`` tells of the move; nothing is read but the parcel."""
    plan = parcel.plan
    done = parcel.legs_done
    steps: dict[str, Any] = {}
    for generation in done:
        steps |= generation.body["steps"]
    legs = tuple(
        LegReport(
            leg.number,
            leg.station,
            plan.station(leg.station).machine,
            str(done[number].body["time"]) if number < len(done) else "",
        )
        for number, leg in enumerate(plan.legs)
    )
    due = next((leg.machine for leg in legs if not leg.time), "")
    return Report(
        run=parcel.run,
        plan=plan.id,
        old=plan.station("old").machine,
        new=plan.station("new").machine,
        applications=tuple(r.name for r in plan.recipes),
        legs=legs,
        items=tuple(_item(item, steps, parcel) for item in plan.items),
        left=tuple(_left(item) for item in plan.left),
        next_machine=due,
        notices=plan.notices,
        last=tuple(task for item in plan.items for task in item.tasks),
    )


def _left(item: LeftItem) -> LeftReport:
    reasons = tuple(f"not by {p.route}, since {p.reason}" for p in item.passed_over)
    losses = tuple((loss.what, loss.remedy) for loss in item.losses)
    return LeftReport(item.id, item.title, reasons, losses, item.todo)


def _item(item: PlannedItem, steps: dict[str, Any], parcel: Parcel) -> ItemReport:
    mine = [s for s in parcel.plan.steps if s.item == item.id]
    outcomes = {s.kind: steps[s.id] for s in mine if s.id in steps}
    published = outcomes.get("publish", {}).get("facts", {})
    checks = outcomes.get("check", {}).get("facts", {})
    return ItemReport(
        id=item.id,
        title=item.title,
        route=item.route,
        state=_state(outcomes, {s.kind for s in mine}),
        old_path=item.old_path,
        new_path=item.new_path,
        files=item.files,
        size=item.size,
        verified=int(published.get("verified", 0)),
        put_aside=tuple(published.get("put aside", ())),
        checks=tuple(
            CheckLine(name, _plain(c["old"]), _plain(c["new"]), c["verdict"])
            for name, c in checks.items()
        ),
        losses=tuple((loss.what, loss.remedy) for loss in item.losses),
    )


def _state(outcomes: dict[str, Any], planned: set[str]) -> str:
    if any("failed" in outcome for outcome in outcomes.values()):
        return "failed"
    if planned <= set(outcomes):
        return "carried"
    return "packed" if "pack" in outcomes else "planned"


def _plain(answer: Any) -> Any:
    return answer["value"] if isinstance(answer, dict) and "value" in answer else answer
