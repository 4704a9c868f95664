"""``open``, ``close`` and ``first_start``: the application itself."""

from __future__ import annotations

from collections.abc import Mapping
from typing import ClassVar

from pydantic import Field, create_model

from widetrail.finding import Found, Several
from widetrail.formats.checked import Model
from widetrail.recipe.models import Name
from widetrail.recipe.templates import literal, plain
from widetrail.steps.commands import CLOSES, OPENS, show_command
from widetrail.steps.interface import Doing, Done, Facts, Failed, Outcome, Step, Task, Unfolding
from widetrail.steps.saving import put_back, save


class Program:
    """Unfolds into one act on the application; each subclass is a kind."""

    kind: ClassVar[str]
    told: ClassVar[str]
    commands: ClassVar[tuple[str, ...]]

    def __init__(self) -> None:
        name: type = Name if self.kind == "first_start" else str
        fields = {"value": (name, Field("", alias=self.kind))}
        self.schema: type[Model] = create_model(
            f"{self.kind.title().replace('_', '')}Rule", __base__=Model, **fields
        )  # type: ignore[call-overload]

    def unfold(self, unfolding: Unfolding) -> tuple[Step, ...]:
        application = unfolding.loaded.recipe.application
        place = str(getattr(unfolding.rule, "value", ""))
        changes = (unfolding.expand(f"{{{place}}}"),) if place else ()
        arguments: dict[str, str | tuple[str, ...]] = {
            "program": literal(application.name),
            "place": place,
        }
        for name, command in ((OPENS, application.open), (CLOSES, application.close)):
            if command and name in self.commands:
                arguments[name] = tuple(unfolding.expand(word, {}) for word in command)
        return (unfolding.step(self.kind, arguments=arguments, changes=changes),)

    def words(self, step: Step) -> str:
        told = self.told.format(program=plain(step.text("program")), place=step.text("place"))
        runs = [show_command(step.texts(name)) for name in self.commands if step.texts(name)]
        return f"{told}: {', and then '.join(runs)}" if runs else told


class Open(Program):
    """Opens the program for the person, and leaves it open."""

    kind = "open"
    told = "open {program}"
    commands = (OPENS,)

    def do(self, step: Step, doing: Doing) -> Outcome:
        if doing.open_signs(step.item):
            return Done({"open": "it was open already"})
        return _open(step, doing)


class Close(Program):
    """Asks the program, or else the person, to close it, and waits; it is never ended."""

    kind = "close"
    told = "close {program} (it is asked for, never forced)"
    commands = (CLOSES,)

    def do(self, step: Step, doing: Doing) -> Outcome:
        if not doing.open_signs(step.item):
            return Done({"closed": "it was closed already"})
        return _close(step, doing)


class FirstStart(Program):
    """Has the program make a place that is not there yet."""

    kind = "first_start"
    told = "start {program} for the first time where it was not, so that it makes its {place}"
    commands = (OPENS, CLOSES)

    def do(self, step: Step, doing: Doing) -> Outcome:
        place = step.text("place")
        path = doing.finder(step.item).path(f"{{{place}}}")
        if doing.recorded("first started", step.id) is not None:
            return Done({place: "it was made"})
        if path and doing.recorded("saved", step.id) is not None:
            put_back(step, doing, path)  # a walk that was cut off had begun it: it may be half made
        if _there(step, doing, place):
            return Done({place: "it was there already"})
        doing.await_closed(step.item)
        if path:
            save(step, doing, path)
        doing.record("first starting", step=step.id)
        opened = _open(step, doing)
        if isinstance(opened, Failed):
            return opened
        name = doing.application(step.item).name
        todo = f"Start {name}, see that it is there, close it, then walk again."
        doing.await_(
            lambda: "" if _there(step, doing, place) else f"{name} has not made its {place} yet",
            todo,
            seconds=_FIRST_WITHIN,
            grace=_OWN_WITHIN if step.texts(OPENS) else 0.0,
        )
        closed = _close(step, doing)
        if isinstance(closed, Failed):
            return closed
        doing.settle_down([path] if path else [], step.item)
        doing.record("first started", step=step.id)
        return Done({place: "it was made"})


def close_begun(step: Step, doing: Doing) -> None:
    """Close the program that a walk which was cut off had started for the first time.

    Raises:
        Waiting: It does not close, and the walk does not wait.
    """
    begun = doing.recorded("first starting", step.id) is not None
    if begun and doing.recorded("first started", step.id) is None and doing.open_signs(step.item):
        _close(step, doing)


_FIRST_WITHIN = 300.0
_OWN_WITHIN = 30.0
"""Seconds in which a program that the walk itself started or asked to close does so."""

_COMMAND_WITHIN = 60.0


def _there(step: Step, doing: Doing, place: str) -> bool:
    where = doing.finder(step.item).place(place)
    return isinstance(where, Found) or (isinstance(where, Several) and bool(where.instances))


def _open(step: Step, doing: Doing) -> Outcome:
    if step.texts(OPENS):
        program, arguments = doing.command(step, step.texts(OPENS))
        doing.machine.launch(program, arguments)
        return Done({"open": "it was started"})
    return _by_hand(step, doing, f"Open {doing.application(step.item).name}.", "open")


def _close(step: Step, doing: Doing) -> Outcome:
    application = doing.application(step.item)
    if step.texts(CLOSES):
        name, asked = application.name, [False]

        def what() -> str:
            signs = doing.open_signs(step.item)
            if signs and not asked[0]:  # it may have been too early, so it is asked once more
                done = doing.run(step, step.texts(CLOSES), _COMMAND_WITHIN)
                asked[0] = done.status == 0
            return f"{name} is open: {signs}" if signs else ""

        doing.await_(what, f"Close {name}, then walk again.", grace=_OWN_WITHIN)
        return Done({"closed": "it is closed"})
    if doing.open_signs(step.item):
        _by_hand(step, doing, f"Close {application.name}.", "closed")
    doing.await_closed(step.item)
    return Done({"closed": "it is closed"})


def _by_hand(step: Step, doing: Doing, words: str, what: str) -> Outcome:
    recipe = doing.finder(step.item).loaded.id
    if not doing.have_done(step, Task(recipe, step.item, step.kind, step.id, words)):
        doing.onlooker.waits(words)
    facts: Facts = {what: "a person was asked"}
    return Done(facts)


PROGRAM_KINDS: Mapping[str, Open | Close | FirstStart] = {
    "open": Open(),
    "close": Close(),
    "first_start": FirstStart(),
}
