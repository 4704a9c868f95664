"""``person``: a named instruction, with the readings that show it was done."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import AfterValidator, Field

from widetrail.errors import Waiting
from widetrail.formats.checked import Model
from widetrail.machine.paths import base
from widetrail.recipe.conditions import Condition
from widetrail.recipe.models import ArgumentText, Name, Said
from widetrail.recipe.templates import Brace, parse_template, plain
from widetrail.steps.commands import REQUEST_MADE
from widetrail.steps.interface import Doing, Done, Outcome, Step, Task, Unfolding
from widetrail.steps.makers_word import closed_already
from widetrail.steps.proving import missing, shown, telling_of
from widetrail.steps.running import OF_SEAT
from widetrail.steps.seat_runs import made, named


def _check_words(text: str) -> str:
    parse_template(text)
    return text


class PersonRule(Model):
    """The settings of ``person``; by ``name`` a rehearsal or an answers file plays it."""

    person: Annotated[Said, AfterValidator(_check_words)] | ArgumentText
    name: Name | None = None
    makes: Literal["{request}", "{answer}"] | None = None
    proof: dict[Name, Condition] = Field(default_factory=dict)


class Person:
    """Unfolds into one act of a person."""

    schema = PersonRule

    def unfold(self, unfolding: Unfolding) -> tuple[Step, ...]:
        rule = unfolding.rule
        assert isinstance(rule, PersonRule)
        arguments = {"task": unfolding.expand(rule.person), "proof": conditions(rule.proof)}
        writes = (rule.makes,) if rule.makes is not None else ()
        return (unfolding.step("person", arguments=arguments, writes=writes),)

    def words(self, step: Step) -> str:
        step = named(step)
        proof = step.texts("proof")
        told = f" (shown by: {', '.join(proof)})" if proof else ""
        return f"you: {plain(step.text('task'))}{told}"

    def do(self, step: Step, doing: Doing) -> Outcome:
        if OF_SEAT in step.arguments and (closed := closed_already(step, doing)) is not None:
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

    def _have_done(self, step: Step, doing: Doing, more: str = "") -> Outcome:
        rule = doing.rule(step)
        assert isinstance(rule, PersonRule)
        if rule.proof and not missing(doing, step.item, rule.proof):
            return Done({"done": "it was done already"})
        words, secrets = _filled(step, doing)
        words += more
        loaded = doing.finder(step.item).loaded
        recipe = loaded.id
        task = Task(
            recipe, step.item, rule.name or "", step.id, words, step.texts("proof"), secrets
        )
        if not doing.have_done(step, task):
            raise Waiting(
                words,
                why="a person has to do it, and nobody says it is done",
                todo="Do it, then walk again" + (f" ({rule.name})." if rule.name else "."),
            )
        if not rule.proof:
            return Done({"done": "a person says so"})
        unseen = f"that does not show yet: {words}"
        with telling_of(loaded, rule):
            doing.await_(
                lambda: "; ".join(missing(doing, step.item, rule.proof)),
                unseen,
                seconds=_SHOWS_WITHIN,
            )
        return Done({"done": f"shown by {', '.join(shown(name) for name in rule.proof)}"})


_SHOWS_WITHIN = 60.0
"""Seconds within which what a person did shows."""


def _filled(step: Step, doing: Doing) -> tuple[str, dict[str, str]]:
    """Return the words with all put in but secrets, and those by name for the person alone."""
    secret = doing.secrets(step)
    pieces = parse_template(step.text("task"))
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


def conditions(rules: dict[str, Condition]) -> tuple[str, ...]:
    """Return conditions on readings in words."""
    return tuple(f"{shown(name)} is {condition}" for name, condition in sorted(rules.items()))
