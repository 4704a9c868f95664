"""``run``: one of the application's programs, an argument list, never a shell line."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated, Literal

from pydantic import BeforeValidator, Field, model_validator

from widetrail.formats.checked import Model, flaw
from widetrail.recipe.conditions import Condition, Duration, one_or_many
from widetrail.recipe.models import ArgumentText, Name, Said
from widetrail.recipe.templates import Brace, parse_template
from widetrail.steps.interface import Step, Unfolding

Arguments = Annotated[tuple[ArgumentText, ...], Field(min_length=1)]


class RunRule(Model):
    """The settings of ``run``."""

    run: Arguments
    stdin: ArgumentText | None = None
    env: dict[str, ArgumentText] = Field(default_factory=dict)
    stdout: ArgumentText | None = None
    exit: Annotated[tuple[int, ...], BeforeValidator(one_or_many)] = (0,)
    within: Duration = "10 min"
    makes: ArgumentText | None = None
    tells: dict[Name, str] = Field(default_factory=dict)
    changes: Annotated[tuple[Name, ...], BeforeValidator(one_or_many)] = ()
    repeat: Literal["safe", "ask", "never"] = "ask"
    done_when: dict[Name, Condition] = Field(default_factory=dict)
    undone_by: Arguments | None = None
    ended_by: Arguments | None = None
    per: Name | None = None
    title: Said | None = None

    @model_validator(mode="after")
    def _options(self) -> RunRule:
        for argument in self.run[1 : self.run.index("--") if "--" in self.run else None]:
            pieces = parse_template(argument)
            if argument.startswith("-") and len(pieces) > 1 and isinstance(pieces[-1], Brace):
                hint = "Give the value as an argument of its own"
                raise flaw("argument", f'"{argument}" joins an option and a value', hint)
        return self


class Run:
    """Unfolds into one ``run``, or one for each value of the part that ``per`` names."""

    schema = RunRule

    def unfold(self, unfolding: Unfolding) -> tuple[Step, ...]:
        rule = unfolding.rule
        assert isinstance(rule, RunRule)
        if rule.per is None:
            return (self._one(unfolding, rule, ""),)
        values = unfolding.parts.get(rule.per, ())
        return tuple(self._one(unfolding, rule, value) for value in values)

    def _one(self, unfolding: Unfolding, rule: RunRule, value: str) -> Step:
        def fill(text: str) -> str:
            return unfolding.expand(text.replace(f"{{{rule.per}}}", value) if value else text)

        makes = (fill(rule.makes),) if rule.makes is not None else ()
        arguments: dict[str, str | tuple[str, ...]] = {
            "command": tuple(
                w for a in rule.run for w in _spread(a, unfolding, fill, value and rule.per)
            ),
            "within": rule.within,
            "exit": tuple(map(str, rule.exit)),
        }
        if rule.stdin is not None:
            arguments["stdin"] = fill(rule.stdin)
        if rule.env:
            arguments["env"] = tuple(f"{k}={fill(v)}" for k, v in sorted(rule.env.items()))
        for name, command in (("undone by", rule.undone_by), ("ended by", rule.ended_by)):
            if command is not None:
                arguments[name] = tuple(map(fill, command))
        tail = f"run/{value}" if value else "run"
        return Step(
            id=unfolding.step_id(tail),
            kind="run",
            station=unfolding.station,
            item=unfolding.subject,
            arguments=arguments,
            writes=makes,
            changes=tuple(fill(f"{{{place}}}") for place in rule.changes),
            repeat=rule.repeat,
        )

    def words(self, step: Step) -> str:
        made = f", which makes {', '.join(step.writes)}" if step.writes else ""
        fed = f", fed {step.text('stdin')}" if "stdin" in step.arguments else ""
        changed = f", which changes {', '.join(step.changes)}" if step.changes else ""
        return f"run: {show_command(step.texts('command'))}{fed}{made}{changed}"


def _spread(
    argument: str, unfolding: Unfolding, fill: Callable[[str], str], per: str | None
) -> tuple[str, ...]:
    """Return an argument filled; a part standing alone becomes one argument for each value.

    Where the command is run once for each value of the part ``per``, that part is one value.
    """
    pieces = parse_template(argument)
    alone = pieces[0].name if len(pieces) == 1 and isinstance(pieces[0], Brace) else None
    if alone is not None and alone != per and alone in unfolding.parts:
        return unfolding.parts[alone]
    return (fill(argument),)


def show_command(command: tuple[str, ...]) -> str:
    """Return an argument list for people; an argument with spaces stands in quotes."""
    return " ".join(f'"{a}"' if not a or " " in a else a for a in command)
