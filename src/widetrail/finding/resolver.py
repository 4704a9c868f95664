"""Where the things of one recipe are on one machine, once its application is recognised."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Mapping
from dataclasses import field, replace
from typing import Self

from widetrail.errors import MachineUnusable
from widetrail.finding.globbing import kind_at
from widetrail.finding.plural_places import by_glob, by_index, by_list, is_called, mark_in_use
from widetrail.finding.store_places import in_desktop, in_registry
from widetrail.finding.values import (
    Absent,
    Found,
    Held,
    How,
    Installation,
    Instance,
    Known,
    Nowhere,
    Recognised,
    Said,
    Several,
    Unknown,
    Where,
)
from widetrail.formats import Unreadable
from widetrail.formats.documents import Model
from widetrail.formats.registry import full_key
from widetrail.lazily import dataclass
from widetrail.machine import Machine
from widetrail.machine.paths import join, parent
from widetrail.machine.sensitive import never_a_place
from widetrail.recipe import Loaded, Reading
from widetrail.recipe.by_platform import PerPlatform, on_platform
from widetrail.recipe.decisions import Decisions
from widetrail.recipe.places import Place, PlaceKind
from widetrail.recipe.readings import For
from widetrail.recipe.releases import Release, parse_release, parse_releases
from widetrail.recipe.templates import ROOTS, braces, fill
from widetrail.recipe.text_types import is_command


@dataclass
class _Seen:
    """The answers so far, so that each place and program is found once."""

    places: dict[str, Where] = field(default_factory=dict)
    chosen: dict[str, int] = field(default_factory=dict)
    busy: set[str] = field(default_factory=set)
    programs: dict[str, str] | None = None


@dataclass(frozen=True, eq=False)
class Resolver(ABC):
    """Answers where the places of one recipe are on one machine; it changes nothing.

    ``lenders`` are the resolvers of other recipes by the names that templates use: they lend their
    places. ``pinned`` are the paths of places that were found before, which nothing that tells
    them may move any more. ``inside`` says which of several folders a place is, ``parts`` which
    value a part has, and ``by_person`` what a person said of places. With another of these it is
    another resolver, which looks for itself. What is decided by the recipe's rules is kept in
    ``decisions``, which all of them share.
    """

    machine: Machine
    loaded: Loaded
    recognised: Recognised = field(default_factory=Recognised)
    lenders: Mapping[str, Resolver] = field(default_factory=dict)
    pinned: Mapping[str, str] = field(default_factory=dict)
    inside: Mapping[str, Instance] = field(default_factory=dict)
    parts: Mapping[str, str] = field(default_factory=dict)
    decisions: Decisions | None = None
    by_person: Said = field(default_factory=Said)
    _seen: _Seen = field(default_factory=_Seen, init=False, repr=False)

    @property
    def installation(self) -> Installation | None:
        """The installation that is meant, or ``None`` where the application is not installed."""
        return self.recognised.latest

    def decide(self, rule: Model | None, branch: str) -> None:
        """Keep which branch of a rule was taken, where that is kept."""
        if self.decisions is not None:
            self.decisions.keep(self.loaded, rule, branch)

    def decide_bounds(self, rule: Model | None, fact: str, wanted: str, found: str) -> None:
        """Keep which bounds of a range of releases were met, where that is kept."""
        if self.decisions is not None:
            self.decisions.keep_bounds(self.loaded, rule, fact, wanted, found)

    @abstractmethod
    def take(self, reading: Reading) -> Known | Unknown:
        """Take a reading here; parameters must have been given by ``with_parts``."""

    def place(self, name: str) -> Where:
        """Return where the place ``name`` is; without a name it is none."""
        if not name:
            return Held()
        if name in self.inside:
            chosen = self.inside[name]
            return Found(chosen.path, chosen.kind, chosen.how, chosen.synced)
        if name not in self._seen.places:
            if name in self._seen.busy:
                return Nowhere(f'the place "{name}" depends on itself')
            self._seen.busy.add(name)
            try:
                self._seen.places[name] = self._find(name)
            finally:
                self._seen.busy.discard(name)
        return self._seen.places[name]

    def within(self, name: str, instance: Instance) -> Self:
        """Return a resolver for which the place ``name``, which is several, is that one."""
        return replace(self, inside={**self.inside, name: instance})

    def fresh(self) -> Self:
        """Return a resolver that looks again; what was recognised and pinned stays."""
        return replace(self)

    def with_parts(self, parts: Mapping[str, str]) -> Self:
        """Return a resolver in whose readings each part has that value."""
        return replace(self, parts={**self.parts, **parts})

    def case_of(self, name: str) -> Place | None:
        """Return the recipe's case of a place that holds here."""
        cases = self.loaded.recipe.places.get(name, ())
        return next((case for case in cases if self.holds(case.for_)), None)

    def is_told(self, name: str) -> bool:
        """Return whether a program's settings have a say in where a place is, so that it may lie
        anywhere."""
        case = self.case_of(name)
        if case is None or case.set_in or case.index or case.listed_in:
            return case is not None
        choices = [case.where, case.each, case.otherwise, *case.first_of]
        texts = [on_platform(c, self.machine.platform) for c in choices if c is not None]
        named = {b.name.partition(".") for text in texts if text for b in braces(text)}
        return any(
            self.lenders[first].is_told(rest) if first in self.lenders else self.is_told(first)
            for first, _, rest in named
            if first not in ROOTS
        )

    def holds(self, condition: For | None) -> bool:
        """Return whether a case's condition holds here; what is not known does not hold."""
        if condition is None:
            return True
        here = self.installation
        release = here.release if here is not None else None
        for fact, wanted, found in (
            ("system", condition.system, self.machine.system),
            ("release", condition.release, str(release or "")),
        ):
            if wanted is not None:
                self.decide_bounds(condition, fact, wanted, found)
        return (
            condition.may_hold_on(self.machine.platform)
            and _in_range(condition.system, parse_release(self.machine.system))
            and _in_range(condition.release, release)
            and condition.edition in (None, here.edition if here is not None else "")
        )

    # Paths and programs

    def path(self, template: str) -> str | None:
        """Return a path template as a path of this machine, or ``None`` if a place has no path."""
        try:
            return join(fill(template, self.value_of))
        except LookupError:
            return None

    def value_of(self, name: str) -> str:
        if name in ROOTS:
            return self.machine.root(name)
        if name in self.parts:
            return self.parts[name].replace("/", "_")
        if name == "installation":
            if self.installation is None:
                raise LookupError("the application is not installed")
            return parent(self.installation.sign)
        base, _, attribute = name.partition(".")
        if base in self.lenders:
            return self.lenders[base].value_of(attribute)
        where = self._single(base)
        if isinstance(where, Instance):
            return where.name if attribute == "name" else where.path
        if isinstance(where, Nowhere):
            raise LookupError(where.reason)
        return where.path

    def _single(self, name: str) -> Found | Absent | Nowhere | Instance:
        """Return the one place that is meant: of several, the one in use or the only one."""
        if name in self.inside:
            return self.inside[name]
        if name not in self.loaded.recipe.places:
            return Nowhere(f'"{name}" is not known')
        where = self.place(name)
        if isinstance(where, Held):
            return Nowhere(str(where))
        if not isinstance(where, Several):
            return where
        used = [i for i in where.instances if i.in_use]
        if len(used) == 1 or len(where.instances) == 1:
            return (used or list(where.instances))[0]
        if not where.instances:
            return Nowhere(f'"{name}" has no match')
        return Nowhere(f'"{name}" is several ({where}), and it is not known which one is in use')

    def choice(self, choice: str | PerPlatform | None) -> str | None:
        """Return the path here that a platform map or template says, or ``None``."""
        template = self.on_this_platform(choice) if choice is not None else None
        return None if template is None else self.path(template)

    def on_this_platform(self, choice: str | PerPlatform) -> str | None:
        """Return what a text or platform map says for this platform."""
        if isinstance(choice, PerPlatform):
            own = choice.of(self.machine.platform) is not None
            self.decide(choice, self.machine.platform if own else "else")
        return on_platform(choice, self.machine.platform)

    def why_not(self, choice: str | PerPlatform | None) -> str:
        template = on_platform(choice, self.machine.platform) if choice is not None else None
        if template is None:
            return f"the recipe does not say where on {self.machine.platform}"
        try:
            fill(template, self.value_of)
        except LookupError as error:
            return str(error.args[0])
        return f"{template} has no path"

    def program_at(self, text: str) -> str | None:
        return self.machine.command(text) if is_command(text) else self.path(text)

    # Each rule of a place

    def _find(self, name: str) -> Where:
        if name in self.by_person.at:
            path, number = self.by_person.at[name], self._number_of(name)
            return self.judged(path, self._kind_of(name), How("chosen", number))
        if name in self.pinned:
            return self._whatever(self.pinned[name], How("pinned"), self._kind_of(name))
        for number, place in enumerate(self.loaded.recipe.places[name]):
            if self.holds(place.for_):
                self.decide(place, "taken")
                return self._resolve(name, place, number)
        return Nowhere(f'the recipe has no case of "{name}" for this machine')

    def _kind_of(self, name: str) -> PlaceKind:
        cases = self.loaded.recipe.places[name]
        return next((case.kind for case in cases if self.holds(case.for_)), "folder")

    def _number_of(self, name: str) -> int:
        """Return the number of the case of a place that holds here."""
        cases = self.loaded.recipe.places[name]
        return next((n for n, case in enumerate(cases) if self.holds(case.for_)), 0)

    def _resolve(self, name: str, place: Place, case: int) -> Where:
        if place.plural:
            several = self._several(place, case)
            real = self.by_person.real.get(name)
            if real is not None and isinstance(several, Several):
                return mark_in_use(several, real, self.machine)
            return several
        if place.first_of and (place.set_in is None or (told := self._told(place, case)) is None):
            return self._first_of(name, place, case)
        registry = place.key if place.key is not None else place.value
        if registry is not None:
            seen = full_key(registry, "32") if place.view == "32" else registry
            return in_registry(self.machine, seen, place.kind, case)
        if place.dconf is not None:
            return in_desktop(self.machine, place.dconf, case)
        told = self._told(place, case)
        if told is not None:
            return told
        path = self.choice(place.where)
        if path is None:
            return Nowhere(self.why_not(place.where))
        return self.judged(path, place.kind, How("fixed", case))

    def _told(self, place: Place, case: int) -> Where | None:
        """Return where the program says it is, or ``None`` where it says nothing."""
        if place.set_in is None or not self.holds(place.set_in.for_):
            return None
        as_path = place.set_in.model_copy(update={"as_": "path"})
        answer = self.take(as_path)
        if isinstance(answer, Unknown):
            if answer.absent:
                self.decide(place.set_in, "is not set")
                return None
            return Nowhere(f"the setting is unknown: {answer.reason}")
        if not answer.value:
            self.decide(place.set_in, "is not set")
            return None
        self.decide(place.set_in, "found")
        how = How("told", case, answer.source, answer.line)
        return self.judged(str(answer.value), place.kind, how)

    def _first_of(self, name: str, place: Place, case: int) -> Where:
        listed = [self.choice(choice) for choice in place.first_of]
        among = tuple(path for path in listed if path is not None)
        if place.follows is not None:
            self.place(place.follows)
            number = self._seen.chosen.get(place.follows, -1)
            how = How("follows", case, place.follows, among=among)
            path = listed[number] if 0 <= number < len(listed) else self.choice(place.otherwise)
            self._seen.chosen[name] = number
            return (
                Nowhere("the recipe names no other") if path is None else self._whatever(path, how)
            )
        how = How("first of", case, among=among)
        real = self.by_person.real.get(name)
        for number, path in enumerate(listed):
            if real is not None and path is not None and not is_called(real, path, self.machine):
                continue
            if path is not None and kind_at(self.machine, path) in ("folder", "file"):
                self._seen.chosen[name] = number
                self.decide(place, f"first_of {number + 1}")
                return self._whatever(path, how)
        self._seen.chosen[name] = -1
        self.decide(place, "first_of none")
        otherwise = self.choice(place.otherwise)
        if otherwise is None:
            return Nowhere(f"none of {', '.join(among)} is there")
        return self._whatever(otherwise, How("fixed", case, among=among))

    def _whatever(self, path: str, how: How, otherwise: PlaceKind = "folder") -> Where:
        kinds: dict[str | None, PlaceKind] = {"file": "file", "folder": "folder"}
        return self.judged(path, kinds.get(kind_at(self.machine, path), otherwise), how)

    def _several(self, place: Place, case: int) -> Where:
        try:
            if place.index is not None:
                source = self.choice(place.index.where)
                if source is None:
                    return Nowhere(self.why_not(place.index.where))
                found = by_index(self.machine, place, place.index, source, case)
                if found is None:
                    return Nowhere(f"its list {source} does not exist")
            elif place.listed_in is not None:
                listed = self._listed(place.listed_in)
                if isinstance(listed, Nowhere):
                    return listed
                found = by_list(self.machine, place, listed, case)
            else:
                path = self.choice(place.each)
                if path is None:
                    return Nowhere(self.why_not(place.each))
                found = by_glob(self.machine, place, path, case)
        except MachineUnusable as error:
            return Nowhere(str(error))
        except Unreadable as error:
            return Nowhere(f"its index {source} {error}")
        if found.rejected:
            self.decide(place, "skips")
        if len(found.instances) > 1:
            self.decide(place, "several")
        if place.in_use is not None:
            told = self.take(place.in_use)
            if isinstance(told, Known):
                self.decide(place.in_use, "read")
                return mark_in_use(found, str(told.value), self.machine)
        return found

    def _listed(self, reading: Reading) -> Known | Nowhere:
        """Return the paths that a setting lists; none where there is no such setting."""
        answer = self.take(reading.model_copy(update={"as_": "list"}))
        if isinstance(answer, Known):
            return answer
        if not answer.absent:
            return Nowhere(f"the setting is unknown: {answer.reason}")
        return Known((), self.choice(reading.file_read) or "")

    def judged(self, path: str, kind: PlaceKind, how: How) -> Where:
        """Return what is at the path that a place was found to be, if it may be one."""
        told = how.rule not in ("fixed", "first of")
        if why := never_a_place(path, self.machine, told=told):
            return Nowhere(f"{path} cannot be used: {why} ({how})")
        try:
            entry = self.machine.look(path)
        except MachineUnusable as error:
            return Nowhere(f"{error} ({how})")
        if entry is None:
            return Absent(path, kind, how)
        if entry.kind == "link":
            return Nowhere(f"{path} is a link to {entry.target}; links are not followed ({how})")
        if entry.kind != kind:
            return Nowhere(f"{path} is a {entry.kind}, expected a {kind} ({how})")
        return Found(path, kind, how, self.machine.synced(path))


def _in_range(text: str | None, release: Release | None) -> bool:
    if text is None:
        return True
    return release is not None and release in parse_releases(text)
