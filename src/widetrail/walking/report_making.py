"""The report of a move, made from what a parcel holds."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from typing import cast

from widetrail.licence.seat_events import Seat
from widetrail.parcel import Parcel
from widetrail.parcel.events import TOPPED_UP
from widetrail.planning import LeftItem, PlannedItem, PlannedLeg
from widetrail.recipe import Loss, Station
from widetrail.recipe.templates import plain
from widetrail.steps import Done, Facts, Failed, Noted, Outcome, Step, Waits, act_of, state_of
from widetrail.steps.check import Checked, CheckFacts
from widetrail.steps.enter import EnterFacts
from widetrail.steps.outcomes import RemarkCode
from widetrail.steps.pack import PackFacts
from widetrail.steps.publish_step import PublishFacts
from widetrail.steps.records_step import RecordsFacts
from widetrail.walking.report import (
    CheckLine,
    ItemReport,
    LeftReport,
    LegReport,
    LossLine,
    Report,
    StepLine,
    Task,
)
from widetrail.walking.seat_replanning import seat_line


def make_report(parcel: Parcel) -> Report:
    """Return what ``parcel`` tells of the move; nothing is read but the parcel."""
    plan = parcel.plan
    done = parcel.legs_done
    times = [generation.body.time for generation in done]
    undone = tuple(parcel.undone_at.values())
    legs = tuple(
        _leg(parcel, leg, times[number] if number < len(done) else "")
        for number, leg in enumerate(plan.legs)
    )
    names = {recipe.id: recipe.name for recipe in plan.recipes}
    items = tuple(_item(item, names, parcel) for item in plan.items)
    left = tuple(_left(item, names) for item in plan.left)
    concerned = {one.program for one in items} | {one.program for one in left}
    due = next((leg for leg in legs if not leg.time and not undone), None)
    return Report(
        run=parcel.run,
        plan=plan.id,
        old=plan.station("old").machine,
        new=plan.station("new").machine,
        programs=tuple(name for name in names.values() if name in concerned),
        legs=legs,
        items=items,
        left=left,
        next_machine=due.machine if due is not None else "",
        next_as=plan.said_as(cast(Station, due.station)) if due is not None else "",
        notices=(*plan.notices, *_damage(parcel)),
        last=tuple(Task(names[item.recipe], task) for item in plan.items for task in item.tasks),
        undone=undone,
    )


def _damage(parcel: Parcel) -> Iterator[str]:
    for generation in parcel.results:
        for name in generation.body.damaged:
            yield (
                f"{name} of the parcel was missing or damaged on {generation.body.machine}; "
                "the data was intact, and the file was restored"
            )


def _leg(parcel: Parcel, leg: PlannedLeg, time: str) -> LegReport:
    """Return what the logbook tells of a leg, over all walks that it took."""
    mine = [g for g in parcel.results if g.body.leg == leg.number]

    def read(told: Iterable[tuple[int, int] | None]) -> tuple[int, int]:
        known = [one for one in told if one is not None]
        return sum(files for files, _ in known), sum(size for _, size in known)

    facts = (outcome.facts for outcome in parcel.outcomes_of(leg.number).values())
    verified = sum(told.verified for told in facts if isinstance(told, PublishFacts))
    topped = [g.body.time for g in mine if g.event == TOPPED_UP]
    machine = parcel.plan.station(leg.station).machine
    return LegReport(
        leg.number,
        leg.station,
        machine,
        time,
        read(g.body.on_arrival for g in mine),
        read(g.body.read_back for g in mine),
        verified,
        topped[-1] if topped else "",
    )


def _left(item: LeftItem, names: Mapping[str, str]) -> LeftReport:
    reasons = tuple(f"rejected: {p.route} – {p.reason}" for p in item.rejected)
    if item.there:
        reasons = (f"it is there already: both computers use {item.there}",)
    if item.nothing:
        reasons = (item.nothing,)
    losses = tuple(LossLine(loss.what, loss.remedy) for loss in item.losses)
    no_matter = bool(item.there or item.nothing)
    program = names[item.id.partition(".")[0]]
    return LeftReport(item.id, program, item.title, no_matter, reasons, losses, item.todo)


def _item(item: PlannedItem, names: Mapping[str, str], parcel: Parcel) -> ItemReport:
    mine = [s for s in parcel.plan.steps if s.item == item.id]
    line = seat_line(parcel, item.id) if item.kind == "licence" else None
    seat = line.seat if line is not None else None
    told = parcel.outcomes  # gathered from the whole logbook each time, so once
    outcomes = {s.id: told[s.id] for s in mine if s.id in told}
    tries = parcel.tries if seat is not None else outcomes  # what was refused may be asked again
    facts = [outcome.facts for outcome in outcomes.values()]
    published = [told for told in facts if isinstance(told, PublishFacts)]
    entered = [told for told in facts if isinstance(told, EnterFacts)]
    done = [outcome.facts for outcome in outcomes.values() if outcome.well]
    packed = [told for told in done if isinstance(told, PackFacts)]
    compared = [told.checks for told in facts if isinstance(told, CheckFacts)]
    placed = (outcomes[s.id].facts for s in mine if s.id in outcomes and _comes_to_its_place(s))
    to = [told.to for told in placed if isinstance(told, PublishFacts) and told.to]
    to += [told.to for told in done if isinstance(told, RecordsFacts)] or [
        plain(step.merges_into) for step in mine if step.merges_into
    ]
    return ItemReport(
        id=item.id,
        program=names[item.recipe],
        title=item.title,
        route=item.route,
        state=_seat_state(seat, _state(item, mine, outcomes, parcel)),
        old_path=item.old_path,
        new_path=to[0] if len(to) == 1 else item.new_path,
        files=packed[-1].files if packed else item.files,
        size=packed[-1].size if packed else item.size,
        verified=max((told.verified for told in published), default=0),
        backed_up=tuple(path for told in facts for path in told.backed_up),
        beside=tuple(path for told in published for path in told.beside),
        passed_by=tuple(path for told in published for path in told.passed_by),
        checks=(
            *(_check(name, checked) for some in compared for name, checked in some.items()),
            *(_arrived(told) for told in done if isinstance(told, RecordsFacts)),
        ),
        losses=tuple(_loss(loss, parcel.proofs.get(item.id, {})) for loss in item.losses),
        steps=tuple(_bad({s.id: tries[s.id] for s in mine if s.id in tries})),
        notes=tuple(_notes(item, facts)),
        values=max((*(told.values for told in packed), *(told.values for told in entered), 0)),
        rewritten=sum(told.paths_rewritten for told in published)
        + sum(told.paths_rewritten for told in entered),
        seat=line.words if line is not None else "",
        seat_todo=f"{line.todo} {line.meanwhile}".strip() if line is not None else "",
    )


def _comes_to_its_place(step: Step) -> bool:
    return act_of(step).places and not step.puts_elsewhere


def _check(name: str, checked: Checked) -> CheckLine:
    holds = checked.verdict == "holds"
    empty = holds and _is_nothing(checked.old) and _is_nothing(checked.new)
    return CheckLine(name, checked.old, checked.new, checked.verdict, empty)


_NOTES: Mapping[RemarkCode, str] = {
    "elsewhere": "still refers to what was not transferred:",
    "unsayable": "refers to a path that the new computer cannot have:",
    "not_rewritten": "paths not rewritten in",
    "rewritten_whole": "paths rewritten, with the whole file rewritten:",
    "mention": "still mentions the old computer:",
    "not_searched": "not scanned for paths of the old computer:",
    "appeared": "appeared while the item was copied, and was backed up too:",
    "irregular": "skipped, since it is not a regular file:",
    "open_to_others": "other accounts can read it, which they could not on the old computer:",
    "unreadable": "skipped, since it cannot be read:",
    "dangling": "refers to a file that does not exist:",
    "attributes_lost": "its extended attributes were lost, since that disk has none:",
}
"""What a person should know of a step, by its code, in words."""


def _notes(item: PlannedItem, facts: list[Facts]) -> Iterator[str]:
    """Give what a person should know, but for what the plan tells as a loss already."""
    yield from (words for fact in facts if isinstance(fact, RecordsFacts) for words in _came(fact))
    losses = " ".join(loss.what for loss in item.losses)
    told = [remark for fact in facts for remark in fact.remarks]
    for code, words in _NOTES.items():
        for one in (one for one in told if one.code == code):
            if one.reason or one.path not in losses:
                yield f"{words} {one.path}{f' ({one.reason})' if one.reason else ''}"


def _arrived(facts: RecordsFacts) -> CheckLine:
    """Return that records were found again in the store that they were to come to."""
    count = Noted(value=facts.added + facts.changed + facts.same + facts.left)
    return CheckLine("records", count, count, "holds", is_empty=not count.value)


def _came(facts: RecordsFacts) -> Iterator[str]:
    """Give what came of records that were merged."""
    count = {
        "already there": facts.held,
        "added": facts.added,
        "merged or replaced": facts.changed,
        "identical": facts.same,
        "skipped, since another of the same identity is there": facts.left,
        "excluded": facts.unwanted,
    }
    told = ", ".join(f"{number} {words}" for words, number in count.items() if number)
    yield f"records in {facts.to}: {told or 'none'}"
    if facts.left_names:
        yield f"skipped: {', '.join(facts.left_names[:SHOWN])}"
    for what, number in sorted(facts.lost.items()):
        yield f"not transferred of {number} records: {what}"


SHOWN = 20
"""Records that are told by name in a report."""


def _loss(loss: Loss, proofs: Mapping[str, str]) -> LossLine:
    if loss.what not in proofs:
        return LossLine(loss.what, loss.remedy)
    lacking = proofs[loss.what]
    return LossLine(loss.what, loss.remedy, "open" if lacking else "seen", lacking)


def _bad(outcomes: Mapping[str, Outcome]) -> Iterator[StepLine]:
    for step, outcome in outcomes.items():
        if not isinstance(outcome, Done):
            yield StepLine(step, state_of(outcome), outcome.reason, outcome.todo)


def _is_nothing(noted: Noted | None) -> bool:
    """Return whether a noted answer says that there is none: zero, no, or nothing at all."""
    if noted is None:
        return True
    if noted.by is not None:
        return all(_is_nothing(value) for value in noted.by.values())
    return noted.is_known and (not noted.value or noted.value == "no")


def _carried_nothing(item: PlannedItem, mine: list[Step], outcomes: Mapping[str, Outcome]) -> bool:
    """Return whether all that an item's steps moved was no file and no value."""
    movers = [outcomes[s.id].facts for s in mine if act_of(s).moves_data and s.id in outcomes]
    return item.kind != "licence" and bool(movers) and all(told.is_nothing for told in movers)


def _state(
    item: PlannedItem, mine: list[Step], outcomes: Mapping[str, Outcome], parcel: Parcel
) -> str:
    if any(s.station in parcel.undone_at and s.id in outcomes for s in mine):
        return "undone"
    moving = [s for s in mine if not act_of(s).comes_last]
    told = [outcomes[s.id] for s in moving if s.id in outcomes]
    if any(isinstance(outcome, Failed) for outcome in told):
        return "failed"
    if any(isinstance(outcome, Waits) for outcome in told):
        return "waiting"
    if all(s.id in outcomes and outcomes[s.id].well for s in moving):
        return "nothing" if _carried_nothing(item, moving, outcomes) else "carried"
    done = parcel.plan.legs[: len(parcel.legs_done)]
    if any(s.id in leg.steps and s.id not in outcomes for leg in done for s in moving):
        return "failed"  # it depends on a step of another item that came out wrong
    packed = [s for s in moving if act_of(s).packs or s.writes]
    return "packed" if any(s.id in outcomes for s in packed) else "planned"


def _seat_state(seat: Seat | None, state: str) -> str:
    """Return how the move of a seat ended, where it did in a way of its own; ``state`` is what its
    steps tell."""
    if seat is None:
        return state
    if seat.given_up:
        return "given up"
    if seat.act is None and seat.stage == "returned":
        return "returned"
    return "waiting" if state == "carried" and seat.stage != "claimed" else state
