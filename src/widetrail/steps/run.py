"""``run``: one of the application's programs, an argument list, never a shell line."""

from __future__ import annotations

import re
import signal
from collections.abc import Sequence
from typing import Annotated, Literal

from pydantic import AfterValidator, BeforeValidator, Field, model_validator

from widetrail.errors import Halted, Waiting, WideTrailError
from widetrail.finding import Known, Unknown
from widetrail.formats.bounded import ask
from widetrail.formats.checked import Model, flaw
from widetrail.formats.interface import Unreadable
from widetrail.formats.texts import for_people
from widetrail.machine import Channels, Completed
from widetrail.machine.paths import base
from widetrail.recipe.conditions import Condition, Duration, one_or_many, parse_duration
from widetrail.recipe.models import ArgumentText, Name, Said
from widetrail.recipe.templates import Brace, literal, parse_template, plain
from widetrail.steps.interface import (
    Asked,
    Doing,
    Done,
    Facts,
    Failed,
    Outcome,
    Step,
    Unfolding,
)
from widetrail.steps.proving import missing, take
from widetrail.steps.saving import keep_first, put_back, save

Arguments = Annotated[tuple[ArgumentText, ...], Field(min_length=1)]


def _check_made(text: str) -> str:
    pieces = parse_template(text)
    inside = len(pieces) > 1 and pieces[0] == Brace("parcel") and str(pieces[1]).startswith("/")
    if not inside or len(text) < len("{parcel}/x") or "/" in text[len("{parcel}/") :]:
        hint = 'Write it like "{parcel}/export.zip"'
        raise flaw("made", f'"{text}" is no file of the parcel', hint)
    return text


def _check_told(text: str) -> str:
    try:
        groups = re.compile(text).groups
    except re.error as error:
        raise flaw("expression", f'"{text}" is no regular expression: {error}') from error
    if groups != 1:
        raise flaw("expression", f"expected one group in the expression; found {groups}")
    return text


Made = Annotated[ArgumentText, AfterValidator(_check_made)]


class RunRule(Model):
    """The settings of ``run``."""

    run: Arguments
    stdin: ArgumentText | None = None
    env: dict[str, ArgumentText] = Field(default_factory=dict)
    stdout: Made | None = None
    exit: Annotated[tuple[int, ...], BeforeValidator(one_or_many)] = (0,)
    within: Duration = "10 min"
    makes: Made | None = None
    tells: dict[Name, Annotated[str, AfterValidator(_check_told)]] = Field(default_factory=dict)
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
        if self.stdout is not None and (self.makes is not None or self.tells):
            raise flaw("stdout", '"stdout" makes a file, so there is no "makes" or "tells" beside')
        return self


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
            "command": tuple(command),
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
        for name, more in (("undone by", rule.undone_by), ("ended by", rule.ended_by)):
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
        made = f", which makes {', '.join(map(plain, step.writes))}" if step.writes else ""
        fed = f", fed {plain(step.text('stdin'))}" if "stdin" in step.arguments else ""
        given = step.texts("env")
        env = f", with {', '.join(map(plain, given))}" if given else ""
        changed = ", ".join(map(plain, step.changes))
        changed = f", which changes {changed} (saved before)" if changed else ""
        then = step.texts("ended by")
        end = f", and at the end {show_command(then)}" if then else ""
        title = f"{plain(step.text('title'))}: " if "title" in step.arguments else "run: "
        return f"{title}{show_command(step.texts('command'))}{fed}{env}{made}{changed}{end}"

    def do(self, step: Step, doing: Doing) -> Outcome:
        known = _known_end(step, doing)
        if known is not None:
            return known
        rule = doing.rule(step)
        assert isinstance(rule, RunRule)
        places = [doing.fill(step, place) for place in step.changes]
        try:
            for place in places:
                save(step, doing, place)
            self._clear_made(step, doing)
            outcome = self._start(step, rule, doing)
        except Halted:
            if not _ended_well(step, doing):  # else only what comes after it is to be done again
                self._give_back(step, doing, places)
            raise
        except WideTrailError as error:
            outcome = Failed(str(error), error.todo or _TODO, {})
        if isinstance(outcome, Failed):
            self._give_back(step, doing, places)
            return outcome
        assert isinstance(outcome, Done)
        aside: Facts = {"put aside": [k for p in places if (k := keep_first(step, doing, p))]}
        return Done({**outcome.facts, **aside})

    def _give_back(self, step: Step, doing: Doing, places: Sequence[str]) -> None:
        """Put back what was saved, and remove what was made half; nothing came of the run."""
        for place in places:
            put_back(step, doing, place)
        self._clear_made(step, doing)

    def _start(self, step: Step, rule: RunRule, doing: Doing) -> Outcome:
        if step.texts("ended by"):
            doing.at_end(step, step.texts("ended by"))
        seconds = parse_duration(step.text("within")).total_seconds()
        stdin = doing.fill(step, step.text("stdin")) + "\n" if "stdin" in step.arguments else ""
        pairs = (text.partition("=") for text in step.texts("env"))
        env = {name: doing.fill(step, value) for name, _, value in pairs}
        # what is filled in last is known first: nothing may halt between journal and start
        doing.command(step, step.texts("command"))
        doing.record("run begun", step=step.id)
        if undone_by := step.texts("undone by"):
            program, arguments = doing.command(step, undone_by)
            doing.record("undone by", step=step.id, command=[program, *arguments])

        def began(pid: int, started: float) -> None:
            doing.record("run started", step=step.id, pid=pid, started=started)

        channels = Channels(stdin.encode(), env, None, began)
        if not step.text("stdout"):
            completed = doing.run(step, step.texts("command"), seconds, channels)
        else:
            to = doing.machine.host(doing.fill(step, step.text("stdout")))
            with doing.machine.effects.create(to) as file:
                channels = Channels(stdin.encode(), env, file, began)
                completed = doing.run(step, step.texts("command"), seconds, channels)
                file.sync()
        return _judged(step, rule, doing, completed)

    def _clear_made(self, step: Step, doing: Doing) -> None:
        for made in step.writes:
            host = doing.machine.host(doing.fill(step, made))
            doing.machine.effects.make_folders(host.parent)
            if host.is_symlink() or host.is_file():
                doing.machine.effects.remove_file(host)
            elif host.is_dir():
                doing.machine.effects.remove_tree(host)


_TODO = "Mend what the reason names, then walk again; nothing of it is left half-way."


def _known_end(step: Step, doing: Doing) -> Outcome | None:
    """Return the outcome of a run that was begun before, or ``None`` where it is to be run.

    Raises:
        Waiting: Only a person can say how it ended, and nobody does.
    """
    begun, started = doing.recorded("run begun", step.id), doing.recorded("run started", step.id)
    ended = doing.recorded("run ended", step.id)
    if begun is None or started is None or _at(started) < _at(begun):
        return None  # the gate was never opened, so it never ran
    taken_back = doing.recorded("ended", step.id)
    if taken_back is not None and _at(taken_back) > _at(begun):
        return None  # what it began was ended with an earlier walk
    if ended is not None and _at(ended) > _at(begun):
        if ended["trouble"] or step.texts("tells secrets") or _no_file(step, doing):
            return None  # it ended badly, or what it told or made is not here: once more
        return _kept(step, doing, {"status": ended["status"], "tells": ended["tells"]})
    doing.await_ended(int(str(started["pid"])), float(str(started["started"])))
    rule = doing.rule(step)
    assert isinstance(rule, RunRule)
    if rule.done_when and not missing(doing, step.item, rule.done_when):
        return _kept(step, doing, {"resumed": "done_when holds"})
    answer = "repeat"
    if step.repeat != "safe":
        words = f"How {show_command(step.texts('command'))} ended is not known. Was it done?"
        choices = ("done", "repeat") if step.repeat == "ask" else ("done",)
        asked = Asked(step.item.partition(".")[0], step.id, words, choices=choices)
        answer = doing.ask(asked) or ""
    if answer == "done":
        return _kept(step, doing, {"resumed": "a person says it was done"})
    if answer != "repeat":
        raise Waiting(
            f"how {show_command(step.texts('command'))} ended is not known",
            where=step.id, why="the walk was cut off while it ran",
            todo="Look whether it did its work, then walk again and answer.",
        )  # fmt: skip
    for place in (doing.fill(step, p) for p in step.changes):
        put_back(step, doing, place)
    return None


def _ended_well(step: Step, doing: Doing) -> bool:
    begun, ended = doing.recorded("run begun", step.id), doing.recorded("run ended", step.id)
    return bool(begun and ended and _at(ended) > _at(begun) and not ended["trouble"])


def _at(record: Facts) -> int:
    return int(str(record["at"]))


def _judged(step: Step, rule: RunRule, doing: Doing, completed: Completed) -> Outcome:
    """Return how a run came out, by everything the recipe says of it."""
    told, trouble = _told(rule, completed)
    facts: Facts = {"status": completed.status, "tells": dict(told)}
    for name, value in told.items():
        if name in doing.secrets(step):
            doing.secret(step, name, value)
    trouble = _ended_badly(step, rule, completed) or trouble or _no_file(step, doing)
    trouble = trouble or _disagrees(step, doing, told)
    if not trouble and rule.done_when:
        trouble = "; ".join(missing(doing, step.item, rule.done_when))
    if not trouble:
        doing.settle_down([doing.fill(step, place) for place in step.changes], step.item)
    doing.record("run ended", step=step.id, trouble=trouble, **facts)
    if trouble:
        said = _said(completed)
        return Failed(f"{trouble}{f'; it said: {said}' if said else ''}", _TODO, facts)
    return _kept(step, doing, facts)


def _kept(step: Step, doing: Doing, facts: Facts) -> Outcome:
    names = [base(doing.fill(step, made)) for made in step.writes]
    folder = doing.machine.host(doing.room_for_made(step.item))
    lost = [name for name in names if not (folder / name).is_file()]
    if lost:
        return Failed(f"it made no file {', '.join(lost)}", _TODO, facts)
    doing.keep(step.item, names)
    made: Facts = {"made": list(names)} if names else {}
    return Done({**facts, **made})


def _ended_badly(step: Step, rule: RunRule, completed: Completed) -> str:
    if completed.status < 0:
        return f"it was ended by {_signal(-completed.status)}"
    if completed.status not in rule.exit:
        wanted = " or ".join(map(str, rule.exit))
        return f"it ended with {completed.status}, and {wanted} was expected"
    if completed.left:
        return f"it left {', '.join(completed.left)} running, which was ended"
    return ""


def _signal(number: int) -> str:
    try:
        return signal.Signals(number).name
    except ValueError:
        return f"signal {number}"


def _no_file(step: Step, doing: Doing) -> str:
    for made in step.writes:
        host = doing.machine.host(doing.fill(step, made))
        if host.is_symlink() or not host.is_file():
            return f"it made no file {base(plain(made))}"
        if host.stat().st_size == 0:
            return f"the file {base(plain(made))} that it made is empty"
    return ""


def _told(rule: RunRule, completed: Completed) -> tuple[dict[str, str], str]:
    """Return the values a program told, and what is wrong with them in words."""
    if not rule.tells:
        return {}, ""
    try:
        text = completed.printed.decode("utf-8")
    except UnicodeDecodeError as error:
        return {}, f"what it printed is no valid text (byte {error.start})"
    told: dict[str, str] = {}
    for name, expression in rule.tells.items():
        try:
            matches = ask("expressions", text, expression)
        except Unreadable as error:
            return told, f"{name}: what it printed {error}"
        if len(matches) != 1:
            return told, f"it tells {name} {len(matches)} times, and once was expected"
        told[name] = str(matches[0].value)
    return told, ""


def _disagrees(step: Step, doing: Doing, told: dict[str, str]) -> str:
    """Return where a told value is not what the reading of that name gives here."""
    readings, item = doing.finder(step.item).loaded.recipe.readings, doing.item(step.item)
    for name, value in told.items():
        check = item.checks.get(name)
        if name not in readings or (check is not None and not doing.looked_at(step.item, name)):
            continue
        found = take(doing, step.item, name)
        if isinstance(found, Unknown) or not _same(found, value):
            return f"it tells {name} {value}, and the reading is {found}"
    return ""


def _same(found: Known, told: str) -> bool:
    if isinstance(found.value, int | float) and not isinstance(found.value, bool):
        try:
            return float(told) == found.value
        except ValueError:
            return False
    return str(found) == told


def _said(completed: Completed) -> str:
    """Return the last lines of what a program printed, for a person."""
    text = completed.errors.strip() or completed.output.strip()
    return " / ".join(for_people(line.strip()) for line in text.splitlines()[-3:])[:400]


def _spread(argument: str, unfolding: Unfolding, own: dict[str, str]) -> tuple[str, ...]:
    """Return an argument filled; a part standing alone becomes one argument for each value.

    ``own`` is the value of the part that the command is run once for.
    """
    pieces = parse_template(argument)
    alone = pieces[0].name if len(pieces) == 1 and isinstance(pieces[0], Brace) else None
    if alone is not None and alone not in own and alone in unfolding.parts:
        return tuple(literal(value) for value in unfolding.parts[alone])
    return (unfolding.expand(argument, own),)


def refuse_option(argument: str, value: str, before: Sequence[str], where: str) -> None:
    """Refuse a value that a program would take for an option.

    ``argument`` is the template that ``value`` came of, ``before`` the arguments before it.

    Raises:
        Halted: It begins with ``-`` where the template does not, and no ``--`` stands before it.
    """
    pieces = parse_template(argument)
    given = bool(pieces) and isinstance(pieces[0], Brace)
    if given and value.startswith("-") and "--" not in before:
        raise Halted(
            "a value looks like an option",
            where=where,
            why=f'"{plain(value)}" begins with - and would be taken for one',
            todo="Leave it out of what is chosen, or put -- before it in the recipe.",
        )


def show_command(command: tuple[str, ...]) -> str:
    """Return an argument list for people; an argument with spaces stands in quotes."""
    shown = (plain(a) for a in command)
    return " ".join(f'"{a}"' if not a or " " in a else a for a in shown)
