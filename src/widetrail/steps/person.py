"""``person``: a named instruction, with the readings that show it was done."""

from __future__ import annotations

from typing import Literal, Protocol

from widetrail.errors import Waiting
from widetrail.machine.paths import base
from widetrail.recipe.templates import Brace, parse_template, plain
from widetrail.recipe.text_types import Name
from widetrail.steps.commands import REQUEST_MADE
from widetrail.steps.contexts import Evidence, Licences, OfItem, People, Programs, Work
from widetrail.steps.kind import Act, Rule
from widetrail.steps.maker_answer import closed_already
from widetrail.steps.outcomes import Done, Facts, Outcome
from widetrail.steps.people import Task
from widetrail.steps.person_settings import PersonSettings
from widetrail.steps.reading_conditions import conditions, missing, telling_of
from widetrail.steps.seat_runs import made, named
from widetrail.steps.step import Step, Unfolding


class Has(Work, OfItem, Evidence, Programs, People, Licences, Protocol):
    """What a task of a person takes."""


class PersonStep(Step):
    """A task of a person, and the readings that show it was done, in words."""

    kind: Literal["person"] = "person"
    task: str
    proof: tuple[str, ...] = ()

    @property
    def given(self) -> tuple[str, ...]:
        return (self.task,)


class PersonFacts(Facts):
    """How it is known: readings showed it, before a person was asked or after; or a person says so;
    ``readings`` are those that did."""

    passing = Facts.passing | {"shown", "readings"}

    shown: Literal["before", "after", "by_word"] = "by_word"
    readings: tuple[Name, ...] = ()


class Person(Rule[PersonSettings], Act[PersonStep, Has]):
    """Unfolds into one act of a person."""

    settings = PersonSettings
    step = PersonStep
    effect = "asks"
    facts = PersonFacts
    takes_over = True
    makes_known = True
    brings_about = True
    of_seats = True
    by_person = "what you did yourself"

    def unfold(self, settings: PersonSettings, unfolding: Unfolding) -> tuple[Step, ...]:
        writes = (settings.makes,) if settings.makes is not None else ()
        task, proof = unfolding.expand(settings.person), conditions(settings.proof)
        return (unfolding.step(PersonStep, task=task, proof=proof, writes=writes),)

    def words(self, step: PersonStep) -> str:
        step = named(step)
        told = f" (shown by: {', '.join(step.proof)})" if step.proof else ""
        return f"{plain(step.task)}{told}"

    def do(self, step: PersonStep, doing: Has) -> Outcome:
        if step.seat is not None and (closed := closed_already(step, doing)) is not None:
            return closed
        if not step.writes:
            return self._have_done(step, doing)
        path = doing.fill(step, step.writes[0])  # what was made elsewhere is brought here with it
        request = doing.fill(step, REQUEST_MADE)
        outcome = self._have_done(step, doing, f" The request is {request}; save as {path}.")
        there = doing.machine.look(path)
        if there is None or there.kind != "file" or not there.size:
            raise Waiting(
                f"the file {path} is not there yet", todo="Save it there, then walk again."
            )
        doing.keep(step.item, [base(path)])
        made(step, doing)
        return outcome

    def _have_done(self, step: PersonStep, doing: Has, more: str = "") -> Outcome:
        rule = doing.settings(step)
        assert isinstance(rule, PersonSettings)
        proved = tuple(rule.proof)
        if rule.proof and not missing(doing, step.item, rule.proof):
            return Done(PersonFacts(shown="before", readings=proved))
        words, secrets = _filled(step, doing)
        words += more
        finder = doing.finder(step.item)
        recipe = finder.loaded.id
        task = Task(recipe, step.item, rule.name or "", step.id, words, step.proof, secrets)
        if not doing.have_done(step, task):
            raise Waiting(
                words,
                why="a person has to do it, and has not confirmed it",
                todo="Do it, then walk again" + (f" ({rule.name})." if rule.name else "."),
            )
        if not rule.proof:
            return Done(PersonFacts())
        unseen = f"it is not visible yet: {words}"
        with telling_of(finder, rule):
            doing.await_(
                lambda: "; ".join(missing(doing, step.item, rule.proof)),
                unseen,
                seconds=_SHOWS_WITHIN,
            )
        return Done(PersonFacts(shown="after", readings=proved))


_SHOWS_WITHIN = 60.0
"""Seconds within which what a person did shows."""


def _filled(step: PersonStep, doing: Has) -> tuple[str, dict[str, str]]:
    """Return the words with all put in but secrets, and those by name for the person alone."""
    secret = doing.secrets(step)
    pieces = parse_template(step.task)
    words, told = "", {}
    for piece in pieces:
        if not isinstance(piece, Brace):
            words += piece
        elif piece.name in secret:
            words += f"‹{piece.name}›"
            told[piece.name] = doing.fill(step, f"{{{piece.name}}}")
        else:
            words += doing.fill(step, f"{{{piece.name}}}")
    return words, told
