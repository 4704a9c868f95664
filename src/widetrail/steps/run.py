"""``run``: one of the application's programs, an argument list, never a shell line.

It is let run behind a gate that the journal opens, judged by all that the recipe says of it, and
what it changed is given back where it failed.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from widetrail.errors import Halted, Waiting, WideTrailError
from widetrail.formats.outside import SafePath
from widetrail.machine import Channels, Completed
from widetrail.machine.paths import base
from widetrail.recipe.conditions import parse_duration
from widetrail.recipe.templates import Brace, literal, parse_template, plain
from widetrail.steps.backup import keep_first, put_back, save
from widetrail.steps.command_outcome import last_lines, said, trouble_of, values_told
from widetrail.steps.commands import refuse_option, show_command
from widetrail.steps.journal_events import Record
from widetrail.steps.kind import Act, Rule
from widetrail.steps.outcomes import Done, Failed, Outcome
from widetrail.steps.people import Asked
from widetrail.steps.reading_conditions import holding, missing, unlike_reading
from widetrail.steps.run_events import (
    RECORDS,
    Ended,
    RunBegun,
    RunEnded,
    RunStarted,
    UndoneBy,
    ended_well,
    was_run,
)
from widetrail.steps.run_settings import RunSettings
from widetrail.steps.run_step import Has, RunFacts, RunStep
from widetrail.steps.seat_runs import Statuses, named, run_for_seat
from widetrail.steps.step import Step, Unfolding
from widetrail.steps.undo import UndoAct, WayBack


class Run(Rule[RunSettings], Act[RunStep, Has]):
    """Unfolds into one command, or one for each value of the part that ``per`` names."""

    settings = RunSettings
    step = RunStep
    effect = "starts"
    facts = RunFacts
    records = RECORDS
    takes_over = True
    makes_known = True
    moves_data = True
    of_seats = True

    def unfold(self, settings: RunSettings, unfolding: Unfolding) -> tuple[Step, ...]:
        if settings.per is None:
            return (_one(unfolding, settings, None),)
        return tuple(_one(unfolding, settings, v) for v in unfolding.parts.get(settings.per, ()))

    def words(self, step: RunStep) -> str:
        step = named(step)
        untold = [plain(path) for path in step.writes if path not in step.command]
        made = f", which writes {', '.join(untold)}" if untold else ""
        fed = f", with {plain(step.stdin)} on standard input" if step.stdin is not None else ""
        given = [f"{name}={plain(value)}" for name, value in step.env.items()]
        env = f", with {', '.join(given)}" if given else ""
        changed = ", ".join(map(plain, step.changes))
        changed = f", which changes {changed} (backed up before)" if changed else ""
        end = f", and finally {show_command(step.final_command)}" if step.final_command else ""
        title = f"{plain(step.title)}: " if step.title else "Run: "
        return f"{title}{show_command(step.command)}{fed}{env}{made}{changed}{end}"

    def told_secrets(self, step: RunStep) -> tuple[str, ...]:
        return step.hidden

    def final_command(self, step: RunStep) -> tuple[str, ...]:
        return step.final_command

    def undo_command(self, step: RunStep) -> tuple[str, ...]:
        return step.undo_command

    def undo(self, record: Record, way: WayBack) -> Iterator[UndoAct]:
        if not isinstance(record, UndoneBy):
            yield from super().undo(record, way)
        elif way.is_newest(record):
            step, fate = record.step, way.fate(record.step)
            if fate == "ours" or (fate == "unknown" and step in way.sure):
                yield UndoAct(command=record.command)

    def left_after_undo(self, words: str, *, loose: bool) -> str:
        return f"what this did (the recipe says that it changes nothing): {words}" if loose else ""

    def do(self, step: RunStep, doing: Has) -> Outcome:
        settings = doing.settings(step)
        assert isinstance(settings, RunSettings)
        one = _Run(step, settings, doing)
        if step.seat is not None:
            return run_for_seat(step, Statuses(settings.exit, settings.refused), doing, one.do)
        return one.do()


def _one(unfolding: Unfolding, settings: RunSettings, value: str | None) -> RunStep:
    own = {settings.per: value} if settings.per is not None and value is not None else {}

    def fill(text: str) -> str:
        return unfolding.expand(text, own)

    def filled(command: Sequence[str] | None) -> tuple[str, ...]:
        return tuple(map(fill, command or ()))

    command: list[str] = []
    for argument in settings.run:
        for word in _spread(argument, unfolding, own):
            refuse_option(argument, word, command, unfolding.step_id("run"))
            command.append(word)
    asks = unfolding.loaded.recipe.asks
    return unfolding.step(
        RunStep,
        called="run" if value is None else f"run/{value}",
        command=tuple(command),
        within=settings.within,
        exit=settings.exit,
        title=literal(settings.title or ""),
        stdin=fill(settings.stdin) if settings.stdin is not None else None,
        stdout=fill(settings.stdout) if settings.stdout is not None else None,
        env={name: fill(text) for name, text in sorted(settings.env.items())},
        hidden=tuple(n for n in settings.prints if n in asks and asks[n].secret is not None),
        parts=own,
        undo_command=filled(settings.undo),
        final_command=filled(settings.finally_),
        writes=tuple(fill(made) for _, made in settings.made()),
        changes=tuple(fill(f"{{{place}}}") for place in settings.changes),
        repeat=settings.repeat,
    )


def _spread(argument: str, unfolding: Unfolding, own: dict[str, str]) -> tuple[str, ...]:
    """Return an argument filled; a part standing alone becomes one argument for each value.

    ``own`` is the value of the part that the command is run once for.
    """
    pieces = parse_template(argument)
    alone = pieces[0].name if len(pieces) == 1 and isinstance(pieces[0], Brace) else None
    if alone is not None and alone not in own and alone in unfolding.parts:
        return tuple(literal(value) for value in unfolding.parts[alone])
    return (unfolding.expand(argument, own),)


class _Run:
    """One command of a step, on its way to its end."""

    def __init__(self, step: RunStep, settings: RunSettings, doing: Has) -> None:
        self._step, self._settings, self._doing = step, settings, doing

    @property
    def _places(self) -> list[str]:
        return [self._doing.fill(self._step, place) for place in self._step.changes]

    @property
    def _files(self) -> list[str]:
        """The files that it makes, on this machine."""
        return [self._doing.fill(self._step, made) for made in self._step.writes]

    def do(self) -> Outcome:
        """Run the command, and judge how it ended."""
        step, doing = self._step, self._doing
        places = self._places
        known = self._known_end()
        if isinstance(known, Done):
            return self._with_aside(known)
        if known is not None:
            return known
        try:
            for place in places:
                save(step, doing, place)
            self._clear_made()
            outcome = self._start()
        except Halted:
            if not ended_well(step.id, doing):  # else only what comes after it is to be done again
                self._give_back(places)
            raise
        except WideTrailError as error:
            outcome = Failed(str(error), error.todo or _TODO)
        if isinstance(outcome, Failed):
            self._give_back(places)
            return outcome
        assert isinstance(outcome, Done)
        return self._with_aside(outcome)

    def _with_aside(self, outcome: Done) -> Outcome:
        """Return an outcome with where what was there before is kept."""
        kept = (keep_first(self._step, self._doing, place) for place in self._places)
        return Done(outcome.facts.model_copy(update={"backed_up": tuple(k for k in kept if k)}))

    def _give_back(self, places: Sequence[str]) -> None:
        """Put back what was saved, and remove what was made half; nothing came of the run."""
        for place in places:
            put_back(self._step, self._doing, place)
        self._clear_made()

    def _clear_made(self) -> None:
        effects = self._doing.machine.effects
        for path in self._files:
            host = self._doing.machine.host(path)
            effects.make_folders(host.parent, 0o700)
            if host.is_symlink() or host.is_file():
                effects.remove_file(host)
            elif host.is_dir():
                effects.remove_tree(host)

    def _start(self) -> Outcome:
        step, doing = self._step, self._doing
        if step.final_command:
            doing.at_end(step, step.final_command)
        stdin = doing.fill(step, step.stdin) + "\n" if step.stdin is not None else ""
        env = {name: doing.fill(step, value) for name, value in step.env.items()}
        # what is filled in last is known first: nothing may halt between journal and start
        doing.command(step, step.command)
        doing.record(RunBegun(step=step.id))
        if step.undo_command:
            program, arguments = doing.command(step, step.undo_command)
            back, before = (program, *arguments), self._is_done()
            doing.record(UndoneBy(step=step.id, command=back, before=before))

        def began(pid: int, started: float) -> None:
            doing.record(RunStarted(step=step.id, pid=pid, started=started))

        seconds = parse_duration(step.within).total_seconds()
        channels = Channels(stdin.encode(), env, None, began)
        if step.stdout is None:
            completed = doing.run(step, step.command, seconds, channels)
        else:
            to = doing.machine.host(doing.fill(step, step.stdout))
            with doing.machine.effects.create(to) as file:
                channels = Channels(stdin.encode(), env, file, began)
                completed = doing.run(step, step.command, seconds, channels)
                file.sync()
        return self._judged(completed)

    def _known_end(self) -> Outcome | None:
        """Return the outcome of a run that was begun before, or ``None`` where it is to be run.

        Raises:
            Waiting: Only a person can say how it ended, and nobody does.
        """
        step, doing = self._step, self._doing
        if not was_run(step.id, doing):
            return None
        begun, started, ended, taken_back = (
            doing.recorded(RunBegun, step.id),
            doing.recorded(RunStarted, step.id),
            doing.recorded(RunEnded, step.id),
            doing.recorded(Ended, step.id),
        )
        assert begun is not None and started is not None
        if taken_back is not None and taken_back.at > begun.at:
            return None  # what it began was ended with an earlier walk
        if ended is not None and ended.at > begun.at:
            if ended.trouble or step.hidden or self._no_file():
                return None  # it ended badly, or what it told or made is not here: once more
            return self._kept(RunFacts(status=ended.status, told=ended.tells))
        doing.await_ended(started.pid, started.started)
        wanted = self._settings.done_when
        if wanted and not missing(doing, step.item, wanted, step.parts):
            return self._kept(RunFacts(resumed="done_when"))
        answer = "repeat"
        if step.repeat != "safe" and step.seat is None:  # there the program's word decides
            words = f"How {show_command(step.command)} ended is not known. Was it done?"
            choices = ("done", "repeat") if step.repeat == "ask" else ("done",)
            asked = Asked(step.item.partition(".")[0], step.id, words, choices=choices)
            answer = doing.ask(asked) or ""
        if answer == "done":
            return self._kept(RunFacts(resumed="person"))
        if answer != "repeat":
            raise Waiting(
                f"how {show_command(step.command)} ended is not known",
                where=step.id,
                why="the walk was interrupted while it ran",
                todo="Check whether it did its work, then walk again and answer.",
            )
        for place in self._places:
            put_back(step, doing, place)
        return None

    def _judged(self, completed: Completed) -> Outcome:
        """Return how a run came out, by everything the recipe says of it."""
        step, doing, settings = self._step, self._doing, self._settings
        told, wrong = values_told(settings.prints, completed)
        for name, value in told.items():
            if name in doing.secrets(step):
                doing.secret(step, name, value)
        trouble = trouble_of(completed, settings.exit) or wrong or self._no_file()
        trouble = trouble or unlike_reading(doing, step.item, told, step.parts)
        if not trouble and settings.done_when:
            trouble = "; ".join(missing(doing, step.item, settings.done_when, step.parts))
        facts = RunFacts(status=completed.status, told=told)
        if not trouble:
            doing.settle_down(self._places, step.item)
        else:
            facts = facts.model_copy(update={"is_done": self._is_done()})
        status, done = completed.status, facts.is_done
        doing.record(RunEnded(step=step.id, trouble=trouble, status=status, tells=told, done=done))
        if trouble:
            return Failed(f"{trouble}{said(last_lines(completed))}", _TODO, facts)
        return self._kept(facts)

    def _is_done(self) -> bool | None:
        """Return whether what the run makes is there now; ``None`` where nothing tells."""
        wanted = self._settings.done_when
        return holding(self._doing, self._step.item, wanted, self._step.parts) if wanted else None

    def _kept(self, facts: RunFacts) -> Outcome:
        step, doing = self._step, self._doing
        names = [base(path) for path in self._files]
        folder = doing.machine.host(doing.room_for_made(step.item))
        if lost := [reason for name in names if (reason := _not_made(folder / name))]:
            return Failed("; ".join(lost), _TODO, facts)
        doing.keep(step.item, names)
        return Done(facts.model_copy(update={"made": tuple(names)}))

    def _no_file(self) -> str:
        found = (_not_made(self._doing.machine.host(path)) for path in self._files)
        return next(filter(None, found), "")


def _not_made(host: SafePath) -> str:
    """Return what is missing of a file or folder that a command makes, or an empty text."""
    if host.is_dir():
        if any(path.is_file() for path in host.below()):
            return ""
        return f"the folder {host.name} that it made has no file"
    if not host.is_file():
        return f"it made no file {host.name}"
    return f"the file {host.name} that it made is empty" if host.stat().st_size == 0 else ""


_TODO = "Fix the cause above, then walk again; nothing incomplete is left."
