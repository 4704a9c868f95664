"""What of a place a recipe counts, and what in it holds paths of the machine."""

from __future__ import annotations

import json
import re
import sqlite3
from collections import Counter
from collections.abc import Iterator, Sequence

from widetrail.formats.companions import SQLITE
from widetrail.lazily import dataclass
from widetrail.machine import FolderMachine
from widetrail.machine.path_notation import is_there, read_written
from widetrail.machine.paths import base
from widetrail.tracing.classes import TAKEN, is_left_secret
from widetrail.tracing.lists import any_entry
from widetrail.tracing.markers import columns, opened, quoted_name, row_counts
from widetrail.tracing.naming import is_personal
from widetrail.tracing.parts import data_of, form_of, texts_in_lists, value_parts, values_in
from widetrail.tracing.places import DraftPlace
from widetrail.tracing.record import Part, Trace
from widetrail.tracing.shapes import patterns

LOOKED_AT = 20
"""Files of one pattern that are looked into for paths, at most."""

ROWS_MOST = 100_000
"""Different texts of a column that are looked at, at most."""


@dataclass(frozen=True)
class Reading:
    """A reading as a recipe has it, and what it is on the machine; ``title`` names it."""

    title: str
    rule: str
    value: str
    is_shown: bool = False


@dataclass(frozen=True)
class HeldPaths:
    """Where files of a place hold paths: a rule of the recipe, and the paths that are named."""

    rule: str
    named: tuple[str, ...]


def readings_of(machine: FolderMachine, place: DraftPlace, trace: Trace) -> list[Reading]:
    """Return what a person would count of a place, those first whose number the program shows."""
    found = [
        *_values(machine, place, trace),
        *_tables(machine, place),
        *_files(place),
        *_itself(place),
    ]
    numbers = set(trace.shown.split())
    told = [Reading(r.title, r.rule, r.value, r.value in numbers) for r in found if r.value != "0"]
    once: dict[str, Reading] = {}
    for reading in told:
        once.setdefault(reading.rule, reading)
    return sorted(once.values(), key=lambda r: not r.is_shown)


def _values(machine: FolderMachine, place: DraftPlace, trace: Trace) -> Iterator[Reading]:
    settings = {one.path for one in place.taken if one.kind in ("setting", "index", "licence")}
    telling = {told.value for told in trace.tells if told.proved != "no"}
    for shows in trace.shows:
        part = shows.part
        if part.is_file or not shows.needed or part.path not in settings or part in telling:
            continue
        text = value_parts(machine, part.path).get(part, "")
        if text in ("", "null", "0"):
            continue
        if len(text) <= 200 and "\n" not in text and not _names_any(machine, part, text):
            at = json.dumps(part.at, ensure_ascii=False)
            many = ", as: list" if text.startswith("[") else ""
            rule = f"{{{part.form}: {_quote(_below(place, part.path))}, at: {at}{many}}}"
            yield Reading(re.split(r"[/\\]", part.at)[-1], rule, text)


def _tables(machine: FolderMachine, place: DraftPlace) -> Iterator[Reading]:
    for one in place.taken:
        for table, count in row_counts(machine, one.path).items():
            if not table.startswith("sqlite_"):
                query = _quote(f"select count(*) from {quoted_name(table)}")
                rule = f"{{sqlite: {_quote(_below(place, one.path))}, at: {query}}}"
                yield Reading(table, rule, str(count))


def _files(place: DraftPlace) -> Iterator[Reading]:
    """Give counts of files that end alike, where all of these are taken."""
    if not place.folder:
        return
    stays = [one for one in place.used if one.kind not in TAKEN or is_left_secret(one)]
    moved = [one for one in place.taken if one not in stays]
    left = {_ending(one.path) for one in stays}
    for ending, count in Counter(_ending(one.path) for one in moved).items():
        if count > 1 and ending not in left and re.fullmatch(r"[\w-]+", ending):
            rule = f'{{files: "{{{place.name}}}/**/*.{ending}"}}'
            yield Reading(f"{ending}_files", rule, str(count))
    if not stays:
        yield Reading("files", f'{{files: "{{{place.name}}}"}}', "")
    elif moved:
        usual = (one for one in moved if not is_personal(base(one.path)))
        there = f"{{file: {_quote(_below(place, next(usual, moved[0]).path))}}}"
        yield Reading(f"{place.name}_there", there, "")


def _ending(path: str) -> str:
    name = path.rpartition("/")[2]
    return name.rpartition(".")[2] if "." in name.lstrip(".") else ""


def _itself(place: DraftPlace) -> Iterator[Reading]:
    if not place.folder:
        yield Reading(f"{place.name}_there", f'{{file: "{{{place.name}}}"}}', "")


def held_paths(machine: FolderMachine, place: DraftPlace, told: Sequence[Part]) -> list[HeldPaths]:
    """Return where the files of a place hold paths; ``told`` are values that tell places, which
    follow them without a rule."""
    found: dict[str, tuple[str, ...]] = {}
    for pattern, paths in patterns(one.path for one in place.taken).items():
        where = _below(place, pattern) if place.folder else f"{{{place.name}}}"
        for path in paths[:LOOKED_AT]:
            for form, at, named in _spots(machine, path, told):
                rule = f"{{{form}: {_quote(where)}, at: {_quote(at)}}}"
                found[rule] = (*found.get(rule, ()), *named)
    return [HeldPaths(rule, named) for rule, named in found.items()]


Spot = tuple[str, str, list[str]]
"""A form, an address in it, and the paths that stand there."""


def _spots(machine: FolderMachine, path: str, told: Sequence[Part]) -> Iterator[Spot]:
    data = data_of(machine, path)
    form = form_of(path, data)
    if data.startswith(SQLITE):
        yield from _columns(machine, path)
    elif form is None:
        yield from _lines(machine, data)
    else:
        texts: dict[str, list[str]] = {}
        for at, text in values_in(form, data).items():
            if Part(path, form, at) not in told:
                texts.setdefault(at, []).append(text)
        for part, text in texts_in_lists(machine, path).items():
            if part not in told:
                texts.setdefault(any_entry(form, part.at), []).append(text)
        for at, some in texts.items():
            if named := named_paths(machine, some):
                yield form, at, named


def _columns(machine: FolderMachine, path: str) -> Iterator[Spot]:
    with opened(machine, path) as connection:
        for table, column in columns(connection):
            query = (
                f"select distinct {quoted_name(column)} from {quoted_name(table)} limit {ROWS_MOST}"
            )
            try:
                texts = [row[0] for row in connection.execute(query) if isinstance(row[0], str)]
            except sqlite3.Error:
                continue
            if named := named_paths(machine, texts):
                yield "sqlite", f"{table}.{column}", named


def _lines(machine: FolderMachine, data: bytes) -> Iterator[Spot]:
    if b"\0" in data[:4096]:
        return
    lines = data.decode("utf-8", "replace").splitlines()
    if named := named_paths(machine, [line for line in lines if line.startswith("file:")]):
        yield "text", "(?m)^(file:.*)$", named
    elif named := named_paths(machine, lines):
        yield "text", r"(?m)^((?:[A-Za-z]:[\\/]|/|~/).*)$", named


def _names_any(machine: FolderMachine, part: Part, text: str) -> bool:
    listed = texts_in_lists(machine, part.path) if _is_list(text) else {}
    inner = [told for one, told in listed.items() if one.at.startswith(f"{part.at}/")]
    return bool(named_paths(machine, [text, *inner]))


def _is_list(text: str) -> bool:
    return "\n" in text or text.startswith(("[", "-", "<"))


def named_paths(machine: FolderMachine, texts: Sequence[str]) -> list[str]:
    """Return the paths of the machine that texts are, whole, and that are there."""
    found = []
    for text in texts:
        if text.startswith(("/", "~", "%", "file:", "$")) or text[1:2] == ":":
            written, _ = read_written(text, machine)
            if written is not None and len(written.path) > 3 and is_there(machine, written.path):
                found.append(written.path)
    return found


def _below(place: DraftPlace, path: str) -> str:
    return f"{{{place.name}}}{place.rest(path)}"


def _quote(text: str) -> str:
    return json.dumps(text, ensure_ascii=False)
