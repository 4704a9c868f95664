"""A kind of step: everything there is to know of it, in its own file.

A *rule* is what a recipe may say; it unfolds into steps of a plan. An *act* tells, does and takes
back one kind of step of a plan. Most kinds that recipes know are both.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterator
from typing import ClassVar, Generic, Literal, NamedTuple, TypeVar

from widetrail.recipe.settings import Settings
from widetrail.recipe.templates import braces, plain
from widetrail.steps.contexts import OfItem
from widetrail.steps.foreseeing import Foreseen, Sight
from widetrail.steps.journal_events import Record
from widetrail.steps.outcomes import Facts, Outcome
from widetrail.steps.step import Step, Unfolding
from widetrail.steps.undo import UndoAct, WayBack, undo_record

S = TypeVar("S", bound=Step)
C = TypeVar("C", contravariant=True)
R = TypeVar("R", bound=Settings)


class Touched(NamedTuple):
    """A path or registry key of a station that a step changes, or that it reads where ``taken``.

    ``told`` tells that a recipe or a program's settings name it, and no rule of the platform;
    ``holds_cargo`` that what the parcel holds of the item arrives below it.
    """

    path: str
    told: bool = True
    taken: bool = False
    holds_cargo: bool = False


Effect = Literal["starts", "changes", "asks", "waits", "copies", "looks"]
"""What a kind of step does to a computer, by which consent is asked for: it starts a program,
changes something, asks a person, waits, copies into the parcel, or only looks."""


class Rule(ABC, Generic[R]):
    """How a recipe's step of one kind is written and what it becomes in a plan."""

    settings: ClassVar[type[Settings]]
    """The model of what a recipe says of it."""

    carries: ClassVar[bool] = False
    """Whether it carries the item's files or values as they are, to its place."""

    makes_known: ClassVar[bool] = False
    """Whether it may make what it brings known to its program, beside copying it."""

    @abstractmethod
    def unfold(self, settings: R, unfolding: Unfolding) -> tuple[Step, ...]:
        """Return the steps of the plan, in order."""


class Act(ABC, Generic[S, C]):
    """How the steps of one kind are told, done and taken back, and what others must know of it."""

    step: ClassVar[type[Step]]
    """The model of such a step of a plan."""

    facts: ClassVar[type[Facts]] = Facts
    """The model of what is known once it was done."""

    records: ClassVar[tuple[type[Record], ...]] = ()
    """The records of the journal that are its own."""

    effect: ClassVar[Effect] = "changes"
    """What it does to a computer, by which a person judges it."""

    needs_closed: ClassVar[bool] = False
    """Whether the application must be closed while it is done."""

    notes: ClassVar[bool] = False
    """Whether it only takes note of what is there, so that it is of the moment that is packed."""

    packs: ClassVar[bool] = False
    """Whether it puts the item into the parcel: once, whatever else of its route is done."""

    places: ClassVar[bool] = False
    """Whether it puts the item in place on new, so that it is looked through for what names old."""

    moves_data: ClassVar[bool] = False
    """Whether it takes part in carrying the item's own data."""

    takes_over: ClassVar[bool] = False
    """Whether a program or person may take in by it what was put somewhere else than its place, or
    it is taken away there again."""

    brings_about: ClassVar[bool] = False
    """Whether it may bring about what a route waits for, so that it is done before that."""

    comes_last: ClassVar[bool] = False
    """Whether it is done after all is well, and says nothing of whether the item arrived."""

    only_waits: ClassVar[bool] = False
    """Whether it changes nothing, so that on old it waits for nothing that is done on new."""

    takes_medium: ClassVar[bool] = False
    """Whether the parcel cannot be transferred on after it."""

    of_seats: ClassVar[bool] = False
    """Whether what comes out wrong with it, where seats are moved, is told by the ledger."""

    removes: ClassVar[bool] = False
    """Whether what it changes is no longer there under its name."""

    by_person: ClassVar[str] = ""
    """What undoing cannot take back of it, since a person did it; empty where nothing is so."""

    def touches(self, step: S, item: OfItem) -> Iterator[Touched]:
        """Give what a step, with what is known put in, changes or reads at this station."""
        for path in (*step.changes, *step.writes):
            if not braces(path):
                yield Touched(plain(path))

    def foresee(self, step: S, sight: Sight) -> Foreseen | None:
        """Return what such a step would do by what both machines hold now, if that can be told."""
        return None

    def undo(self, record: Record, way: WayBack) -> Iterator[UndoAct]:
        """Give the acts that take back what a record of the journal tells of such a step.

        The journal is gone through from its newest record on.
        """
        yield from undo_record(record, way)

    def left_after_undo(self, words: str, *, loose: bool) -> str:
        """Return what of such a step is not taken back, or an empty text.

        ``words`` are the step's own; it is ``loose`` where it says that it changes nothing.
        """
        return f"{self.by_person}: {words}" if self.by_person else ""

    def told_secrets(self, step: S) -> tuple[str, ...]:
        """Return the names of secrets that it tells to later steps: they are kept nowhere."""
        return ()

    def final_command(self, step: S) -> tuple[str, ...]:
        """Return the command that ends what it began, however the leg ends; none is empty."""
        return ()

    def undo_command(self, step: S) -> tuple[str, ...]:
        """Return the command that takes back what it did; none is empty."""
        return ()

    def clear_cut(self, step: S, doing: C) -> None:
        """Clear away, before a walk looks at what is open, what one that was cut off left so.

        Raises:
            Waiting: It cannot be, and the walk does not wait.
        """

    @abstractmethod
    def words(self, step: S) -> str:
        """Return the step as a plan tells it to a person."""

    @abstractmethod
    def do(self, step: S, doing: C) -> Outcome:
        """Do the step with what its kind says that it takes.

        Raises:
            Waiting: It waits for something; nothing incomplete is left.
            Halted: It cannot be done now; nothing incomplete is left.
            WideTrailError: The parcel or machine cannot be used for it.
        """
