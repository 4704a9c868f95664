"""A recipe drafted from a trace, with its first rehearsal and the machines for it."""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Iterator, Sequence
from functools import cached_property

from widetrail.errors import InputUnusable
from widetrail.machine import FolderMachine
from widetrail.machine.paths import base, is_within, parent
from widetrail.tracing.classes import Classes, is_left_secret
from widetrail.tracing.draft_contents import HeldPaths, held_paths, named_paths, readings_of
from widetrail.tracing.naming import Naming
from widetrail.tracing.parts import data_of, store_values, texts_in_lists
from widetrail.tracing.places import DraftPlace, draft_places, template_of, within
from widetrail.tracing.record import Trace

_VERSION = re.compile(rb"\s*(\d+(?:\.\d+)+)\s*")


class Draft:
    """A draft of one trace, made on ``machine``."""

    def __init__(self, trace: Trace, machine: FolderMachine, naming: Naming) -> None:
        self.trace, self.machine, self.naming = trace, machine, naming
        self.classes = Classes(trace, machine)
        existing = [one for one in self.classes.all if machine.look(one.path) is not None]
        self.places = draft_places(machine, existing, trace.tells, trace.program)
        self.questions: list[str] = []
        self._names: set[str] = set()
        self.items: tuple[str, ...] = ()
        """The items of the recipe, once it was made."""
        self._telling = tuple(t.value for t in trace.tells if t.proved != "no")

    @cached_property
    def _held(self) -> dict[str, list[HeldPaths]]:
        """Where the files of each place hold paths."""
        return {p.name: held_paths(self.machine, p, self._telling) for p in self.places}

    # The recipe

    def recipe(self) -> str:
        """Return the recipe as text.

        Raises:
            InputUnusable: Nothing is to be taken.
        """
        fit = [place for place in self.places if place.template or place.listed]
        for place in self.places:
            if place not in fit:
                self._ask(f"{place.path} lies below no root: which setting tells it?")
        stored = self._stored()
        if not fit and not stored:
            raise InputUnusable(
                "nothing was found that is to be taken",
                where=self.trace.title,
                todo="Name a command that prints what a person sees, or act in the program.",
            )
        readings, items = [], []
        for place in self._in_order(fit):
            lines, item = self._item(place)
            readings += lines
            items += item
        for number, (key, names) in enumerate(stored.items(), 1):
            lines, item = self._store_item(_store_name(number), key, names)
            readings += lines
            items += item
        stores = (_store_name(number) for number, _ in enumerate(stored, 1))
        self.items = (*(place.name for place in fit), *stores)
        text = [*self._head(), "places:", *self._place_lines(fit, stored)]
        text += ["", "readings:", *readings, "", "items:", *items]
        if self.questions:
            text += ["", "# Questions that the trace leaves open:"]
            text += [f"# - {question}" for question in self.questions]
        return "\n".join(text) + "\n"

    def _in_order(self, places: Sequence[DraftPlace]) -> list[DraftPlace]:
        """Return places so that one whose files name paths in another follows that one."""
        named = {p.name: [path for h in self._held[p.name] for path in h.named] for p in places}
        before = {
            place.name: {
                other.name
                for other in places
                if other is not place and self._any_within(named[place.name], other.path)
            }
            for place in places
        }
        found: list[DraftPlace] = []
        while len(found) < len(places):
            done = {place.name for place in found}
            left = [place for place in places if place.name not in done]
            found.append(next((p for p in left if before[p.name] <= done), left[0]))
        return found

    def _any_within(self, paths: Sequence[str], folder: str) -> bool:
        return any(is_within(path, folder, self.machine.platform) for path in paths)

    def _head(self) -> Iterator[str]:
        naming, trace = self.naming, self.trace
        yield f"# Drafted from a trace: {' '.join(trace.title.split())}"
        yield "recipe: 1"
        yield "revision: 1"
        yield "application:"
        yield f"  id: {naming.id}"
        yield f"  name: {_quote(naming.name)}"
        yield f"  maker: {_quote(naming.maker)}"
        command = base(trace.program)
        name = re.sub(r"[^a-z0-9]+", "_", base(trace.screen[0]).casefold()).strip("_")
        path = template_of(self.machine, trace.program)
        on_path = self.machine.command(command) == trace.program and not path
        yield "  programs:"
        yield f"    {name}: {_quote(command if on_path else path or trace.program)}"
        yield f"  screen: {json.dumps([name, *trace.screen[1:]], ensure_ascii=False)}"
        yield ""
        yield "recognise:"
        by_command = self.machine.command(command) == trace.program
        sign = (
            f"command: {_quote(command)}"
            if by_command
            else f"file: {_quote(path or trace.program)}"
        )
        yield f"  - sign: {{{sign}}}"
        if release := self._release():
            yield f"    release: {release}"
        else:
            self._ask("Where does the program say its release?")
        yield ""

    def _release(self) -> str:
        """Return a reading of the release: a file beside the program that holds nothing else."""
        for folder in (parent(self.trace.program), parent(parent(self.trace.program))):
            if template_of(self.machine, self.trace.program) == "" and folder in (
                "/usr",
                "/usr/bin",
            ):
                continue
            for entry in self.machine.walk(folder, 1):
                if entry.kind != "file" or entry.size > 4096:
                    continue
                path = f"{folder}/{entry.path}"
                data = data_of(self.machine, path)
                if _VERSION.fullmatch(data):
                    if folder == parent(self.trace.program):
                        return f"{{text: \"{{installation}}/{entry.path}\", at: '^(\\S+)'}}"
                    told = _quote(template_of(self.machine, path) or path)
                    return f"{{text: {told}, at: '^(\\S+)'}}"
                if b"CFBundleShortVersionString" in data:
                    told = _quote(template_of(self.machine, path) or path)
                    return f"{{plist: {told}, at: CFBundleShortVersionString}}"
        return ""

    def _place_lines(
        self, places: Sequence[DraftPlace], stored: dict[str, list[str]]
    ) -> Iterator[str]:
        for place in places:
            yield f"  {place.name}:"
            if place.listed is not None:
                yield from self._listed(places, place, *place.listed)
                continue
            yield f"    {'folder' if place.folder else 'file'}: {_quote(place.template)}"
            if place.told is not None:
                yield f"    set_in: {self._telling_rule(places, place)}"
        for number, key in enumerate(stored, 1):
            yield f"  {_store_name(number)}:"
            yield f"    key: '{key}'"

    def _listed(
        self, places: Sequence[DraftPlace], place: DraftPlace, at: str, name: str
    ) -> Iterator[str]:
        """Give the lines of a place that the program's own list names, one for each entry."""
        assert place.told is not None, "it is told by the list"
        value = place.told.value
        where = within([p for p in places if p is not place], self.machine, value)
        called = self._called(place)
        more = f", name: {called}" if called else ""
        yield f"    index: {{{value.form}: {_quote(where)}, at: {at}, path: {name}{more}}}"
        inside = [
            {
                place.rest(one.path).lstrip("/")
                for one in place.taken
                if is_within(one.path, p, self.machine.platform)
            }
            for p in place.paths
        ]
        if common := sorted(set.intersection(*inside)):
            yield f"    contains: {_quote(common[0])}"

    def _entries(self, place: DraftPlace) -> dict[str, str]:
        """Return the texts in the list that names a place, by their pointers below it."""
        assert place.told is not None and place.listed is not None, "it is told by a list"
        value = place.told.value
        above = f"{place.listed[0]}/"
        texts = texts_in_lists(self.machine, value.path)
        return {p.at.removeprefix(above): t for p, t in texts.items() if p.at.startswith(above)}

    def _called(self, place: DraftPlace) -> str:
        """Return the key of an entry that names it, or an empty text."""
        own = place.listed[1] if place.listed is not None else ""
        keys = (k.rpartition("/")[2] for k in self._entries(place) if k.startswith("0/"))
        return next((key for key in keys if key != own), "")

    def expected(self, items: Iterable[str]) -> Iterator[str]:
        """Give the names that a rehearsal has for items: of a list, one for each entry."""
        listed = {place.name: place for place in self.places if place.listed is not None}
        for item in items:
            place = listed.get(item)
            called = self._called(place) if place is not None else ""
            if place is None or not called:
                yield item
                continue
            for key, text in self._entries(place).items():
                if key.endswith(f"/{called}"):
                    yield f"{item}[{text}]"

    def _telling_rule(self, places: Sequence[DraftPlace], place: DraftPlace) -> str:
        assert place.told is not None, "the caller saw it"
        if place.told.proved == "part":
            self._ask(f"{place.name} is named in other files too: are all of them below paths?")
        if not place.told.default:
            self._ask(f"Where is {place.name} where no setting tells it?")
        part = place.told.value
        if part.form == "registry":
            key, _, name = part.at.partition("\0")
            return f"{{registry: '{part.path}\\{key}', at: {_quote(name)}, as: path}}"
        where = within([p for p in places if p is not place], self.machine, part)
        return f"{{{part.form}: {_quote(where)}, at: {_quote(part.at)}, as: path}}"

    def _item(self, place: DraftPlace) -> tuple[list[str], list[str]]:
        """Return the readings and the item of a place, as lines."""
        settings = all(one.kind in ("setting", "index") for one in place.taken)
        counted = readings_of(self.machine, place, self.trace)
        chosen = [r for r in counted if r.is_shown] or counted[:2]
        values = [r for r in counted if r.title not in {c.title for c in chosen}]
        chosen += [r for r in values if settings and r.value]
        lines, checks = [], []
        for reading in chosen:
            name = self._unique(
                f"{reading.title}_there" if reading.value.isdecimal() else reading.title
            )
            lines.append(f"  {name}: {reading.rule}")
            checks.append(f"      {name}: {{compare: same}}")
        item = [f"  {place.name}:", f"    title: {_quote(self._title(place))}"]
        if settings:
            item.append("    kind: settings")
        item.append(f"    from: {place.name}")
        if place.folder and (leave := self._leave(place)):
            item.append(f"    leave: {json.dumps(leave, ensure_ascii=False)}")
        if held := self._held[place.name]:
            item += ["    paths:", *(f"      - {paths.rule}" for paths in held)]
        item += ["    checks:", *checks, *self._losses(place)]
        item += ["    routes:", "      - name: copy", "        legs:", "          - new: [copy]"]
        return lines, item

    def _title(self, place: DraftPlace) -> str:
        kinds = dict.fromkeys(one.kind for one in place.taken)
        return f"{base(place.path)}: {', '.join(kinds)}"

    def _leave(self, place: DraftPlace) -> list[str]:
        lost = [one for one in place.taken if is_left_secret(one)]
        return sorted(
            place.rest(one.path).lstrip("/")
            for one in (*place.left, *lost)
            if not re.search(r"[*?\[{]", one.path)
        )

    def _losses(self, place: DraftPlace) -> Iterator[str]:
        secrets = [one for one in place.taken if one.kind == "secret"]
        left = [one for one in secrets if is_left_secret(one)]
        for one in secrets:
            if one not in left:
                self._ask(f"{one.path} holds a secret, and the program needs it: may it travel?")
        if left:
            yield "    losses:"
            yield "      - what: the passwords"
            yield "        remedy: Type them again when the program asks for them."
        for one in place.taken:
            if one.kind == "unclear":
                self._ask(f"{one.path}: {one.why}. It is taken.")
            elif one.kind == "data" and one.is_needed and self.classes.in_cache(one.path):
                self._ask(f"{one.path}: {one.why}.")

    def _stored(self) -> dict[str, list[str]]:
        """Return the needed values of the registry, by key."""
        found: dict[str, list[str]] = {}
        for one in self.trace.shows:
            if one.needed and one.part.form == "registry":
                key, _, name = one.part.at.partition("\0")
                found.setdefault(f"{one.part.path}\\{key}", []).append(name)
            elif one.needed and one.part.form == "dconf":
                self._ask(f"The desktop's setting {one.part.at} is needed: add a dconf place.")
        return found

    def _store_item(
        self, place: str, key: str, names: Sequence[str]
    ) -> tuple[list[str], list[str]]:
        lines, checks = [], []
        for name in names:
            reading = self._unique(name or "default")
            if not self._names_path(key, name) or len(names) == 1:
                lines.append(f"  {reading}: {{registry: '{key}', at: {_quote(name)}}}")
                checks.append(f"      {reading}: {{compare: same}}")
        item = [f"  {place}:", f"    title: {_quote('Values below ' + key)}", "    kind: settings"]
        item += [f"    from: {place}", f"    take: {json.dumps(list(names), ensure_ascii=False)}"]
        paths = [name for name in names if self._names_path(key, name)]
        if paths:
            item.append("    paths:")
            item += [f"      - {{registry: '{key}', at: {_quote(name)}}}" for name in paths]
        item += ["    checks:", *checks]
        item += ["    routes:", "      - name: values", "        legs:", "          - new: [copy]"]
        return lines, item

    def _names_path(self, key: str, name: str) -> bool:
        for part, text in store_values(self.machine).items():
            above, _, own = part.at.partition("\0")
            if (f"{part.path}\\{above}", own) == (key, name):
                return bool(named_paths(self.machine, [text]))
        return False

    def _unique(self, title: str) -> str:
        plain = re.sub(r"[^a-z0-9]+", "_", title.casefold()).strip("_") or "value"
        plain = plain if plain[0].isalpha() else f"value_{plain}"
        name, number = plain, 2
        while name in self._names:
            name, number = f"{plain}_{number}", number + 1
        self._names.add(name)
        return name

    def _ask(self, question: str) -> None:
        if question not in self.questions:
            self.questions.append(question)


def _store_name(number: int) -> str:
    return "stored" if number == 1 else f"stored_{number}"


def _quote(text: str) -> str:
    return json.dumps(text, ensure_ascii=False)
