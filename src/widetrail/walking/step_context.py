"""All that a walk lends to its steps: programs, secrets and the person, and what is below."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from functools import cached_property

from widetrail.errors import Halted, Waiting, WentWrong, WideTrailError
from widetrail.finding import (
    Unknown,
)
from widetrail.formats.outside import SafePath
from widetrail.machine import Channels, Completed
from widetrail.machine.paths import join
from widetrail.machine.processes import started_at
from widetrail.parcel.layout import SERIAL
from widetrail.recipe.templates import (
    ROOTS,
    Brace,
    as_segment,
    braces,
    is_path,
    literal,
    parse_template,
    plain,
)
from widetrail.steps import (
    Asked,
    Step,
    Task,
    act_of,
)
from widetrail.steps.commands import refuse_option
from widetrail.steps.run_events import Ended, RunBegun
from widetrail.walking.path_context import PathContext
from widetrail.walking.station_seats import StationSeats

EXCHANGED_NAMES = ("request", "answer")

END_WITHIN = 60.0
"""Seconds that a command may take which is run however the leg ends."""


class WalkDoing(PathContext):
    """All that the steps of a leg may use; see ``steps.contexts``."""

    @cached_property
    def seats(self) -> StationSeats:
        return StationSeats(self)

    def settle_down(self, places: Sequence[str], item: str) -> None:
        volumes: dict[str, SafePath] = {}
        for path in (*places, self.machine.root("config"), self.made_room(item)):
            host = self.machine.host(path)
            there = next(h for h in (host, *host.parents) if h.is_dir())
            volumes.setdefault(self.machine.room(path).volume, there)
        for host in volumes.values():
            self.machine.effects.barrier(host)

    def await_ended(self, pid: int, started: float) -> None:
        def what() -> str:
            live = started and abs(started_at(pid) - started) < 0.01
            return f"process {pid}, which an earlier walk started, is still running" if live else ""

        self.await_(what, "Wait until it has ended, then walk again.")

    def fill(self, step: Step, text: str) -> str:
        pieces, filled = parse_template(text), []
        for number, piece in enumerate(pieces):
            value = self._value(step, piece.name) if isinstance(piece, Brace) else piece
            inner = number and isinstance(piece, Brace) and is_path(pieces)
            filled.append(as_segment(value) if inner else value)
        return "".join(filled)

    def _value(self, step: Step, name: str) -> str:
        if name == "parcel":
            return self.room_for_made(step.item)
        if name in EXCHANGED_NAMES and self.planned(step.item).kind == "licence":
            about = self.seats.exchange(step.item)
            file = about.request if name == "request" else about.answer
            return join(self.room_for_made(step.item), file)
        recipe = self.loaded(step.item).recipe
        if (step.item, name) in self._secrets:
            return self._secrets[step.item, name]
        if name in recipe.asks:
            return self._asked_for(step, name)
        if (told := self._told(step.item).get(name)) is not None:
            return told
        finder = self.finder(step.item)
        if name in recipe.readings:
            answer = finder.reading(name)
            if isinstance(answer, Unknown):
                raise self._unknown(step, name, answer.reason)
            return str(answer)
        known = finder.path(f"{{{name}}}")
        if known is None:
            raise self._unknown(step, name, "nothing on this computer says it")
        return known

    def insist_known(self, step: Step) -> None:
        """Raise where something that a step gives its program or a person is not known here.

        Raises:
            Halted: It is not known, or the program is not here.
        """
        if step.main_command:
            self.command(step, step.main_command)
        for text in step.given:
            self.fill(step, text)

    def shown(self, step: Step) -> Step:
        """Return a step as people are shown it: with every folder and program known here put in."""

        def known(name: str) -> str | None:
            if name not in ROOTS and name.partition(".")[0] not in places:
                return None
            return finder.path(f"{{{name}}}")

        finder, places = self.finder(step.item), self.loaded(step.item).recipe.places
        if step.seat is not None and step.seat.stem:  # which try it is is known here only
            stem = literal(self.seats.exchange(step.item, step.seat.purpose).stem)
            seat = step.seat.model_copy(update={"stem": stem})
            step = step.model_copy(update={"seat": seat})
        programs = finder.programs()
        filled = step.refilled(known)
        commands = {}
        for name, command in filled.commands.items():
            program = programs.get(plain(step.commands[name][0]))
            first = step.commands[name][0] if program is None else literal(program)
            commands[name] = (first, *command[1:])
        return filled.model_copy(update=commands)

    def _unknown(self, step: Step, name: str, why: str) -> Halted:
        return Halted(
            f"{{{name}}} is not known on {self.machine.name}",
            where=step.id,
            why=why,
            todo="See docs/reference.md, step run, for what may stand in braces.",
        )

    def _told(self, item: str) -> dict[str, str]:
        """Return what programs told about the item, here and at the stations before."""
        told: dict[str, str] = {}
        for facts in self._facts_of(item):
            told |= facts.told
        return told

    def command(self, step: Step, command: Sequence[str]) -> tuple[str, tuple[str, ...]]:
        name, *arguments = command
        program = self.finder(step.item).programs().get(plain(name))
        if program is None:
            known = ", ".join(self.application(step.item).programs) or "none"
            raise Halted(
                f'"{plain(name)}" is not a program of {self.application(step.item).name}',
                where=step.id,
                why=f"its programs are: {known}",
                todo="A step starts only programs that the recipe declares.",
            )
        filled: list[str] = []
        for argument in arguments:
            hidden = {b.name for b in parse_template(argument) if isinstance(b, Brace)}
            if hidden & self.secrets(step):
                raise Halted(
                    "a secret would stand in an argument, where other programs see it",
                    where=step.id,
                    todo="Give it through stdin in the recipe.",
                )
            value = self.fill(step, argument)
            refuse_option(argument, value, filled, step.id)
            filled.append(value)
        return program, tuple(filled)

    def run(
        self,
        step: Step,
        command: Sequence[str],
        seconds: float,
        channels: Channels = Channels(),  # noqa: B008 - it is frozen
    ) -> Completed:
        program, arguments = self.command(step, command)
        return self.machine.start(program, arguments, seconds, channels)

    def at_end(self, step: Step, command: Sequence[str]) -> None:
        self._ends[step.id] = (step, tuple(command))

    def end_later(self) -> None:
        """Have what an earlier walk was still to end be run at the end of this one."""
        for step in (s for s in self.plan.steps if s.station == self.station):
            begun = self.recorded(RunBegun, step.id)
            ended = self.recorded(Ended, step.id)
            command = act_of(step).final_command(step)
            if command and begun is not None and (ended is None or begun.at > ended.at):
                self.at_end(step, command)

    def end(self) -> list[str]:
        """Run what is to be run however the leg ends; return what went wrong."""
        wrong = []
        for step, command in reversed(self._ends.values()):
            try:
                done = self.run(step, command, END_WITHIN)
                trouble = f"it ended with {done.status}: {done.errors.strip()[:200]}"
                trouble = trouble if done.status else ""
            except WideTrailError as error:
                trouble = str(error)
            if trouble:
                wrong.append(self.masked(f"{plain(' '.join(command))}: {trouble}"))
            else:
                self.settle_down([self.fill(step, place) for place in step.changes], step.item)
                self.record(Ended(step=step.id))
        self._ends.clear()
        return wrong

    def secrets(self, step: Step) -> frozenset[str]:
        asks = self.loaded(step.item).recipe.asks
        own = {SERIAL} if self.planned(step.item).kind == "licence" else set()
        return frozenset({name for name, ask in asks.items() if ask.secret is not None} | own)

    def secret(self, step: Step, name: str, value: str) -> None:
        self._hide(step.item, name, value)

    @property
    def secrets_by_scope(self) -> Mapping[tuple[str, str], str]:
        """The secrets that were answered and told, by whose they are and their names."""
        return {key: value for key, value in self._secrets.items() if key in self._hidden}

    def asked_before(self, steps: Iterable[Step]) -> None:
        """Ask for everything that ``steps`` need, before any of them begins.

        Raises:
            Waiting: Nobody answers.
        """
        told: set[tuple[str, str]] = set()
        for step in steps:
            needed = _given(step) | self._given_to_readings(step)
            for name in sorted(needed & self.loaded(step.item).recipe.asks.keys()):
                if (step.item, name) not in told:
                    self._asked_for(step, name)
            if step.number:
                told |= {(step.item, name) for name in self.settings(step).names_told}

    def answered(self, recipe: str, name: str) -> str | None:
        return self._secrets.get((recipe, name))

    def _given_to_readings(self, step: Step) -> set[str]:
        """Return the names in braces of what readings give to programs, where they may be asked."""
        if not self.finder(step.item).ask_programs:
            return set()
        cases = (c for cs in self.loaded(step.item).recipe.readings.values() for c in cs)
        return {brace.name for case in cases for brace in braces(case.stdin or "")}

    def _asked_for(self, step: Step, name: str) -> str:
        """Return the answer to what the recipe asks for; it is asked for once at this station."""
        loaded = self.loaded(step.item)
        ask = loaded.recipe.asks[name]
        own = step.item if self._is_told(step.item, name) else ""
        scope = own or loaded.id
        if (scope, name) not in self._secrets:
            words = ask.secret or ask.text or name
            if own:
                words = f"{words} ({self.planned(own).title})"
            asked = Asked(
                loaded.id, name, words, own, ask.secret is not None, made=self.station == "old"
            )
            answer = self.ask(asked)
            if not answer:
                raise Waiting(
                    f"no value was given for: {words}",
                    where=step.id,
                    why="it is asked for on each computer, and is not stored",
                    todo="Walk at a terminal, or give the answer"
                    f" {own or loaded.id}.{name} with --answers.",
                )
            self._secrets[scope, name] = answer
            if ask.secret is not None:
                self._hide(scope, name, answer)
        return self._secrets[scope, name]

    def _is_told(self, item: str, name: str) -> bool:
        """Return whether a program tells ``name``, so that it is another for each item."""
        rules = (step.rule for leg in self.route(item).legs for step in leg.steps)
        return any(name in rule.names_told for rule in rules)

    def ask(self, asked: Asked) -> str | None:
        answer = self._company.hands.answer(asked)
        self.looked += 1
        return answer

    def have_done(self, step: Step, task: Task) -> bool:
        def play(command: Sequence[str]) -> None:
            done = self.run(step, command, 600)
            if done.status != 0:
                raise WentWrong(
                    "the command that stands for the person failed",
                    where=" ".join(command),
                    why=f"it ended with {done.status}: {done.errors.strip()[:200]}",
                )
            self.settle_down((), step.item)

        done = self._company.hands.act(task, play)
        self.looked += 1
        return done


def _given(step: Step) -> set[str]:
    """Return the names in braces that a step gives to its program or to a person."""
    texts = (*step.given, *step.main_command)
    return {p.name for text in texts for p in parse_template(text) if isinstance(p, Brace)}
