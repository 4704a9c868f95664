"""Drift: what a program's next release keeps elsewhere or otherwise, held against a recipe.

Two machines with the same contents are compared, one before and one after the release. What went
somewhere is found by its content, not by its name: files by their digests, settings by the values
in them.
"""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from functools import cached_property
from itertools import islice
from typing import Literal

from widetrail.finding import Unknown, find_application, show_value
from widetrail.finding.values import things_at
from widetrail.findings import Finding
from widetrail.formats import digest
from widetrail.formats.documents import mark_at
from widetrail.lazily import dataclass
from widetrail.machine import FolderMachine
from widetrail.machine.path_notation import is_there, read_written
from widetrail.machine.paths import base, is_within, join, key, parent
from widetrail.recipe import Loaded
from widetrail.survey.scope import grounds_of
from widetrail.tracing.markers import row_counts
from widetrail.tracing.parts import data_of, store_values, texts_in_lists, value_parts
from widetrail.tracing.places import template_of
from widetrail.tracing.record import Part
from widetrail.tracing.secrecy import HIDDEN, is_secret
from widetrail.tracing.shapes import patterns

MOSTLY = 0.5
"""The part of what was in a place that must be found elsewhere, to say that it went there."""

A_PART = 0.2
"""The part of the values of a file that must be in each of two, to say that it was split."""

MOST = 3
"""Addresses that are told for one value, at most."""

LARGE = 64 * 1024 * 1024
"""Bytes of a file that is looked for by its content, at most."""

What = Literal[
    "sign-gone", "place-gone", "reading-unknown", "value-renamed", "form-changed", "unclaimed"
]


@dataclass(frozen=True)
class Drifted:
    """One thing that is otherwise after a release: ``name`` is the place or reading it is about,
    ``now`` where its content is now, as a recipe has it; empty where that was not found.

    ``template`` is the new path of a place and ``rule`` what tells it, or the new reading: each
    where there is one only, so that a recipe can be changed by it.
    """

    what: What
    name: str
    message: str
    now: tuple[str, ...] = ()
    template: str = ""
    rule: str = ""


def find_drift(loaded: Loaded, before: FolderMachine, after: FolderMachine) -> list[Drifted]:
    """Compare what a recipe finds on a machine before a release and after it.

    Example:
        >>> find_drift(loaded, machine, machine)  # doctest: +SKIP
        []
    """
    return list(_Drift(loaded, before, after).all())


def drift_findings(loaded: Loaded, drifted: Iterable[Drifted]) -> list[Finding]:
    """Return drift as findings with positions in the recipe."""
    found = []
    for one in drifted:
        about: dict[str, tuple[str, ...]] = {
            "unclaimed": (),
            "sign-gone": ("recognise",),
            "place-gone": ("places", one.name),
        }
        where = about.get(one.what, ("readings", one.name))
        mark = mark_at(loaded.tree, where)[0] if where else None
        found.append(
            Finding(
                loaded.file,
                mark.line if mark is not None else 0,
                mark.column if mark is not None else 0,
                one.what,
                ".".join(where),
                one.message,
                f"It may be {' and '.join(one.now)} now" if one.now else "",
                "warning" if one.what == "unclaimed" else "error",
            )
        )
    return found


class _Files:
    """The files of an account, by what is in them."""

    def __init__(self, machine: FolderMachine) -> None:
        self.machine = machine
        self._digests: dict[str, str] = {}

    @cached_property
    def sizes(self) -> dict[str, int]:
        """The size of each file of the account, by its path."""
        grounds, found = grounds_of(self.machine), dict[str, int]()
        platform = self.machine.platform
        for start in (s for s in grounds.starts if is_there(self.machine, s)):
            for entry in self.machine.walk(start):
                path = join(start, entry.path)
                passed = any(is_within(path, p, platform) for p in grounds.passed)
                if entry.kind == "file" and not passed:
                    found[path] = entry.size
        return found

    def digest(self, path: str) -> str:
        if self.sizes.get(path, LARGE + 1) > LARGE:
            return ""
        if path not in self._digests:
            self._digests[path] = digest(data_of(self.machine, path))
        return self._digests[path]

    @cached_property
    def values(self) -> dict[Part, str]:
        """All values by name in files of the account and in the system's stores."""
        found = {p: t for path in self.sizes for p, t in value_parts(self.machine, path).items()}
        return found | store_values(self.machine)


class _Drift:
    def __init__(self, loaded: Loaded, before: FolderMachine, after: FolderMachine) -> None:
        self._loaded, self._before, self._after = loaded, before, after
        self._was, self._now = (find_application(m, loaded) for m in (before, after))
        self._old, self._new = _Files(before), _Files(after)
        self._explained: set[str] = set()

    def all(self) -> Iterator[Drifted]:
        if self._was.installation is not None and self._now.installation is None:
            known = {program.path for program in self._before.file.programs}
            new = [p.path for p in self._after.file.programs if p.path not in known]
            message = "the program is not recognised any more"
            yield Drifted("sign-gone", "", message, tuple(self._template(p) for p in new))
        for name in self._loaded.recipe.places:
            yield from self._place(name)
        for name in self._loaded.recipe.readings:
            yield from self._reading(name)
        yield from self._unclaimed()

    # Places

    def _place(self, name: str) -> Iterator[Drifted]:
        was = [path for path, kind in things_at(self._was.place(name)) if kind in _ON_DISK]
        files = [f for path in was for f in self._below(self._old, path)]
        if not files:
            return
        now = [path for path, _ in things_at(self._now.place(name))]
        if any(self._below(self._new, path) for path in now):
            return
        if all(self._is_kept(path) for path in files):
            message = f"what was in {was[0]} is still there, and nothing tells it any more"
            told = self._told_now(was[0])
            rule = f"{told[0][:-1]}, as: path}}" if len(told) == 1 else ""
            yield Drifted("place-gone", name, message, tuple(told), rule=rule)
            return
        found = self._folder_now(was[0], files) or self._file_now(files)
        message = f"{was[0]} held {len(files)} files before, and nothing is there now"
        if found:
            message = f"what was in {was[0]} is in {' and '.join(found)} now"
        there = tuple(self._template(path) for path in found)
        one = len(there) == 1 and there[0].startswith("{")
        yield Drifted("place-gone", name, message, there, template=there[0] if one else "")

    def _told_now(self, place: str) -> list[str]:
        """Return the values that are new and name a place."""
        found = []
        for part, text in self._news.items():
            source = part.path if part.path in self._new.sizes else ""
            written, _ = read_written(text, self._after, source) if text else (None, "")
            if written is not None and written.path == place:
                found.append(self._rule(part))
        return found

    @cached_property
    def _news(self) -> dict[Part, str]:
        """The values that are new, or other than before."""
        was = self._old.values
        return {part: text for part, text in self._new.values.items() if was.get(part) != text}

    def _rule(self, part: Part) -> str:
        if part.form == "registry":
            key_of, _, name = part.at.partition("\0")
            return f"{{registry: '{part.path}\\{key_of}', at: {_quoted(name)}}}"
        if part.form == "dconf":
            return f"{{dconf: /{part.at.strip('/').rpartition('/')[0]}, at: {base(part.at)}}}"
        return f"{{{part.form}: {_quoted(self._template(part.path))}, at: {_quoted(part.at)}}}"

    def _below(self, files: _Files, folder: str) -> list[str]:
        return [p for p in files.sizes if is_within(p, folder, files.machine.platform)]

    def _folder_now(self, place: str, files: Sequence[str]) -> list[str]:
        """Return the folder or file that holds most of what a place held."""
        wanted = {self._old.sizes[path] for path in files}
        there: dict[str, list[str]] = {}
        for path, size in self._new.sizes.items():
            if size in wanted and size:
                there.setdefault(self._new.digest(path), []).append(path)
        votes: Counter[str] = Counter()
        for path in files:
            rest = path[len(place) :]
            for other in there.get(self._old.digest(path), ()):
                if self._is_kept(other):
                    continue
                same = other.endswith(rest) if rest else True
                votes[other[: len(other) - len(rest)] if same else parent(other)] += 1
        if not votes:
            return []
        best, count = max(votes.items(), key=lambda v: (v[1], v[0]))
        if count < MOSTLY * len(files):
            return []
        self._explained.update(self._below(self._new, best))
        return [best]

    def _is_kept(self, path: str) -> bool:
        """Return whether a file was there before, with the same in it."""
        return path in self._old.sizes and self._old.digest(path) == self._new.digest(path)

    def _file_now(self, files: Sequence[str]) -> list[str]:
        """Return the files that hold the values of one file: another form, or split in two."""
        values = [t for f in files for t in value_parts(self._before, f).values() if len(t) > 1]
        if not values:
            return []
        shared: Counter[str] = Counter()
        for part, text in self._new.values.items():
            if text in values and not self._is_kept(part.path):
                shared[part.path] += 1
        ranked = shared.most_common(2)
        if not ranked or sum(n for _, n in ranked) < MOSTLY * len(values):
            return []
        least = A_PART * len(values)
        found = [path for number, (path, n) in enumerate(ranked) if not number or n >= least]
        self._explained.update(found)
        return sorted(found)

    # Readings

    def _reading(self, name: str) -> Iterator[Drifted]:
        was, now = self._was.reading(name), self._now.reading(name)
        if isinstance(was, Unknown):
            return
        if isinstance(now, Unknown):
            values, rows = self._value_now(was.value), self._rows_now(was.value)
            what: What = "value-renamed" if values or rows else "reading-unknown"
            before = HIDDEN if is_secret(name) else str(was)
            why = f"it was {before} before, and is unknown now: {now.reason}"
            rule = values[0] if len(values) == 1 else ""
            yield Drifted(what, name, why, tuple(values or rows), rule=rule)
            return
        styles = self._style(self._before, str(was)), self._style(self._after, str(now))
        if styles[0] != styles[1] and styles[0] and not is_secret(name):
            message = f"it was written as {was} before, and as {now} now"
            yield Drifted("form-changed", name, message)

    def _style(self, machine: FolderMachine, text: str) -> str:
        """Return how a path is written; of another text, whether it is a number."""
        if any(mark in text for mark in "/\\~%"):
            written, _ = read_written(text, machine)
            return written.style if written is not None else ""
        return "number" if text.isdecimal() else "text"

    def _value_now(self, value: object) -> list[str]:
        """Return where a value stands now, of the values that are new."""
        if isinstance(value, tuple):
            found = (p for p in self._news if self._listed(p) == sorted(map(str, value)))
        else:
            found = (p for p, text in self._news.items() if _same(text, value))
        return [self._rule(part) for part in islice(found, MOST)]

    def _listed(self, part: Part) -> list[str]:
        """Return the texts in the list that a value is."""
        texts = texts_in_lists(self._after, part.path)
        return sorted(t for p, t in texts.items() if p.at.startswith(f"{part.at}/"))

    def _rows_now(self, value: object) -> list[str]:
        """Return the tables that are new and have as many rows as were counted."""
        if not isinstance(value, int) or isinstance(value, bool) or not value:
            return []
        return [
            f"{self._template(path)}, table {table}"
            for path in self._new.sizes
            if not self._is_kept(path)
            for table, count in row_counts(self._after, path).items()
            if count == value and table not in row_counts(self._before, path)
        ][:MOST]

    # What is new

    def _unclaimed(self) -> Iterator[Drifted]:
        """Give files that are new and that no place of the recipe holds."""
        places = [
            path
            for name in self._loaded.recipe.places
            for path, kind in things_at(self._now.place(name))
            if kind in _ON_DISK
        ]
        platform = self._after.platform
        known = {key(path, self._before.platform) for path in self._old.sizes}
        new = [
            path
            for path in self._new.sizes
            if key(path, platform) not in known
            and path not in self._explained
            and not any(is_within(path, place, platform) for place in places)
        ]
        for pattern, paths in patterns(new).items():
            many = f"{len(paths)} files" if len(paths) > 1 else "a file"
            message = f"{many} that no place holds: {pattern}"
            yield Drifted("unclaimed", base(pattern), message, (self._template(pattern),))

    def _template(self, path: str) -> str:
        return template_of(self._after, path) or path


def _same(text: str, value: object) -> bool:
    """Return whether the text of a value is a value that was read: one, or a list."""
    return text == show_value(value) if isinstance(value, str | int | float) else False


def _quoted(text: str) -> str:
    return json.dumps(text, ensure_ascii=False)


_ON_DISK = ("file", "folder")
