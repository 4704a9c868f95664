"""What doing a step may ask of the seats of licences at its station."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Protocol

from widetrail.licence.terms import Purpose, Word

if TYPE_CHECKING:  # few moves have a licence
    from widetrail.licence.exchange import Exchange
    from widetrail.licence.seat import Effect
    from widetrail.licence.seat_events import Adopted, Event, Seat
    from widetrail.recipe.licence_models import Licence


class Seats(Protocol):
    """The seats of licences as they are known at this station, and what may happen to them."""

    def now(self, item: str) -> Seat:
        """Return what is certain of a seat, by the parcel and by what was done here."""

    def happens(self, item: str, event: Event) -> tuple[Effect, ...]:
        """Have something happen to a seat: it is durable here when this returns.

        Raises:
            Halted: It may not be; nothing is changed.
        """

    def insist_newest(self, item: str) -> None:
        """Raise where a later move of the seat has begun here.

        Raises:
            Halted: It has.
        """

    def licence(self, item: str) -> Licence:
        """Return the recipe's licence that a plan's item is."""

    def word(self, item: str) -> tuple[Word, str]:
        """Return what the program here says of its own licence, and its very words or the reason
        why that is not known."""

    def earlier(self, item: str) -> tuple[Adopted | None, str]:
        """Return how far an earlier move of the seat had come here, and the machine that it was
        for; ``None`` where there was none, or it is at its end."""

    def was_left_open(self, item: str) -> bool:
        """Return whether an earlier move left a claim open here, whose end is not known."""

    def find_serial(self, item: str) -> str | None:
        """Return the serial as the program here tells it, or as an earlier move kept it."""

    def keep_serial(self, item: str, serial: str) -> None:
        """Make a serial durable, sealed, on this machine and in the parcel.

        Raises:
            Halted: The parcel is not sealed, or the medium does not hold what was written.
        """

    def knows_serial(self, item: str) -> bool:
        """Return whether the serial came here in the parcel, or there is none."""

    def is_own(self, item: str) -> bool:
        """Return whether it is certain that what the program here is active by is the seat that
        is moved."""

    def lacking(self, item: str) -> Sequence[str]:
        """Return why a claim here could not be done: what its steps need that is not known."""

    def walk(self) -> str:
        """Return the command that walks here again, as it is typed."""

    def command(self, verb: str, item: str) -> str:
        """Return a ``widetrail seat`` command about a seat, as it is typed."""

    def make_cargo_durable(self) -> None:
        """Write what was packed so far to the logbook, and read it back from the medium."""

    def exchange(self, item: str, purpose: Purpose | None = None) -> Exchange:
        """Return what the request and answer of the open act are about, or of the one of that
        ``purpose`` that would begin now."""

    def wrong_answer(self, item: str) -> str:
        """Return why the answer at hand is not the one to the open act's request, naming the right
        file; an empty text where it is, or nothing tells."""

    def have_again(self, item: str, purpose: Purpose) -> None:
        """Have every step of an act done again, here and elsewhere, by a later walk."""
