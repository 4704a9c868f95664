"""What every part of a walk knows: the plan, the parcel, the journal, and what was done here."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import field
from datetime import datetime

from widetrail.finding import (
    Finder,
)
from widetrail.formats.masking import Masker
from widetrail.lazily import dataclass
from widetrail.machine import Machine
from widetrail.machine.paths import join
from widetrail.parcel import Parcel
from widetrail.parcel.cargo import CargoWriter
from widetrail.parcel.cargo_reader import CargoReader
from widetrail.planning import Plan
from widetrail.recipe import Station
from widetrail.steps import (
    Facts,
    Hands,
    Noted,
    Onlooker,
    Outcome,
    Step,
    read_outcome,
)
from widetrail.steps.contexts import R, T
from widetrail.steps.journal_events import Record, StepEnded
from widetrail.steps.note import NoteFacts
from widetrail.steps.outcomes import WrittenOutcome
from widetrail.walking.answers import Answers
from widetrail.walking.journal import RunJournal
from widetrail.walking.scan import Scan
from widetrail.walking.waiting import Patience, Silent


@dataclass(frozen=True)
class Company:
    """Who is there while a leg is walked: hands that help, eyes that watch, and time.

    ``instead`` gives how a step comes out that is not done, which a rehearsal tells.
    """

    hands: Hands = field(default_factory=Answers)
    onlooker: Onlooker = field(default_factory=Silent)
    patience: Patience = field(default_factory=Patience)
    instead: Callable[[Step], Outcome | None] = lambda step: None


@dataclass(frozen=True)
class Site:
    """Where a walk is: the machine and which station that is, the run's journal and own folder."""

    machine: Machine
    station: Station
    journal: RunJournal
    workroom: str


class WalkContext:
    """What every part of a walk knows: plan, parcel, journal, and what was done here so far."""

    def __init__(
        self,
        parcel: Parcel,
        site: Site,
        finders: Mapping[str, Finder],
        company: Company,
        now: datetime,
    ) -> None:
        self.machine, self.workroom, self.now = site.machine, site.workroom, now
        self.onlooker, self.masker = company.onlooker, Masker()
        self.parcel, self.journal, self.station = parcel, site.journal, site.station
        self.finders, self._company = finders, company
        self.writer: CargoWriter | None = None
        self._reader: CargoReader | None = None
        self.made: dict[str, str] = {}
        self._made_for: dict[str, str] = {}
        self._secrets: dict[tuple[str, str], str] = {}
        self._hidden: set[tuple[str, str]] = set()
        self._ends: dict[str, tuple[Step, tuple[str, ...]]] = {}
        self._fetched: set[str] = set()
        if parcel.seal is not None and parcel.seal.is_open:
            for (scope, name), value in parcel.secrets().items():
                self._hide(scope, name, value)
        self._lent: dict[str, tuple[tuple[int, ...], Finder]] = {}
        self.looked = 0
        """Changes whenever this computer is to be looked at again: somebody else had the time to
        change something."""
        self._done: dict[str, Outcome] = {}
        self._read = 0
        """How many records of the journal were looked through for what was done."""
        self.scan = Scan(site.machine, join(site.workroom, "scan"))

    def _hide(self, scope: str, name: str, value: str) -> None:
        """Keep a secret for this walk, which nothing that is shown or written holds."""
        self.masker.add(name, value)
        self._secrets[scope, name] = value
        self._hidden.add((scope, name))

    @property
    def plan(self) -> Plan:
        return self.parcel.plan

    def record(self, record: Record) -> None:
        masked = self.masker.mask_texts(record.plain())
        self.journal.add(type(record).model_validate(masked))

    def records(self, event: type[R]) -> tuple[R, ...]:
        return self.journal.all(event)

    def recorded(self, event: type[T], step: str) -> T | None:
        return self.journal.newest(event, step=step)

    def _done_here(self) -> dict[str, Outcome]:
        """Return the newest outcome of each step that was done on this machine."""
        records = self.journal.records
        for record in records[self._read :]:
            if isinstance(record, StepEnded):
                self._done[record.step] = read_outcome(record.outcome)
        self._read = len(records)
        return self._done

    def _facts_of(self, item: str) -> Iterator[Facts]:
        """Give the facts of every step of an item that was done, here or at stations before."""
        for step, outcome in {**self.parcel.outcomes, **self._done_here()}.items():
            if step.startswith(f"{item}/"):
                yield outcome.facts

    def noted(self, item: str) -> Mapping[str, Noted]:
        step = f"{item}/note"
        outcome = self._done_here().get(step) or self.parcel.outcomes.get(step)
        facts = outcome.facts if outcome is not None else None
        return facts.readings if isinstance(facts, NoteFacts) else {}

    def arrived(self, item: str) -> bool:
        return self._all_well(item, self.parcel.outcomes)

    def came_here(self, item: str) -> bool:
        """Return whether the item arrived, by what is in the parcel and what was done now."""
        return self._all_well(item, {**self.parcel.outcomes, **self._done_here()})

    def _all_well(self, item: str, outcomes: Mapping[str, Outcome]) -> bool:
        mine = [s for s in self.plan.steps if s.item == item and s.station == "new"]
        return bool(mine) and all(s.id in outcomes and outcomes[s.id].well for s in mine)

    def masked(self, text: str) -> str:
        return self.masker.mask(text)

    def masked_outcome(self, written: WrittenOutcome) -> WrittenOutcome:
        """Return an outcome as it is written down, without any secret; counts stay."""
        mask, whole = self.masker.mask, self.masker.mask_all
        facts = {n: v if isinstance(v, int) else whole(v) for n, v in written.facts.items()}
        words = {"reason": mask(written.reason), "todo": mask(written.todo)}
        return written.model_copy(update={**words, "facts": facts})

    def clock(self) -> float:
        return self._company.patience.clock()

    def await_(
        self, what: Callable[[], str], todo: str, seconds: float | None = None, grace: float = 0.0
    ) -> None:
        def told() -> str:
            self.looked += 1
            return self.masked(what())

        patience = self._company.patience
        patience.await_(told, todo, self.onlooker, seconds, grace)
