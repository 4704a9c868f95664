"""``open``, ``close`` and ``first_start``: the application itself."""

from __future__ import annotations

from contextlib import suppress
from typing import Literal, Protocol

from widetrail.errors import Waiting
from widetrail.finding import Found, Several
from widetrail.formats.stored_values import Text
from widetrail.recipe.templates import literal, plain
from widetrail.steps.backup import put_back, save
from widetrail.steps.commands import show_command
from widetrail.steps.contexts import OfItem, People, Programs, Work
from widetrail.steps.journal_events import Saved, StepRecord
from widetrail.steps.kind import Act, Rule
from widetrail.steps.outcomes import Done, Facts, Failed, Outcome
from widetrail.steps.people import Task
from widetrail.steps.program_settings import CloseSettings, FirstStartSettings, OpenSettings
from widetrail.steps.step import Step, Unfolding


class Has(Work, OfItem, Programs, People, Protocol):
    """What acts on the application take."""


class ProgramStep(Step):
    """An act on the application: its name, and the commands of it that are run."""

    commands_in = ("opens", "closes")

    program: str
    opens: tuple[str, ...] = ()
    closes: tuple[str, ...] = ()


class ProgramFacts(Facts):
    """How it came about: it was so already, by a command, or by a person who was asked."""

    passing = Facts.passing | {"how"}

    how: Literal["already", "command", "asked"] = "command"


def _commands(unfolding: Unfolding, *names: Literal["open", "close"]) -> dict[str, object]:
    """Return what a step on the application is made of: its program, and commands by name."""
    application = unfolding.loaded.recipe.application
    own: dict[str, object] = {"program": literal(application.name)}
    for name in names:
        command: tuple[str, ...] = getattr(application, name)
        own[f"{name}s"] = tuple(unfolding.expand(word, {}) for word in command)
    return own


def _with_commands(words: str, step: ProgramStep) -> str:
    runs = [show_command(command) for command in step.commands.values()]
    return f"{words}: {', and then '.join(runs)}" if runs else words


class OpenStep(ProgramStep):
    """The application is opened."""

    kind: Literal["open"] = "open"


class Open(Rule[OpenSettings], Act[OpenStep, Has]):
    """Opens the program for the person, and leaves it open."""

    settings = OpenSettings
    step = OpenStep
    effect = "starts"
    facts = ProgramFacts
    brings_about = True
    by_person = "that the program was opened"

    def unfold(self, settings: OpenSettings, unfolding: Unfolding) -> tuple[Step, ...]:
        return (unfolding.step(OpenStep, _commands(unfolding, "open")),)

    def words(self, step: OpenStep) -> str:
        return _with_commands(f"Start {plain(step.program)}", step)

    def do(self, step: OpenStep, doing: Has) -> Outcome:
        if doing.open_signs(step.item):
            return Done(ProgramFacts(how="already"))
        opened = _open(step, doing)
        if step.opens and isinstance(opened, Done):
            _let_come(step, doing)
        return opened


class CloseStep(ProgramStep):
    """The application is closed."""

    kind: Literal["close"] = "close"


class Close(Rule[CloseSettings], Act[CloseStep, Has]):
    """Asks the program, or else the person, to close it, and waits; it is never ended."""

    settings = CloseSettings
    step = CloseStep
    effect = "starts"
    facts = ProgramFacts
    by_person = "that the program was closed"

    def unfold(self, settings: CloseSettings, unfolding: Unfolding) -> tuple[Step, ...]:
        return (unfolding.step(CloseStep, _commands(unfolding, "close")),)

    def words(self, step: CloseStep) -> str:
        return _with_commands(f"Close {plain(step.program)} (by asking, never by force)", step)

    def do(self, step: CloseStep, doing: Has) -> Outcome:
        if not doing.open_signs(step.item):
            return Done(ProgramFacts(how="already"))
        return _close(step, doing)


class FirstStartStep(ProgramStep):
    """The application is started for the first time, so that it makes a place."""

    kind: Literal["first_start"] = "first_start"
    place: str


class FirstStartFacts(Facts):
    """The place that was to be made, and whether it was made by this."""

    passing = Facts.passing | {"was_made"}

    place: Text = ""
    was_made: bool = False


class FirstStarting(StepRecord):
    """A program is going to be started for the first time."""

    event = "first starting"


class FirstStarted(StepRecord):
    """A program was started for the first time, and closed."""

    event = "first started"


class FirstStart(Rule[FirstStartSettings], Act[FirstStartStep, Has]):
    """Has the program make a place that is not there yet."""

    settings = FirstStartSettings
    step = FirstStartStep
    effect = "starts"
    facts = FirstStartFacts
    records = (FirstStarting, FirstStarted)
    makes_known = True
    brings_about = True

    def unfold(self, settings: FirstStartSettings, unfolding: Unfolding) -> tuple[Step, ...]:
        place = settings.first_start
        changes = (unfolding.expand(f"{{{place}}}"),)
        commands = _commands(unfolding, "open", "close")
        return (unfolding.step(FirstStartStep, commands, place=place, changes=changes),)

    def words(self, step: FirstStartStep) -> str:
        name, place = plain(step.program), step.place
        told = f"Start {name} once if it never was, so that it creates its {place}"
        return _with_commands(told, step)

    def clear_cut(self, step: FirstStartStep, doing: Has) -> None:
        begun = doing.recorded(FirstStarting, step.id) is not None
        ended = doing.recorded(FirstStarted, step.id) is not None
        if begun and not ended and doing.open_signs(step.item):
            _close(step, doing)

    def do(self, step: FirstStartStep, doing: Has) -> Outcome:
        place = step.place
        was_there, was_made = (
            Done(FirstStartFacts(place=place, was_made=made)) for made in (False, True)
        )
        path = doing.finder(step.item).path(f"{{{place}}}")
        if doing.recorded(FirstStarted, step.id) is not None:
            return was_made
        if path and doing.recorded(Saved, step.id) is not None:
            put_back(step, doing, path)  # a walk that was cut off had begun it: it may be half made
        if _there(step, doing, place):
            return was_there
        doing.await_closed(step.item)
        if path:
            save(step, doing, path)
        doing.record(FirstStarting(step=step.id))
        opened = _open(step, doing)
        if isinstance(opened, Failed):
            return opened
        name = doing.application(step.item).name
        todo = f"Start {name}, check that it is there, close it, then walk again."
        doing.await_(
            lambda: "" if _there(step, doing, place) else f"{name} has not created its {place} yet",
            todo,
            seconds=_FIRST_WITHIN,
            grace=_OWN_WITHIN if step.opens else 0.0,
        )
        closed = _close(step, doing)
        if isinstance(closed, Failed):
            return closed
        doing.settle_down([path] if path else [], step.item)
        doing.record(FirstStarted(step=step.id))
        return was_made


_FIRST_WITHIN = 300.0
_OWN_WITHIN = 30.0
"""Seconds in which a program that the walk itself started or asked to close does so."""

_COMMAND_WITHIN = 60.0
_ASKED_AGAIN = 5.0
_SHOWN_WITHIN = 10.0
"""Seconds in which a program that was started shows that it is open, where it ever does."""


def _there(step: FirstStartStep, doing: Has, place: str) -> bool:
    where = doing.finder(step.item).place(place)
    return isinstance(where, Found) or (isinstance(where, Several) and bool(where.instances))


def _open(step: OpenStep | FirstStartStep, doing: Has) -> Outcome:
    if step.opens:
        program, arguments = doing.command(step, step.opens)
        doing.machine.launch(program, arguments)
        return Done(ProgramFacts())
    return _by_hand(step, doing, f"Open {doing.application(step.item).name}.")


def _close(step: CloseStep | FirstStartStep, doing: Has) -> Outcome:
    name = doing.application(step.item).name
    if step.closes:
        asked: list[float] = []

        def what() -> str:
            signs = doing.open_signs(step.item)
            # it may have been too early, so it is asked once more
            if signs and (not asked or doing.clock() - asked[-1] > _ASKED_AGAIN):
                done = doing.run(step, step.closes, _COMMAND_WITHIN)
                asked[:] = [doing.clock()] if done.status == 0 else []
            return f"{name} is open: {signs}" if signs else ""

        doing.await_(what, f"Close {name}, then walk again.", grace=_OWN_WITHIN)
        return Done(ProgramFacts())
    if doing.open_signs(step.item):
        _by_hand(step, doing, f"Close {name}.")
    doing.await_closed(step.item)
    return Done(ProgramFacts())


def _let_come(step: OpenStep, doing: Has) -> None:
    """Wait until a program shows that it is open, by its lock if it has one; what ends at once
    never does."""
    name = doing.application(step.item).name

    def what() -> str:
        finder = doing.finder(step.item)
        there = finder.locks() if finder.lock_paths() else doing.open_signs(step.item)
        return "" if there else f"{name} is not open yet"

    with suppress(Waiting):
        doing.await_(what, "", seconds=_SHOWN_WITHIN, grace=_SHOWN_WITHIN)


def _by_hand(step: ProgramStep, doing: Has, words: str) -> Outcome:
    recipe = doing.finder(step.item).loaded.id
    if not doing.have_done(step, Task(recipe, step.item, step.kind, step.id, words)):
        doing.onlooker.waits(words)
    return Done(ProgramFacts(how="asked"))
