"""What the steps of a leg may use of the machine, the parcel, the journal and the person."""

from __future__ import annotations

import re
import shutil
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from datetime import datetime
from functools import cached_property

from widetrail.errors import Halted, Waiting, WentWrong, WideTrailError
from widetrail.finding import (
    Absent,
    Atlas,
    Finder,
    Found,
    How,
    Instance,
    Moved,
    Several,
    Unknown,
)
from widetrail.finding.atlas import taking
from widetrail.finding.stores import StoreKind
from widetrail.formats.canonical import digest
from widetrail.formats.interface import Platform
from widetrail.formats.masking import Masker
from widetrail.formats.outside import SafePath
from widetrail.machine import Channels, Completed, Machine
from widetrail.machine.effects import started_at
from widetrail.machine.paths import base, is_absolute, is_within, join, parent, trouble_with_name
from widetrail.machine.platforms import STRICTEST
from widetrail.machine.written import KnownBearings, is_there
from widetrail.parcel import Parcel
from widetrail.parcel.cargo import CargoReader, CargoWriter
from widetrail.parcel.parcel import SERIAL
from widetrail.parcel.segments import CHUNK
from widetrail.planning import Plan, PlannedItem
from widetrail.recipe import Item, Loaded, Route, Station
from widetrail.recipe.models import Application
from widetrail.recipe.settings import Settings
from widetrail.recipe.templates import (
    ROOTS,
    Brace,
    as_segment,
    is_path,
    literal,
    parse_template,
    plain,
)
from widetrail.steps import (
    Asked,
    Fact,
    Facts,
    Hands,
    Noted,
    Onlooker,
    Outcome,
    Packed,
    Packing,
    Step,
    Task,
    WrittenAt,
    act_of,
    read_outcome,
)
from widetrail.steps.commands import refuse_option
from widetrail.steps.contexts import Record
from widetrail.steps.note import NoteFacts
from widetrail.steps.publish import PublishFacts, PublishStep
from widetrail.steps.run import RunStep
from widetrail.steps.run_records import place_of
from widetrail.walking.hands import Answers
from widetrail.walking.journal import Journal
from widetrail.walking.own import clear_work
from widetrail.walking.patience import Patience, Silent
from widetrail.walking.scan import Scan
from widetrail.walking.seats import ROOM as SEATS_ROOM
from widetrail.walking.station_seats import StationSeats

EXCHANGED_NAMES = ("request", "answer")


@dataclass(frozen=True)
class Company:
    """Who is there while a leg is walked: hands that help, eyes that watch, and time."""

    hands: Hands = field(default_factory=Answers)
    onlooker: Onlooker = field(default_factory=Silent)
    patience: Patience = field(default_factory=Patience)


class WalkDoing:
    """What the steps of a leg may use; see ``steps.Doing``."""

    def __init__(
        self,
        parcel: Parcel,
        machine: Machine,
        station: Station,
        journal: Journal,
        workroom: str,
        finders: Mapping[str, Finder],
        company: Company,
        now: datetime,
    ) -> None:
        self.machine, self.workroom, self.now = machine, workroom, now
        self.onlooker, self.masker = company.onlooker, Masker()
        self.parcel, self.journal, self.station = parcel, journal, station
        self.finders, self._company = finders, company
        self.writer: CargoWriter | None = None
        self._reader: CargoReader | None = None
        self.made: dict[str, str] = {}
        self._made_for: dict[str, str] = {}
        self._secrets: dict[tuple[str, str], str] = {}
        self._hidden: set[tuple[str, str]] = set()
        self._ends: dict[str, tuple[Step, tuple[str, ...]]] = {}
        self._fetched: set[str] = set()
        if parcel.seal is not None and parcel.seal.is_open:
            for (scope, name), value in parcel.secrets().items():
                self._hide(scope, name, value)
        self._done: dict[str, Outcome] = {}
        self._read = 0
        """How many records of the journal were looked through for what was done."""
        self.scan = Scan(machine, join(workroom, "scan"))

    # The plan and the recipes

    @property
    def plan(self) -> Plan:
        return self.parcel.plan

    def planned(self, item: str) -> PlannedItem:
        return self.plan.item(item)

    def loaded(self, item: str) -> Loaded:
        return self.finders[self.planned(item).recipe].loaded

    def item(self, item: str) -> Item:
        found = self.loaded(item).recipe.known_as_item(self.planned(item).item)
        assert found is not None, "a visit looks whether the recipes have every item"
        return found

    @cached_property
    def seats(self) -> StationSeats:
        return StationSeats(self)

    def application(self, item: str) -> Application:
        return self.loaded(item).recipe.application

    def route(self, item: str) -> Route:
        wanted = self.planned(item).route
        return next(route for route in self.item(item).routes if route.name == wanted)

    def is_told(self, item: str) -> bool:
        return self.finders[self.planned(item).recipe].is_told(self.item(item).from_)

    def settings(self, step: Step) -> Settings:
        rules = [rule for leg in self.route(step.item).legs for rule in leg.steps]
        return rules[step.number - 1].rule

    def other(self) -> str:
        return self.plan.station("old" if self.station == "new" else "new").machine

    def carved(self, item: str) -> tuple[str, ...]:
        return self.planned(item).carved

    # Paths of old, here

    def store(self, item: str) -> StoreKind | None:
        return self.planned(item).store or None

    def written(self, item: str) -> tuple[WrittenAt, ...]:
        return self.planned(item).written

    def outside(self, item: str) -> Mapping[str, str]:
        return self.planned(item).from_outside

    def place_on_old(self, item: str) -> str:
        return self.planned(item).old_path

    def names_on_old(self, item: str) -> Mapping[str, str]:
        return {new: old for old, new in self.planned(item).renamed.items()}

    def atlas(self, item: str, target: str, came_as: Mapping[str, str] | None = None) -> Atlas:
        mine, old = self.planned(item), self.plan.station("old")
        bearings = KnownBearings(old.machine, self.platform_of_old, old.roots, old.variables)
        placed = (mine, *(i for i in self.plan.placed if i.id != item))
        to = {i.id: self._beside(i.id) or i.new_path for i in placed} | {item: target}
        moved = [
            self._moved(i, to[i.id], (came_as or {}) if i.id == item else self._came_as(i.id))
            for i in placed
        ]
        for recipe in self.plan.recipes:
            here = self.finders[recipe.id].pinnable()
            moved += [
                Moved(path, here[name], carried=False)
                for name, path in recipe.places.items()
                if name in here
            ]
        for i in self.plan.placed:
            moved += [Moved(path, join(to[i.id], name)) for name, path in i.from_outside.items()]
        return Atlas(bearings, self.machine, moved, lambda path: is_there(self.machine, path))

    def _moved(self, item: PlannedItem, target: str, came_as: Mapping[str, str]) -> Moved:
        """Return an item's place as it moves: what of it is carried, and what that is called."""
        was = {new: old for old, new in item.renamed.items()}
        renames = {**item.renamed, **{was.get(n, n): called for n, called in came_as.items()}}
        takes = None
        if self._copied(item.id) and not (item.single or item.store):
            paths = [was.get(e.path, e.path) for e in self.packed.of(item.id) if e.path]
            takes = taking(paths, self.platform_of_old)
        return Moved(item.old_path, target, True, renames, takes)

    def _copied(self, item: str) -> bool:
        """Return whether an item's files come as they are, at its place."""
        return any(not step.elsewhere for step in self._publishing(item))

    def _came_as(self, item: str) -> Mapping[str, str]:
        """Return what the paths of an item below its place are called that came beside others."""
        found: dict[str, str] = {}
        for facts in self._published(item):
            found |= facts.came_as
        return found

    def _publishing(self, item: str) -> list[PublishStep]:
        return [s for s in self.plan.steps if s.item == item and isinstance(s, PublishStep)]

    def _published(self, item: str = "") -> list[PublishFacts]:
        """Return the facts of all that was put in place here, or of what of an item was."""
        mine = {step.id for step in self._publishing(item)}
        records = (r for r in self.journal.records if r["event"] == "published")
        told = [r["facts"] for r in records if not item or r["step"] in mine]
        return [PublishFacts.model_validate(facts) for facts in told]

    def came_beside(self) -> Mapping[str, str]:
        found: dict[str, str] = {}
        for facts in self._published():
            to = facts.to
            found |= {join(to, n): join(to, c) for n, c in facts.came_as.items()}
        return found

    def was_carried(self, path: str) -> bool:
        return any(
            is_within(path, to, self.machine.platform) and path in names
            for to, names in self._carried_to
        )

    @cached_property
    def _carried_to(self) -> list[tuple[str, frozenset[str]]]:
        """Where the items come whose files are carried, with the path of each."""
        found = []
        for item in self.plan.placed:
            if self._copied(item.id) and not (item.single or item.store):
                to = self._beside(item.id) or item.new_path
                names = frozenset(join(to, e.path) for e in self.packed.of(item.id) if e.path)
                found.append((to, names))
        return found

    def dangling(self, item: str) -> Sequence[str]:
        mine = self.planned(item)
        atlas = self.atlas(item, self._beside(item) or mine.new_path, self._came_as(item))
        return [new for path in mine.dangling if (new := atlas.counterpart(path)) is not None]

    def place_told(self, item: str, place: str) -> tuple[str, str]:
        finder = self.finder(item)
        where = finder.place(place)
        path = where.path if isinstance(where, Found | Absent) else ""
        return path, finder.untold(place)

    @property
    def platform_of_old(self) -> Platform:
        return self.plan.station("old").facts["platform"]

    def landed(self, item: str) -> Sequence[tuple[str, Sequence[str]]]:
        planned = self.planned(item)
        targets = [facts.to for facts in self._published(item)]
        came_as, passed = self._came_as(item), self._passed_by(item)
        files = (e.path for e in self.packed.of(item) if e.kind == "file")
        paths = [came_as.get(path, path) for path in files if path not in passed]
        if not self._publishing(item) and not planned.store:
            targets = [planned.new_path]
            paths = [rule.file for rule in planned.written if "*" not in rule.file]
        if planned.single:
            return [(parent(target), [base(target)]) for target in dict.fromkeys(targets)]
        return [(target, paths) for target in dict.fromkeys(targets)]

    def _passed_by(self, item: str) -> set[str]:
        """Return the paths of an item that were not put in place, since others were there."""
        return {path for facts in self._published(item) for path in facts.passed_by}

    def told_elsewhere(self, item: str) -> Sequence[str]:
        return [p for facts in self._facts_of(item) for p in facts.of("elsewhere", "unsayable")]

    def _facts_of(self, item: str) -> Iterator[Facts]:
        """Give the facts of every step of an item that was done, here or at stations before."""
        for step, outcome in {**self.parcel.outcomes, **self._done_here()}.items():
            if step.startswith(f"{item}/"):
                yield outcome.facts

    def old_paths(self, item: str) -> tuple[str, ...]:
        old, platform = self.plan.station("old"), self.machine.platform
        named = [old.roots.get("home", ""), *(i.old_path for i in self.plan.placed)]
        for recipe in self.plan.recipes:
            mine = self.finders[recipe.id].pinnable()
            named += [path for name, path in recipe.places.items() if path != mine.get(name)]
        named = [path for path in named if is_absolute(path, self.platform_of_old)]
        own = [self.workroom, self.parcel.folder.as_posix()]
        if old.machine.casefold() not in ("", "localhost", self.machine.name.casefold()):
            own.append(f"//{old.machine}")
        homes = [self.machine.root(name) for name in ("home", "documents")]
        here = [*(i.new_path for i in self.plan.placed), *homes]
        kept = [p for p in named if p and not any(h and is_within(h, p, platform) for h in here)]
        return tuple(dict.fromkeys([*kept, *own]))

    def looked_at(self, item: str, check: str) -> bool:
        return self.item(item).checks[check].looked_at(self.planned(item).parts)

    # The machine

    def finder(self, item: str) -> Finder:
        planned = self.planned(item)
        finder = self.finders[planned.recipe].fresh()
        if planned.kind == "licence":  # the commands by which it is asked are shown beforehand
            finder.ask_programs = True
        place = self.item(item).from_
        if beside := self._beside(item) or self._put_elsewhere(item):
            return finder.within(place, Instance(beside, base(beside), None, How("pinned")))
        if not planned.instance:
            return finder
        name = planned.instance if self.station == "old" else planned.new_instance
        there = finder.place(place)
        listed = there.instances if isinstance(there, Several) else ()
        pinned = self.pinned(item)
        own = [i for i in listed if i.path == pinned] or [i for i in listed if i.name == name]
        instance = own[0] if own else Instance(pinned, name, None, How("each"))
        return finder.within(place, instance)

    def _beside(self, item: str) -> str:
        """Return where on new the item came beside its place, or an empty text."""
        ids = [s.id for s in self._publishing(item) if not s.elsewhere]
        for step in ids if self.station == "new" else ():
            to = self._where_published(step)
            if to and to != self.pinned(item):
                return to
        return ""

    def _where_published(self, step: str) -> str:
        """Return where a step put its item, or an empty text while it did not."""
        record = self.journal.newest("published", step=step)
        return PublishFacts.model_validate(record["facts"]).to if record is not None else ""

    def _put_elsewhere(self, item: str) -> str:
        """Return the path that the recipe has the item copied to, where that is what it is on new:
        no program takes it in from there, and it is not removed again."""
        mine = [s for s in self.plan.steps if s.item == item and s.station == "new"]
        given = [s for s in self._publishing(item) if s.elsewhere]
        moved_on = any(act_of(s).takes_over for s in mine)
        if self.station != "new" or len(given) != 1 or moved_on:
            return ""
        return self._where_published(given[0].id)

    def pinned(self, item: str) -> str:
        planned = self.planned(item)
        return planned.old_path if self.station == "old" else planned.new_path

    def put_there(self) -> tuple[str, ...]:
        return tuple(facts.to for facts in self._published())

    def open_signs(self, item: str) -> str:
        return open_signs(self.finder(item))

    def await_closed(self, item: str) -> None:
        name = self.application(item).name
        todo = f"Close {name} (if it ended badly, open and close it once), then walk again."

        def what() -> str:
            signs = self.open_signs(item)
            return f"{name} is open on {self.machine.name}: {signs}" if signs else ""

        self.await_(what, todo)

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
            return f"process {pid}, which an earlier walk started, still runs" if live else ""

        self.await_(what, "Wait until it has ended, then walk again.")

    def await_(
        self, what: Callable[[], str], todo: str, seconds: float | None = None, grace: float = 0.0
    ) -> None:
        patience = self._company.patience
        patience.await_(lambda: self.masked(what()), todo, self.onlooker, seconds, grace)

    def clock(self) -> float:
        return self._company.patience.clock()

    # Programs

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
            raise self._unknown(step, name, "nothing on this machine tells it")
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
            todo="See docs/recipe-language.md for what may stand in braces.",
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
                f'"{plain(name)}" is no program of {self.application(step.item).name}',
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
            begun = self.recorded("run begun", step.id)
            ended = self.recorded("ended", step.id)
            command = step.ended_by if isinstance(step, RunStep) else ()
            if command and begun is not None and _newer(begun, ended):
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
                self.record("ended", step=step.id)
        self._ends.clear()
        return wrong

    def has_made(self, step: Step, outcome: Outcome) -> bool:
        """Return whether the files are here that a step made in a walk which was cut off."""
        folder = self.machine.host(self.made_room(step.item))
        return all((folder / name).is_file() for name in outcome.facts.made)

    def keep_again(self, step: Step, outcome: Outcome) -> None:
        """Put the files into the parcel that a step made in a walk which was cut off."""
        if made := outcome.facts.made:
            self.keep(step.item, made)

    def tidy(self) -> None:
        """Remove what only a walk that goes on needs."""
        clear_work(self.machine, self.workroom, self.journal.records)

    # The person

    def secrets(self, step: Step) -> frozenset[str]:
        asks = self.loaded(step.item).recipe.asks
        own = {SERIAL} if self.planned(step.item).kind == "licence" else set()
        return frozenset({name for name, ask in asks.items() if ask.secret is not None} | own)

    def secret(self, step: Step, name: str, value: str) -> None:
        self._hide(step.item, name, value)

    def _hide(self, scope: str, name: str, value: str) -> None:
        """Keep a secret for this walk, which nothing that is shown or written holds."""
        self.masker.add(name, value)
        self._secrets[scope, name] = value
        self._hidden.add((scope, name))

    @property
    def secrets_by_scope(self) -> Mapping[tuple[str, str], str]:
        """The secrets that were answered and told, by whose they are and their names."""
        return {key: value for key, value in self._secrets.items() if key in self._hidden}

    def masked(self, text: str) -> str:
        return self.masker.mask(text)

    def masked_outcome(self, written: Mapping[str, Fact]) -> dict[str, Fact]:
        """Return an outcome as it is written down, without any secret; counts stay."""
        facts = written["facts"]
        assert isinstance(facts, dict)
        mask = self.masker.mask_all
        told = {name: v if isinstance(v, int) else mask(v) for name, v in facts.items()}
        return {**{name: mask(value) for name, value in written.items()}, "facts": told}

    def asked_before(self, steps: Iterable[Step]) -> None:
        """Ask for everything that ``steps`` need, before any of them begins.

        Raises:
            Waiting: Nobody answers.
        """
        told: set[tuple[str, str]] = set()
        for step in steps:
            for name in sorted(_given(step) & self.loaded(step.item).recipe.asks.keys()):
                if (step.item, name) not in told:
                    self._asked_for(step, name)
            if step.number:
                told |= {(step.item, name) for name in self.settings(step).names_told}

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
                    f"nobody answers: {words}",
                    where=step.id,
                    why="it is asked for at each station, and is kept nowhere",
                    todo=f"Walk at a terminal, or give {own or loaded.id}.{name} with --answers.",
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
        return self._company.hands.answer(asked)

    def have_done(self, step: Step, task: Task) -> bool:
        def play(command: Sequence[str]) -> None:
            done = self.run(step, command, 600)
            if done.status != 0:
                raise WentWrong(
                    "what plays the person failed",
                    where=" ".join(command),
                    why=f"it ended with {done.status}: {done.errors.strip()[:200]}",
                )
            self.settle_down((), step.item)

        return self._company.hands.act(task, play)

    # The parcel

    @contextmanager
    def cargo(self) -> Iterator[None]:
        """Open the cargo for a leg: to be packed on old, to be read elsewhere."""
        if self.station == "old":
            self.writer = self.parcel.writer(self.now, self._packed_so_far, self.scan)
            with self.writer:
                yield
                self.writer.finish()
                self.scan.keep()
        else:
            self._reader = self.parcel.reader(self.machine.platform)
            try:
                yield
            finally:
                self._reader.close()

    def kept_so_far(self) -> None:
        """Write down that what lies in the parcel now was written or read here."""
        self._packed_so_far(self.parcel.newest)

    def _packed_so_far(self, generation: str) -> None:
        """Write down that what this machine packed up to a generation need not be read again."""
        self.scan.keep()
        self.journal.add({"event": "cargo checked", "generation": generation})

    @property
    def packing(self) -> Packing:
        assert self.writer is not None, "cargo is packed on old"
        return self.writer

    @property
    def packed(self) -> Packed:
        assert self._reader is not None, "cargo is read on new"
        return self._reader

    def slug(self, item: str) -> str:
        return slug(item)

    def made_room(self, item: str) -> str:
        """Return where files lie that programs make for an item; those of a licence stay."""
        if self.planned(item).kind == "licence":
            return self.seat_room(item)
        return join(self.workroom, "made", slug(item))

    def seat_room(self, item: str, run: str = "") -> str:
        """Return where what a run keeps of a seat lies on this machine."""
        room = join(parent(self.workroom), run) if run else self.workroom
        return join(room, SEATS_ROOM, slug(item))

    def room_for_made(self, item: str) -> str:
        folder = self.made_room(item)
        if item not in self._fetched:
            self._fetched.add(item)
            self.machine.effects.make_folders(self.machine.host(folder), 0o700)
            for name in self.parcel.made(slug(item)):
                self._fetch(item, name, self.machine.host(join(folder, name)))
        return folder

    def _fetch(self, item: str, name: str, target: SafePath) -> None:
        """Bring a file that was made elsewhere here, unless one is here already and no newer one
        came since that was seen."""
        about = {"place": slug(item), "path": self.parcel.made_at(slug(item), name)}
        if target.exists():
            known = self.journal.newest("fetched", place=slug(item), kept=name)
            if known is not None and known["path"] == about["path"]:
                return
            if known is not None:
                self.machine.effects.remove_file(target)
        if not target.exists():
            self.parcel.fetch_made(slug(item), name, target, self.machine.effects)
        self.journal.add({"event": "fetched", "kept": name, **about})

    def keep(self, item: str, names: Iterable[str]) -> None:
        folder = self.machine.host(self.made_room(item))
        for name in names:
            if self.planned(item).kind == "licence":  # a request may hold the serial
                self.machine.effects.set_mode(folder / name, 0o600)
            kept = self.parcel.keep_made(slug(item), name, folder / name)
            self.made |= kept
            self._made_for |= dict.fromkeys(kept, item)

    def item_of(self, made: str) -> str:
        """Return the item that a file was made for, by its name in the parcel."""
        return self._made_for[made]

    def medium(self) -> Callable[[], str]:
        folder = self.parcel.folder
        if folder == self.machine.host(self._home_of_parcel):  # it was walked on without it
            return lambda: ""
        return lambda: f"the medium is there still ({folder})" if folder.is_dir() else ""

    @property
    def _home_of_parcel(self) -> str:
        return join(self.workroom, "parcel")

    def take_along(self) -> str:
        home = self._home_of_parcel
        target = self.machine.host(home)
        if self.parcel.folder == target:
            return home
        if target.exists():
            self.machine.effects.remove_tree(target)
        _copy_tree(self.parcel.folder, target, self.machine)
        seal = self.parcel.seal
        self.parcel = Parcel(target, self.machine.effects)
        self.parcel.seal = seal
        self.parcel.check_cargo(begun=True)
        if self._reader is not None:
            self._reader.close()
            self._reader = self.parcel.reader(self.machine.platform)
        self.journal.add({"event": "detached", "to": home})
        return home

    # The journal and the logbook

    def noted(self, item: str) -> Mapping[str, Noted]:
        step = f"{item}/note"
        outcome = self._done_here().get(step) or self.parcel.outcomes.get(step)
        facts = outcome.facts if outcome is not None else None
        return facts.readings if isinstance(facts, NoteFacts) else {}

    def arrived(self, item: str) -> bool:
        return self._all_well(item, self.parcel.outcomes)

    def came_here(self, item: str) -> bool:
        """Return whether the item arrived, by what is in the parcel and what was done now."""
        return self._all_well(item, {**self.parcel.outcomes, **self._done_here()})

    def _done_here(self) -> dict[str, Outcome]:
        """Return the newest outcome of each step that was done on this machine."""
        records = self.journal.records
        for record in records[self._read :]:
            if record["event"] == "step done":
                self._done[record["step"]] = read_outcome(record["outcome"])
        self._read = len(records)
        return self._done

    def _all_well(self, item: str, outcomes: Mapping[str, Outcome]) -> bool:
        mine = [s for s in self.plan.steps if s.item == item and s.station == "new"]
        return bool(mine) and all(s.id in outcomes and outcomes[s.id].well for s in mine)

    def record(self, event: str, **facts: Fact) -> None:
        self.journal.add(self.masker.mask_all({"event": event, **facts}))

    def records(self, event: str) -> tuple[Record, ...]:
        return tuple(dict(r) for r in self.journal.records if r["event"] == event)

    def recorded(self, event: str, step: str) -> Record | None:
        return self.journal.newest(event, step=step)


END_WITHIN = 60.0
"""Seconds that a command may take which is run however the leg ends."""


def _newer(record: Record, other: Record | None) -> bool:
    return other is None or place_of(record) > place_of(other)


def _given(step: Step) -> set[str]:
    """Return the names in braces that a step gives to its program or to a person."""
    texts = (*step.given, *step.main_command)
    return {p.name for text in texts for p in parse_template(text) if isinstance(p, Brace)}


def open_signs(finder: Finder) -> str:
    """Return what shows that an application is open, or an empty text."""
    signs = [f"{path} is there" for path in finder.locks()]
    for program in finder.programs().values():
        signs += [f"{program}: {line}" for line in finder.machine.running(program)]
    return "; ".join(signs)


def slug(item: str) -> str:
    """Return a name for a plan's item that any volume can hold; no two items have one name."""
    plain_name = re.sub(r"[^A-Za-z0-9._-]+", "-", item).strip("-.")[:60]
    sound = plain_name == item and not trouble_with_name(item, STRICTEST)
    return item if sound else f"{plain_name}-{digest(item.encode())[:8]}"


def _copy_tree(source: SafePath, target: SafePath, machine: Machine) -> None:
    """Copy a parcel: folders and regular files, durable at the end."""
    effects = machine.effects
    room = shutil.disk_usage(target.parent).free
    size = sum(p.stat().st_size for p in source.below() if p.is_file())
    if size > room:
        why = f"{size} bytes are needed, and {room} are free"
        raise Halted("there is no room for what is left of the parcel", where=str(target), why=why)
    effects.make_folders(target, 0o700)
    for path in source.below():
        to = target / path.relative_to(source)
        if path.is_dir():
            effects.make_folder(to)
        elif path.is_file():
            with path.reading() as file, effects.create(to) as copy:
                while chunk := file.read(CHUNK):
                    copy.write(chunk)
    effects.barrier(target)
