"""``run``: one of the application's programs, an argument list, never a shell line."""

from __future__ import annotations

from widetrail.recipe.templates import Brace, literal, parse_template, plain
from widetrail.steps.commands import (
    COMMAND,
    ENDED_BY,
    UNDONE_BY,
    RunRule,
    refuse_option,
    show_command,
)
from widetrail.steps.interface import (
    Doing,
    Outcome,
    Step,
    Unfolding,
)
from widetrail.steps.running import OF_SEAT, run_step
from widetrail.steps.seat_runs import named, run_for_seat


class Run:
    """Unfolds into one ``run``, or one for each value of the part that ``per`` names."""

    schema = RunRule

    def unfold(self, unfolding: Unfolding) -> tuple[Step, ...]:
        rule = unfolding.rule
        assert isinstance(rule, RunRule)
        if rule.per is None:
            return (self._one(unfolding, rule, None),)
        return tuple(self._one(unfolding, rule, v) for v in unfolding.parts.get(rule.per, ()))

    def _one(self, unfolding: Unfolding, rule: RunRule, value: str | None) -> Step:
        own = {rule.per: value} if rule.per is not None and value is not None else {}

        def fill(text: str) -> str:
            return unfolding.expand(text, own)

        made = tuple(fill(text) for text in (rule.makes, rule.stdout) if text is not None)
        command: list[str] = []
        for argument in rule.run:
            for word in _spread(argument, unfolding, own):
                refuse_option(argument, word, command, unfolding.step_id("run"))
                command.append(word)
        arguments: dict[str, str | tuple[str, ...]] = {
            COMMAND: tuple(command),
            "within": rule.within,
            "exit": tuple(map(str, rule.exit)),
        }
        asks = unfolding.loaded.recipe.asks
        if hidden := tuple(n for n in rule.tells if n in asks and asks[n].secret is not None):
            arguments["tells secrets"] = hidden
        if rule.title is not None:
            arguments["title"] = literal(rule.title)
        for name in ("stdin", "stdout"):
            if (text := getattr(rule, name)) is not None:
                arguments[name] = fill(text)
        if rule.env:
            arguments["env"] = tuple(f"{k}={fill(v)}" for k, v in sorted(rule.env.items()))
        for name, more in ((UNDONE_BY, rule.undone_by), (ENDED_BY, rule.ended_by)):
            if more is not None:
                arguments[name] = tuple(map(fill, more))
        return unfolding.step(
            "run" if value is None else f"run/{value}",
            arguments=arguments,
            writes=made,
            changes=tuple(fill(f"{{{place}}}") for place in rule.changes),
            repeat=rule.repeat,
        ).model_copy(update={"kind": "run"})

    def words(self, step: Step) -> str:
        step = named(step)
        untold = [plain(path) for path in step.writes if path not in step.texts(COMMAND)]
        made = f", which makes {', '.join(untold)}" if untold else ""
        fed = f", fed {plain(step.text('stdin'))}" if "stdin" in step.arguments else ""
        given = step.texts("env")
        env = f", with {', '.join(map(plain, given))}" if given else ""
        changed = ", ".join(map(plain, step.changes))
        changed = f", which changes {changed} (saved before)" if changed else ""
        then = step.texts(ENDED_BY)
        end = f", and at the end {show_command(then)}" if then else ""
        title = f"{plain(step.text('title'))}: " if "title" in step.arguments else "run: "
        return f"{title}{show_command(step.texts('command'))}{fed}{env}{made}{changed}{end}"

    def do(self, step: Step, doing: Doing) -> Outcome:
        if OF_SEAT in step.arguments:
            return run_for_seat(step, doing)
        return run_step(step, doing)


def _spread(argument: str, unfolding: Unfolding, own: dict[str, str]) -> tuple[str, ...]:
    """Return an argument filled; a part standing alone becomes one argument for each value.

    ``own`` is the value of the part that the command is run once for.
    """
    pieces = parse_template(argument)
    alone = pieces[0].name if len(pieces) == 1 and isinstance(pieces[0], Brace) else None
    if alone is not None and alone not in own and alone in unfolding.parts:
        return tuple(literal(value) for value in unfolding.parts[alone])
    return (unfolding.expand(argument, own),)
