"""A parcel that came to a machine: whether it is whole, and can be gone on with."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from contextlib import suppress
from datetime import datetime

from widetrail.errors import (
    Halted,
    ParcelUnusable,
    WideTrailError,
)
from widetrail.finding import Finder
from widetrail.parcel.logbook import Entry
from widetrail.recipe import Loaded
from widetrail.recipe.decisions import Decisions
from widetrail.recipe.templates import braces, plain
from widetrail.steps import (
    Step,
    words_of,
)
from widetrail.walking.due import Due
from widetrail.walking.journal import RunJournal
from widetrail.walking.overlaps import insist_newest, insist_not_half_way
from widetrail.walking.recipe_finders import finders_of
from widetrail.walking.step_context import WalkDoing
from widetrail.walking.unsealing import unseal
from widetrail.walking.walk_context import Company, Site
from widetrail.walking.walk_events import (
    CargoChecked,
    LegBegun,
    LegEnded,
    Pinned,
    Seen,
    UndoBegun,
)


class Arrival(Due):
    """A parcel at a machine, judged before anything is done."""

    journal: RunJournal
    workroom: str
    company: Company
    decisions: Decisions | None
    _recipes: dict[str, Loaded]
    _cargo_sound: bool
    on_arrival: tuple[int, int] | None
    damaged: tuple[str, ...]

    def _insist_newest(self) -> None:
        """Raise where this machine saw a later state of the parcel; a first visit cannot know.

        Raises:
            ParcelUnusable: The parcel is older than, or went another way than, what was seen here.
        """
        seen = [r.generation for r in self.journal.all(Seen)]
        if seen and seen[-1] not in {g.digest for g in self.parcel.generations}:
            raise ParcelUnusable(
                "this is not the parcel as it left this computer",
                where=str(self.parcel.folder),
                why="it is an older copy, or another copy of it was used since",
                todo="Use the medium that was here last; nothing was changed.",
            )

    @property
    def seen_here(self) -> frozenset[str]:
        """The digests of the states of the parcel that were here before."""
        return frozenset(record.generation for record in self.journal.all(Seen))

    @property
    def asks_programs(self) -> bool:
        """Whether readings start programs here, only to read what they print: the person who
        planned said so."""
        return self.parcel.choices.ask_programs

    @property
    def recipes(self) -> tuple[Loaded, ...]:
        """The recipes that travel along, each after those it uses."""
        return tuple(self._recipes.values())

    def words(self, now: datetime) -> tuple[tuple[Step, str], ...]:
        """Return the steps that are to be done here now, with their words."""
        return tuple(zip(self.steps(), self.words_of(self.steps(), now), strict=True))

    def words_of(self, steps: Iterable[Step], now: datetime) -> tuple[str, ...]:
        """Return what ``steps`` do here, in words."""
        doing = self.make_doing(now)
        return tuple(words_of(doing.shown(s)) for s in steps)

    @property
    def _begun_here(self) -> bool:
        return self.journal.has(LegBegun)

    def insist_going(self, now: datetime) -> None:
        """Raise where this run cannot be gone on with on this machine.

        Raises:
            Halted: It was undone here, or a later run changed the same places.
        """
        self._insist_not_undone(now)
        what = f"run {self.parcel.run} cannot be continued on {self.machine.name}"
        insist_newest(self.machine, self.parcel.run, what)
        insist_not_half_way(self.machine, self.parcel.run, self._to_be_changed(now), what)

    def _to_be_changed(self, now: datetime) -> tuple[str, ...]:
        """Return the paths that the steps which are due here will change, as far as is known."""
        doing = self.make_doing(now)
        shown = [doing.shown(step) for step in self.steps()]
        paths = [path for step in shown for path in (*step.changes, *step.writes)]
        return tuple(plain(path) for path in paths if not braces(path))

    def _insist_not_undone(self, now: datetime) -> None:
        """Raise where the move was undone here, and write that down in the parcel, if it can be."""
        if self.journal.has(UndoBegun):
            with suppress(WideTrailError):  # a report told from the parcel alone is better then
                self.parcel.tell_undone(self.station.station, self.machine.name, now)
            raise Halted(
                f"the move was undone on {self.machine.name}",
                why="its journal says so",
                todo="Plan again, into another parcel.",
                codes=["undone"],
            )

    def _insist_whole(self, begun: LegBegun | None) -> None:
        """Raise where the cargo is half-way to another one, or another than a leg began with.

        Raises:
            Halted: The old machine must finish, or the parcel that was here before must come.
        """
        old = self.parcel.plan.station("old").machine
        if not self.parcel.is_topped_up:
            raise Halted(
                "the parcel is being topped up",
                where=str(self.parcel.folder),
                why=f"it was interrupted on {old}",
                todo=f"Walk on {old} with --top-up to its end first.",
            )
        if begun and self.parcel.topped_up_since(begun.generation):
            raise Halted(
                f"the parcel was topped up after its leg was begun on {self.machine.name}",
                where=str(self.parcel.folder),
                why="what was copied to its place here is older",
                todo="Undo here, then plan again into another parcel.",
            )

    def check_cargo(self, *, begun: bool) -> None:
        """Check the cargo once; what this machine read or wrote itself is not read again.

        Each file is judged again as it is unpacked.
        """
        if not self._cargo_sound:
            known = self.journal.has(Seen, generation=self.parcel.newest)
            self.on_arrival = self.parcel.check_cargo(begun=begun, read=not known)
            self._cargo_sound = True

    def unseal(self) -> None:
        """Open a sealed parcel by its passphrase, which the person is asked for.

        Raises:
            Waiting: Nobody knows it.
        """
        unseal(self.parcel, self.company)

    def _finders_here(self) -> dict[str, Finder]:
        """Return what finds the recipes' places here, each as it was when the leg was begun."""
        pinned = self.journal.newest(Pinned)
        paths = pinned.places if pinned is not None else {}
        return self.finders_by(paths)

    def finders_by(self, pinned: Mapping[str, Mapping[str, str]]) -> dict[str, Finder]:
        """Return what finds the recipes' places here, those that are ``pinned`` where they were,
        and those that a person chose where they are to be."""
        return finders_of(
            self.machine,
            self._recipes,
            pinned,
            ask=self.asks_programs,
            said=self.parcel.plan.said(self.station.station),
            decisions=self.decisions,
        )

    def make_doing(self, now: datetime) -> WalkDoing:
        return WalkDoing(
            self.parcel,
            Site(self.machine, self.station.station, self.journal, self.workroom),
            self._finders_here(),
            self.company,
            now,
        )

    def entry(self, event: str, now: datetime) -> Entry:
        """Return what the logbook tells of a leg that is walked here, as far as is known before."""
        leg = self.due if self.leg_due_here else self.done_here
        assert leg is not None
        return Entry(
            event=event,
            leg=leg.number,
            station=self.station.station,
            machine=self.machine.name,
            time=now.isoformat(timespec="seconds"),
            damaged=self.damaged,
            on_arrival=self._read_on_arrival(),
        )

    def _read_on_arrival(self) -> tuple[int, int] | None:
        """Return how many files and bytes were read when the parcel came, by this walk or an
        earlier one of the same leg."""
        for record in reversed(self.journal.records):
            if isinstance(record, LegEnded):
                return None
            if isinstance(record, CargoChecked) and record.read is not None:
                return record.read
        return None
