"""Fakes of the contexts of licences."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import field

from widetrail.lazily import dataclass
from widetrail.licence.exchange import Exchange
from widetrail.licence.seat import Effect, Refuse
from widetrail.licence.seat import step as seat_after
from widetrail.licence.seat_events import Adopted, Event, Seat
from widetrail.licence.terms import Purpose, Word
from widetrail.recipe.licence_models import Licence


@dataclass(kw_only=True)
class FakeSeat:
    """The seat of one licence, by the real rules of ``licence.seat``."""

    seat: Seat = field(default_factory=Seat)
    says: Word = "active"
    events: list[Event] = field(default_factory=list)
    of: Licence | None = None
    serial: str | None = "83-1207"
    kept: list[str] = field(default_factory=list)
    lacks: tuple[str, ...] = ()
    again: list[Purpose] = field(default_factory=list)

    def now(self, item: str) -> Seat:
        """Return the seat."""
        return self.seat

    def happens(self, item: str, event: Event) -> tuple[Effect, ...]:
        """Have something happen to the seat.

        Raises:
            AssertionError: It may not be.
        """
        self.seat, effects = seat_after(self.seat, event)
        assert not any(isinstance(effect, Refuse) for effect in effects), effects
        self.events.append(event)
        return effects

    def word(self, item: str) -> tuple[Word, str]:
        """Return what the program says."""
        return self.says, self.says

    def insist_newest(self, item: str) -> None:
        """See ``Seats``; no later move has begun."""

    def licence(self, item: str) -> Licence:
        """Return the licence that was given."""
        assert self.of is not None, "a test of this act gives the licence"
        return self.of

    def earlier(self, item: str) -> tuple[Adopted | None, str]:
        """Return that there was no earlier move."""
        return None, ""

    def was_left_open(self, item: str) -> bool:
        """Return that no earlier move left anything open."""
        return False

    def find_serial(self, item: str) -> str | None:
        """Return the serial that was given."""
        return self.serial

    def keep_serial(self, item: str, serial: str) -> None:
        """Keep the serial."""
        self.kept.append(serial)

    def knows_serial(self, item: str) -> bool:
        """Return whether the serial is known."""
        return self.serial is not None

    def is_own(self, item: str) -> bool:
        """Return that the licence is the one that is moved."""
        return True

    def lacking(self, item: str) -> Sequence[str]:
        """Return what is said to be lacking."""
        return self.lacks

    def walk(self) -> str:
        """Return a command."""
        return "widetrail walk"

    def command(self, verb: str, item: str) -> str:
        """Return a command."""
        return f"widetrail seat {verb}"

    def make_cargo_durable(self) -> None:
        """See ``Seats``."""

    def exchange(self, item: str, purpose: Purpose | None = None) -> Exchange:
        """Return the names of the request and the answer."""
        return Exchange("fernbook", purpose or "release", "old", "new", 1)

    def wrong_answer(self, item: str) -> str:
        """Return that the answer is the right one."""
        return ""

    def have_again(self, item: str, purpose: Purpose) -> None:
        """Keep which act is to be done again."""
        self.again.append(purpose)


@dataclass(kw_only=True)
class FakeLicences:
    """A ``steps.contexts.Licences``."""

    seats: FakeSeat = field(default_factory=FakeSeat)
