"""The person at a station, and whoever watches a walk: what they are asked and told."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Protocol

from widetrail.lazily import dataclass
from widetrail.steps.step import Step


@dataclass(frozen=True)
class Asked:
    """Something a person is asked for: by its name within a recipe or a step's id, in words.

    ``item`` is empty unless each item has an answer of its own.
    A ``secret`` is never shown; one that is ``made`` here is typed twice, since nobody could open
    what was sealed with a slip. ``choices`` are the only answers, where there are any.
    """

    recipe: str
    name: str
    words: str
    item: str = ""
    secret: bool = False
    made: bool = False
    choices: tuple[str, ...] = ()


@dataclass(frozen=True)
class Task:
    """Something a person is to do for an item: its name, the step, what to do, what shows it.

    ``shown`` are secrets that a program told, by name: only the person may see them.
    """

    recipe: str
    item: str
    name: str
    step: str
    words: str
    proof: tuple[str, ...] = ()
    shown: Mapping[str, str] | None = None


class Hands(Protocol):
    """The person at the station: answers, and does what only a person can."""

    def answer(self, asked: Asked) -> str | None:
        """Return the answer, or ``None`` where nobody gives one."""

    def act(self, task: Task, play: Callable[[Sequence[str]], None]) -> bool:
        """Have a task done and return whether the person says it is.

        ``play`` runs one of the application's programs, where that does what a person would.
        """


class Onlooker(Protocol):
    """Told how a walk goes; every text is fit to be shown."""

    def begins(self, step: Step, words: str, number: int, total: int) -> None:
        """A step begins, the one of that ``number`` among the ``total`` of this walk."""

    def waits(self, what: str) -> None:
        """The walk waits for something, or still does."""

    def moves(
        self,
        done: float,
        total: float,
        unit: str,
        left: float | None,
        files: tuple[int, int] | None = None,
    ) -> None:
        """Of the step at hand ``done`` of ``total`` (``bytes`` or a reading's name) are there;
        ``left`` are the seconds it will take still, where that can be said. ``files`` tells how
        many files of how many are done."""
