"""The report as a value: what a parcel's plan and logbook say about the move."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import asdict, dataclass
from typing import Any, cast

from widetrail.formats.quantities import show_count, show_files, show_size, show_time
from widetrail.licence.seat_events import Seat
from widetrail.parcel import Parcel
from widetrail.parcel.parcel import TOPPED_UP
from widetrail.planning import LeftItem, PlannedItem, PlannedLeg
from widetrail.recipe import Loss, Station
from widetrail.steps import Facts, Failed, Noted, Outcome, Step, Waits, act_of
from widetrail.steps.check import Checked, CheckFacts
from widetrail.steps.enter import EnterFacts
from widetrail.steps.outcomes import Done, RemarkCode, state_of
from widetrail.steps.pack import PackFacts
from widetrail.steps.publish import PublishFacts, PublishStep
from widetrail.walking.seat_replanning import seat_line


@dataclass(frozen=True, slots=True)
class CheckLine:
    """One check: what was read on both sides, as plain values or ``{"unknown": reason}``."""

    name: str
    old: Any
    new: Any
    verdict: str
    is_empty: bool = False
    """Whether it holds of nothing: there is none on either side."""

    @property
    def words(self) -> str:
        """How it came out, as people are told it."""
        return "there is none on either side" if self.is_empty else self.verdict


@dataclass(frozen=True, slots=True)
class LossLine:
    """Something that is not carried, with its remedy.

    ``proof`` is ``none`` where nothing shows that it was made good, ``open`` until it was, with
    what must come to be (``lacking``), and ``seen`` then.
    """

    what: str
    remedy: str
    proof: str = "none"
    lacking: str = ""


@dataclass(frozen=True, slots=True)
class StepLine:
    """A step that came out wrong (``failed``) or waits (``waits``), why, and what to do."""

    id: str
    state: str
    reason: str
    todo: str


@dataclass(frozen=True, slots=True)
class ItemReport:
    """What became of one item; ``state`` is carried, nothing (its steps were done, and there was
    nothing to carry), failed, waiting, packed, planned or undone, of a licence also returned or
    given up.

    ``beside`` came beside what was there already, ``passed_by`` was not put in place, ``rewritten``
    paths in it were made right for new, ``values`` are the named values that it holds.
    """

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
    beside: tuple[str, ...]
    passed_by: tuple[str, ...]
    checks: tuple[CheckLine, ...]
    losses: tuple[LossLine, ...]
    steps: tuple[StepLine, ...]
    notes: tuple[str, ...] = ()
    rewritten: int = 0
    values: int = 0
    seat: str = ""
    """What is known of the seat, where the item is a licence."""

    seat_todo: str = ""
    """What is to be done with the seat, with who has the licence until then."""

    @property
    def is_seen(self) -> bool:
        """Whether something shows that it arrived: files that were read again on new, a check that
        held of something, or what the program says of its seat."""
        held = any(c.verdict == "holds" and not c.is_empty for c in self.checks)
        return bool(self.seat or self.verified or self.values or held)

    @property
    def amount(self) -> str:
        """How much it is: its values, where it holds named ones, else its files; the seat of a
        licence."""
        if self.seat:
            return self.seat
        return show_count(self.values, "value") if self.values else show_files(self.files)


@dataclass(frozen=True, slots=True)
class LeftReport:
    """An item that stayed behind: why, and what to do about it.

    ``there`` tells that it did not need to go, since both machines see the same folder, or there
    was nothing of what is optional.
    """

    id: str
    title: str
    there: bool
    reasons: tuple[str, ...]
    losses: tuple[LossLine, ...]
    todo: str


@dataclass(frozen=True, slots=True)
class LegReport:
    """One leg: where it is walked, and when it was, if it was, and what was verified there.

    ``on_arrival`` are the files of the parcel that were read before the leg began and their bytes,
    ``read_back`` those that the leg wrote to the medium and read from it again, ``verified`` the
    files that were read again on the machine's own disk. ``topped_up`` is when that was done last.
    """

    number: int
    station: str
    machine: str
    time: str
    on_arrival: tuple[int, int] = (0, 0)
    read_back: tuple[int, int] = (0, 0)
    verified: int = 0
    topped_up: str = ""

    @property
    def words(self) -> tuple[str, ...]:
        """What was verified where, a line each."""
        lines = []
        for what, (files, size) in (
            ("read from the parcel on arrival", self.on_arrival),
            ("read back from the medium", self.read_back),
        ):
            if files:
                lines.append(f"{show_files(files)} ({show_size(size)}) {what}")
        if self.verified:
            lines.append(f"{show_files(self.verified)} read again on its disk")
        if self.topped_up:
            lines.append(f"topped up {show_time(self.topped_up)}")
        return tuple(lines)


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
    next_as: str
    notices: tuple[str, ...]
    last: tuple[str, ...]
    undone: tuple[str, ...] = ()
    """The machines where the move was undone."""

    @property
    def well(self) -> bool:
        """Whether nothing that was done so far came out wrong."""
        return all(item.state != "failed" for item in self.items)

    @property
    def arrived(self) -> bool:
        """Whether every item that was planned was carried."""
        return all(item.state == "carried" for item in self.items)

    @property
    def headline(self) -> str:
        """How the move stands, in a sentence or two that say no more than what is listed."""
        if self.undone:
            return f"The move was undone on {' and '.join(self.undone)}."
        if self.next_machine:
            return f"On the way; next is {self.next_machine}."
        if not self.well:
            return "Something came out wrong; see below."
        carried = [item for item in self.items if item.state == "carried"]
        empty = [item.title for item in self.items if item.state == "nothing"]
        unseen = [item.title for item in carried if not item.is_seen]
        behind = [item.title for item in self.left if not item.there]
        if len(carried) + len(empty) < len(self.items):
            return "Not everything is done yet; see below."
        told = []
        if carried:
            whole = not (empty or unseen or behind)
            told.append(
                "Everything listed was carried and checked."
                if whole
                else f"{len(carried)} of {show_count(len(self.items), 'item')} "
                f"{'was' if len(carried) == 1 else 'were'} carried."
            )
        for words, titles in (
            ("There was nothing to carry of", empty),
            ("Nothing shows that these arrived, so look yourself:", unseen),
            ("Stayed behind:", behind),
        ):
            told += [f"{words} {', '.join(titles)}."] if titles else []
        return " ".join(told) or "Nothing was to be carried."

    @property
    def tasks(self) -> tuple[str, ...]:
        """What a person still has to do, in order; what is seen to be done is not in it."""
        seats = [f"{item.title}: {item.seat_todo}" for item in self.items if item.seat_todo]
        if self.undone:
            return tuple(seats)
        steps = [f"{item.title}: {step.todo}" for item in self.items for step in item.steps]
        if self.next_machine:
            there = f"walk there (walk{self.next_as})" if self.next_as else "walk there"
            return (*steps, f"Carry the parcel to {self.next_machine} and {there}.")
        steps += seats
        tasks = [self._task(item, loss) for item, loss in self._losses() if loss.proof != "seen"]
        tasks += [f"{item.title}: {item.todo}" for item in self.left if item.todo]
        return tuple(dict.fromkeys([*steps, *tasks, *self.last]))

    @property
    def ticked(self) -> tuple[str, ...]:
        """What a person had to do and is seen to be done."""
        return tuple(
            self._task(item, loss) for item, loss in self._losses() if loss.proof == "seen"
        )

    def _losses(self) -> list[tuple[ItemReport | LeftReport, LossLine]]:
        routeless = [item for item in self.left if not item.reasons]
        parts: tuple[ItemReport | LeftReport, ...] = (*self.items, *routeless)
        return [(item, loss) for item in parts for loss in item.losses]

    def _task(self, item: ItemReport | LeftReport, loss: LossLine) -> str:
        """Return what to do for a loss; the item is named where others lose the same."""
        same = sum(other.what == loss.what for _, other in self._losses())
        named = f" ({item.title})" if same > 1 else ""
        lacking = f" (seen to be done once {loss.lacking})" if loss.lacking else ""
        return f"For {loss.what}{named}: {loss.remedy}{lacking}"

    def as_json(self) -> dict[str, Any]:
        """Return the report as plain JSON values."""
        more = {"well": self.well, "tasks": list(self.tasks), "ticked": list(self.ticked)}
        return {**asdict(self), "headline": self.headline, **more}


def make_report(parcel: Parcel) -> Report:
    """Return what ``parcel`` tells of the move; nothing is read but the parcel."""
    plan = parcel.plan
    done = parcel.legs_done
    times = [str(generation.body["time"]) for generation in done]
    undone = tuple(parcel.undone_at.values())
    legs = tuple(
        _leg(parcel, leg, times[number] if number < len(done) else "")
        for number, leg in enumerate(plan.legs)
    )
    due = next((leg for leg in legs if not leg.time and not undone), None)
    return Report(
        run=parcel.run,
        plan=plan.id,
        old=plan.station("old").machine,
        new=plan.station("new").machine,
        applications=tuple(r.name for r in plan.recipes),
        legs=legs,
        items=tuple(_item(item, parcel) for item in plan.items),
        left=tuple(_left(item) for item in plan.left),
        next_machine=due.machine if due is not None else "",
        next_as=plan.said_as(cast(Station, due.station)) if due is not None else "",
        notices=(*plan.notices, *_damage(parcel)),
        last=tuple(task for item in plan.items for task in item.tasks),
        undone=undone,
    )


def _damage(parcel: Parcel) -> Iterator[str]:
    for generation in parcel.results:
        for name in generation.body.get("damaged", ()):
            yield (
                f"{name} of the parcel was missing or damaged when it came to "
                f"{generation.body['machine']}; the cargo was whole, and it was written anew"
            )


def _leg(parcel: Parcel, leg: PlannedLeg, time: str) -> LegReport:
    """Return what the logbook tells of a leg, over all walks that it took."""
    mine = [g for g in parcel.results if g.body.get("leg") == leg.number]

    def read(name: str) -> tuple[int, int]:
        told = [g.body[name] for g in mine if g.body.get(name)]
        return sum(files for files, _ in told), sum(size for _, size in told)

    facts = (outcome.facts for outcome in parcel.outcomes_of(leg.number).values())
    verified = sum(told.verified for told in facts if isinstance(told, PublishFacts))
    topped = [str(g.body["time"]) for g in mine if g.event == TOPPED_UP]
    machine = parcel.plan.station(leg.station).machine
    return LegReport(
        leg.number,
        leg.station,
        machine,
        time,
        read("on arrival"),
        read("read back"),
        verified,
        topped[-1] if topped else "",
    )


def _left(item: LeftItem) -> LeftReport:
    reasons = tuple(f"not by {p.route}, since {p.reason}" for p in item.passed_over)
    if item.there:
        reasons = (f"it is there already: both machines see {item.there}",)
    if item.nothing:
        reasons = (item.nothing,)
    losses = tuple(LossLine(loss.what, loss.remedy) for loss in item.losses)
    no_matter = bool(item.there or item.nothing)
    return LeftReport(item.id, item.title, no_matter, reasons, losses, item.todo)


def _item(item: PlannedItem, parcel: Parcel) -> ItemReport:
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
    return ItemReport(
        id=item.id,
        title=item.title,
        route=item.route,
        state=_seat_state(seat, _state(item, mine, outcomes, parcel)),
        old_path=item.old_path,
        new_path=to[0] if len(to) == 1 else item.new_path,
        files=packed[-1].files if packed else item.files,
        size=packed[-1].size if packed else item.size,
        verified=max((told.verified for told in published), default=0),
        put_aside=tuple(path for told in facts for path in told.put_aside),
        beside=tuple(path for told in published for path in told.beside),
        passed_by=tuple(path for told in published for path in told.passed_by),
        checks=tuple(_check(name, checked) for some in compared for name, checked in some.items()),
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
    return isinstance(step, PublishStep) and not step.elsewhere


def _check(name: str, checked: Checked) -> CheckLine:
    holds = checked.verdict == "holds"
    empty = holds and _is_nothing(checked.old) and _is_nothing(checked.new)
    return CheckLine(name, _plain(checked.old), _plain(checked.new), checked.verdict, empty)


_NOTES: Mapping[RemarkCode, str] = {
    "elsewhere": "it names what did not move, and still does:",
    "unsayable": "it names what cannot be said on new:",
    "not_rewritten": "its paths are as they were:",
    "rewritten_whole": "the paths in it were made right, and the whole file written anew:",
    "mention": "old is mentioned in",
    "not_searched": "not looked through for mentions of old:",
    "appeared": "it appeared while the item was put in place, and was put aside too:",
    "irregular": "left out, since it is no regular file:",
    "open_to_others": "others may read what is there, who could not on old:",
    "unreadable": "left out, since it cannot be read:",
    "dangling": "it names what is not there:",
    "attributes_lost": "it lost its extended attributes, which that disk does not have:",
}
"""What a person should know of a step, by its code, in words."""


def _notes(item: PlannedItem, facts: list[Facts]) -> Iterator[str]:
    """Give what a person should know, but for what the plan tells as a loss already."""
    losses = " ".join(loss.what for loss in item.losses)
    told = [remark for fact in facts for remark in fact.remarks]
    for code, words in _NOTES.items():
        for one in (one for one in told if one.code == code):
            if one.reason or one.path not in losses:
                yield f"{words} {one.path}{f' ({one.reason})' if one.reason else ''}"


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


def _plain(noted: Noted | None) -> Any:
    """Return an answer as a report tells it: its value, or else what is known of it."""
    if noted is None:
        return None
    return noted.value if noted.is_known else noted.model_dump(mode="json", exclude_unset=True)
