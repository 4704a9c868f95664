"""What a program shows where a line of a recipe that makes paths right is taken away.

A path that is not made right names what is not there on the new computer. So on a copy of the
machine each path that a line is for is given a name that nothing has.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator

from widetrail.errors import MachineUnusable
from widetrail.finding import Finder, Found, How
from widetrail.finding.readings import copied_database
from widetrail.finding.values import things_at
from widetrail.formats import Unreadable
from widetrail.formats.documents import mark_at
from widetrail.formats.forms import FORMS
from widetrail.formats.interface import Spot, Unwritable
from widetrail.formats.parser_process import ask_form
from widetrail.lazily import dataclass
from widetrail.machine import FolderMachine
from widetrail.machine.path_notation import read_written, write_again
from widetrail.machine.paths import base, join, parent
from widetrail.planning.embedded_paths import written_at
from widetrail.recipe import Globs, Item, Loaded
from widetrail.steps import WrittenAt
from widetrail.tracing.lab import Change
from widetrail.tracing.parts import data_of

NOT_MOVED = "not-moved-7"
"""What is added to the name of a path that is not made right."""


@dataclass(frozen=True)
class PathLine:
    """A line of a recipe for paths: where it stands, for which files, and the change that shows
    what comes of it being taken away. ``count`` is how many paths it is for."""

    line: int
    what: str
    count: int
    change: Change


def path_lines(
    loaded: Loaded, finder: Finder, machine: FolderMachine, name: str, files: Callable[[str], bool]
) -> Iterator[PathLine]:
    """Give the lines for paths of an item that are for something on the machine; ``files`` tells
    whether the item takes one."""
    item = loaded.recipe.items[name]
    for number, written in enumerate(item.paths):
        alone = item.model_copy(update={"paths": (written,)})
        told = [
            (rule, [p for p in _matching(machine, path, rule) if files(p)])
            for path, rule in _rules(finder, alone)
        ]
        count = sum(len(_paths(machine, p, rule)) for rule, some in told for p in some)
        if count:
            line = mark_at(loaded.tree, ("items", name, "paths", number))[0].line
            rule = told[0][0]
            yield PathLine(line, f"paths in {rule.form} {rule.at}", count, _change(told))


def _rules(finder: Finder, item: Item) -> Iterator[tuple[str, WrittenAt]]:
    """Give where an item holds paths, each with the place on the machine that it is below."""
    for path, kind in things_at(finder.place(item.from_)):
        if kind in ("file", "folder"):
            for rule in written_at(finder, item, Found(path, kind, How("fixed")), ()):
                if not rule.tells:
                    yield path, rule


def _matching(machine: FolderMachine, place: str, rule: WrittenAt) -> Iterator[str]:
    there = machine.look(place)
    if there is None or there.kind != "folder":
        yield place
        return
    matches = Globs([rule.file or "**"], ignore_case=machine.rules.ignores_case)
    for entry in machine.walk(place):
        if entry.kind == "file" and matches(entry.path):
            yield join(place, entry.path)


def _spots(machine: FolderMachine, path: str, rule: WrittenAt) -> list[Spot]:
    form = FORMS[rule.form]
    try:
        if form.database is not None:
            with copied_database(machine, path) as copy:
                return ask_form(form, form.database.column, str(copy), rule.at)
        assert form.spots is not None, "paths stand in no other form"
        return ask_form(form, form.spots, data_of(machine, path), rule.at)
    except (Unreadable, MachineUnusable):
        return []


def _paths(machine: FolderMachine, path: str, rule: WrittenAt) -> dict[str, str]:
    """Return what the texts with paths in a file become, by where they stand."""
    found = {}
    for spot in _spots(machine, path, rule):
        head = next((p for p in rule.prefixes if spot.text.startswith(p)), "")
        written, _ = read_written(spot.text[len(head) :], machine, path)
        if written is not None and written.style != "relative" and written.path:
            other = join(parent(written.path), f"{base(written.path)} {NOT_MOVED}")
            now = write_again(written, other, machine, path)
            found[spot.where] = head + now
    return found


def _change(told: list[tuple[WrittenAt, list[str]]]) -> Change:
    def change(machine: FolderMachine) -> None:
        for rule, paths in told:
            for path in paths:
                _write(machine, path, rule, _paths(machine, path, rule))

    return change


def _write(machine: FolderMachine, path: str, rule: WrittenAt, changes: dict[str, str]) -> None:
    form, host = FORMS[rule.form], machine.host(path)
    try:
        if form.database is not None:
            ask_form(form, form.database.put_column, str(host), rule.at, changes)
        elif form.put is not None and changes:
            data = ask_form(form, form.put, data_of(machine, path), rule.at, changes)
            host.write_bytes(data)
    except (Unreadable, Unwritable):
        return
