"""The report as a value: what a parcel's plan and logbook say about the move."""

from __future__ import annotations

from dataclasses import asdict, replace

from widetrail.formats.quantities import show_count, show_files, show_size, show_time
from widetrail.lazily import dataclass
from widetrail.steps import Noted


@dataclass(frozen=True)
class CheckLine:
    """One check: what was read on both sides; ``None`` where nothing was noted."""

    name: str
    old: Noted | None
    new: Noted | None
    verdict: str
    is_empty: bool = False
    """Whether it holds of nothing: there is none on either side."""

    @property
    def words(self) -> str:
        """How it came out, as people are told it."""
        return "none on either computer" if self.is_empty else self.verdict

    def as_json(self) -> dict[str, object]:
        """Return the check as plain JSON values: an answer is its value, ``{"unknown": reason}``
        or ``{"by": …}``."""
        old, new = (one.plain() if one is not None else None for one in (self.old, self.new))
        told = {"name": self.name, "old": old, "new": new}
        return {**told, "verdict": self.verdict, "is_empty": self.is_empty}


@dataclass(frozen=True)
class LossLine:
    """Something that is not carried, with its remedy.

    ``proof`` is ``none`` where nothing shows that it was made good, ``open`` until it was, with
    what must come to be (``lacking``), and ``seen`` then.
    """

    what: str
    remedy: str
    proof: str = "none"
    lacking: str = ""


@dataclass(frozen=True)
class Task:
    """Something that a person has to do, or did where it ``is_done``; ``program`` is the name of
    the program that it concerns, empty where it concerns the whole move."""

    program: str
    words: str
    is_done: bool = False


@dataclass(frozen=True)
class StepLine:
    """A step that came out wrong (``failed``) or waits (``waits``), why, and what to do."""

    id: str
    state: str
    reason: str
    todo: str


@dataclass(frozen=True)
class ItemReport:
    """What became of one item of ``program``; ``state`` is carried, nothing (its steps were done,
    and there was nothing to carry), failed, waiting, packed, planned or undone, of a licence also
    returned or given up.

    ``beside`` came beside what was there already, ``passed_by`` was not put in place, ``rewritten``
    paths in it were made right for new, ``values`` are the named values that it holds.
    """

    id: str
    program: str
    title: str
    route: str
    state: str
    old_path: str
    new_path: str
    files: int
    size: int
    verified: int
    backed_up: tuple[str, ...]
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
    def outcome(self) -> str:
        """Its state, as people are told it."""
        return _OUTCOMES.get(self.state, self.state)

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


_OUTCOMES = {
    "carried": "transferred",
    "nothing": "nothing to transfer",
    "planned": "not started",
    "undone": "rolled back",
}
"""What people are told of a state where its code is not a word for them."""


@dataclass(frozen=True)
class LeftReport:
    """An item that stayed behind: why, and what to do about it.

    ``there`` tells that it did not need to go, since both machines see the same folder, or there
    was nothing of what is optional.
    """

    id: str
    program: str
    title: str
    there: bool
    reasons: tuple[str, ...]
    losses: tuple[LossLine, ...]
    todo: str


@dataclass(frozen=True)
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
            lines.append(f"topped up at {show_time(self.topped_up)}")
        return tuple(lines)


@dataclass(frozen=True)
class Report:
    """The whole move, as far as it went."""

    run: str
    plan: str
    old: str
    new: str
    programs: tuple[str, ...]
    """The names of the programs that something was to be transferred of."""
    legs: tuple[LegReport, ...]
    items: tuple[ItemReport, ...]
    left: tuple[LeftReport, ...]
    next_machine: str
    next_as: str
    notices: tuple[str, ...]
    last: tuple[Task, ...]
    """What is to be done when all else is."""
    undone: tuple[str, ...] = ()
    """The machines where the move was undone."""

    @property
    def well(self) -> bool:
        """Whether nothing that was done so far came out wrong."""
        return all(item.state != "failed" for item in self.items)

    @property
    def is_complete(self) -> bool:
        """Whether every leg was walked, and all that was planned is transferred."""
        done = all(item.state in ("carried", "nothing") for item in self.items)
        return done and not self.next_machine and not self.undone

    @property
    def headline(self) -> str:
        """How the move stands, in a few sentences that say no more than what is listed."""
        if self.undone:
            return f"The move was rolled back on {' and '.join(self.undone)}."
        if self.next_machine:
            return f"In progress: the next computer is {self.next_machine}."
        if not self.well:
            return "At least one step failed; see below."
        carried = [item for item in self.items if item.state == "carried"]
        empty = [item.title for item in self.items if item.state == "nothing"]
        if not self.is_complete:
            return "Not everything is done yet; see below."
        unseen = [item.title for item in carried if not item.is_seen]
        behind = [item.title for item in self.left if not item.there]
        total = len(carried) + len(behind)
        told = []
        if total:
            done = "Transferred" if unseen or not carried else "Transferred and checked"
            told.append(f"{done}: {len(carried)} of {show_count(total, 'item')}.")
        for words, titles in (
            ("Not transferred", behind),
            ("Nothing to transfer", empty),
            ("Not checked, so look at it yourself", unseen),
        ):
            told += [f"{words}: {', '.join(titles)}."] if titles else []
        if self.tasks:
            told.append(f"Left for you: {show_count(len(self.tasks), 'task')}.")
        return " ".join(told) or "There was nothing to transfer."

    @property
    def tasks(self) -> tuple[Task, ...]:
        """What a person still has to do, in order."""
        seats = [Task(i.program, f"{i.title}: {i.seat_todo}") for i in self.items if i.seat_todo]
        if self.undone:
            return tuple(seats)
        steps = [
            Task(item.program, f"{item.title}: {step.todo}")
            for item in self.items
            for step in item.steps
        ]
        if self.next_machine:
            there = f"walk there (walk{self.next_as})" if self.next_as else "walk there"
            go = Task("", f"Take the parcel to {self.next_machine} and {there}.")
            return (*steps, go)
        losses = [self._task(i, loss) for i, loss in self._losses() if loss.proof != "seen"]
        behind = [Task(i.program, f"{i.title}: {i.todo}") for i in self.left if i.todo]
        return tuple(dict.fromkeys([*steps, *seats, *losses, *behind, *self.last]))

    @property
    def ticked(self) -> tuple[Task, ...]:
        """What a person had to do and is known to be done."""
        done = (self._task(item, loss) for item, loss in self._losses() if loss.proof == "seen")
        return tuple(replace(task, is_done=True) for task in done)

    @property
    def tasks_by_program(self) -> tuple[tuple[str, tuple[Task, ...]], ...]:
        """All tasks of each program, those that are left first; those of the whole move last."""
        every = (*self.tasks, *self.ticked)
        names = sorted(dict.fromkeys(task.program for task in every), key=lambda name: not name)
        return tuple((name, tuple(t for t in every if t.program == name)) for name in names)

    def _losses(self) -> list[tuple[ItemReport | LeftReport, LossLine]]:
        routeless = [item for item in self.left if not item.reasons]
        parts: tuple[ItemReport | LeftReport, ...] = (*self.items, *routeless)
        return [(item, loss) for item in parts for loss in item.losses]

    def _task(self, item: ItemReport | LeftReport, loss: LossLine) -> Task:
        """Return what to do for a loss; the item is named where others lose the same."""
        same = sum(other.what == loss.what for _, other in self._losses())
        named = f" ({item.title})" if same > 1 else ""
        lacking = f" (known to be done when {loss.lacking})" if loss.lacking else ""
        return Task(item.program, f"{loss.what}{named}: {loss.remedy}{lacking}")

    def as_json(self) -> dict[str, object]:
        """Return the report as plain JSON values."""
        more: dict[str, object] = {
            "well": self.well,
            "tasks": [asdict(task) for task in self.tasks],
            "ticked": [asdict(task) for task in self.ticked],
        }
        items = [
            {**asdict(replace(item, checks=())), "checks": [c.as_json() for c in item.checks]}
            for item in self.items
        ]
        return {
            **asdict(replace(self, items=())),
            "items": items,
            **more,
            "headline": self.headline,
        }
