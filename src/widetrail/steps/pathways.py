"""Making the paths in an item's files right for new, while its cargo is still staged.

Every file is made anew from what was packed, so a walk that was cut off can do it again; nothing is
half rewritten. What cannot be read stays as it was packed, and is told.
"""

from __future__ import annotations

import tempfile
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import field
from pathlib import Path
from typing import Protocol

from widetrail.errors import WentWrong
from widetrail.finding import Atlas
from widetrail.finding.atlas import Elsewhere, NotUnderstood, Rewritten, Unsayable
from widetrail.finding.readings import insist_own_journal
from widetrail.formats import Unreadable, digest
from widetrail.formats.companions import BESIDE, JOURNALS
from widetrail.formats.documents import Model
from widetrail.formats.form import Form
from widetrail.formats.forms import FORMS
from widetrail.formats.interface import NotThere, Spot, Unwritable
from widetrail.formats.outside import SafePath
from widetrail.formats.parser_process import ask_form
from widetrail.formats.stored_values import Count
from widetrail.lazily import dataclass
from widetrail.machine import file_digest
from widetrail.machine.path_notation import read_written, write_again
from widetrail.machine.paths import join
from widetrail.recipe import Globs
from widetrail.steps.cargo import CargoEntry
from widetrail.steps.contexts import Cargo, OfItem, Paths, Work
from widetrail.steps.journal_events import StepRecord
from widetrail.steps.outcomes import Remark, remarks
from widetrail.steps.publish_step import Staged
from widetrail.steps.step import Step, WrittenAt


class Has(Work, OfItem, Cargo, Paths, Protocol):
    """What making paths right takes."""


MOST = 256 * 1024 * 1024
"""Bytes of a settings file that is rewritten, at most; a database may be larger."""


class RewrittenPaths(Model):
    """How many paths in an item's files were made right, and what a person should know."""

    count: Count = 0
    remarks: tuple[Remark, ...] = ()


class PathsRewritten(StepRecord):
    """The paths in an item's staged files were made right."""

    event = "rewritten"

    facts: RewrittenPaths


def make_paths_right(
    step: Step,
    doing: Has,
    staged: str,
    target: str,
    came_as: Mapping[str, str],
    *,
    single: bool,
) -> RewrittenPaths:
    """Rewrite what the item's staged files hold of paths; return what a report tells of it.

    ``came_as`` are the paths below ``target`` that are called otherwise there, since something was
    there already; ``single`` tells that the item is one file.
    """
    if not doing.written(step.item):
        return RewrittenPaths()
    done, ready = doing.recorded(PathsRewritten, step.id), doing.recorded(Staged, step.id)
    if done is not None and ready is not None and done.at > ready.at:
        return done.facts
    work = _Work(step, doing, staged, target, came_as, single)
    work.do()
    doing.record(PathsRewritten(step=step.id, facts=work.told))
    return work.told


@dataclass
class _Work:
    """One item's files on their way to be right."""

    step: Step
    doing: Has
    staged: str
    target: str
    came_as: Mapping[str, str]
    single: bool
    count: int = 0
    written: set[str] = field(default_factory=set)
    anew: set[str] = field(default_factory=set)
    elsewhere: dict[str, None] = field(default_factory=dict)
    unsayable: dict[str, str] = field(default_factory=dict)
    wrong: dict[tuple[str, str], None] = field(default_factory=dict)
    was: Mapping[str, str] = field(default_factory=dict)
    _digests: dict[str, str] = field(default_factory=dict)

    @property
    def told(self) -> RewrittenPaths:
        """What a report tells."""
        unsayable, wrong = sorted(self.unsayable.items()), sorted(self.wrong)
        told = (
            *remarks("rewritten_whole", sorted(self.anew)),
            *remarks("elsewhere", sorted(self.elsewhere)),
            *(Remark(code="unsayable", path=path, reason=why) for path, why in unsayable),
            *(Remark(code="not_rewritten", path=path, reason=why) for path, why in wrong),
        )
        return RewrittenPaths(count=self.count, remarks=told)

    def do(self) -> None:
        """Rewrite each file once, by all rules that are for it."""
        doing = self.doing
        atlas = doing.atlas(self.step.item, self.target, self.came_as)
        single = self.single
        self.was = doing.names_on_old(self.step.item)
        by_file: dict[str, list[WrittenAt]] = {}
        for rule in doing.written(self.step.item):
            for path in self._matching(rule.file, single):
                by_file.setdefault(path, []).append(rule)
        for path, rules in sorted(by_file.items()):
            told = "" if single else self.was.get(path, path)
            old = join(doing.place_on_old(self.step.item), told)
            new = self.target if single else join(self.target, self.came_as.get(path, path))
            context, before = _File(path, old, new, rules), self.count
            try:
                if any(FORMS[rule.form].database is not None for rule in rules):
                    self._database(context, atlas)
                else:
                    self._file(context, atlas)
            except (Unreadable, Unwritable) as error:
                self.wrong[new, str(error)], self.count = None, before
        if self.written:
            top = doing.machine.host(self.staged)
            doing.machine.effects.barrier(top)
            self._insist(top)

    def _entry(self, path: str) -> CargoEntry:
        entry = self.doing.packed.get(self.step.item, path)
        assert entry is not None, "a file that is rewritten was packed"
        return entry

    def _matching(self, file: str, single: bool) -> Iterator[str]:
        """Give the packed files that a rule is for, which tells their names on old."""
        matches = Globs([file or "**"], ignore_case=self.doing.machine.rules.ignores_case)
        for entry in self.doing.packed.of(self.step.item):
            if single:
                yield entry.path
                return
            if entry.kind == "file" and matches(self.was.get(entry.path, entry.path)):
                yield entry.path

    # One file

    def _file(self, file: _File, atlas: Atlas) -> None:
        entry = self._entry(file.path)
        if entry.size > MOST:
            raise Unwritable("is too large to be rewritten")
        packed = b"".join(self.doing.packed.chunks(entry))
        data = packed
        for rule in file.rules:
            form = FORMS[rule.form]
            assert form.spots is not None and form.put is not None
            spots = ask_form(form, form.spots, data, rule.at)
            changes = self._changes(rule, spots, file, atlas)
            if changes:
                data = ask_form(form, form.put, data, rule.at, changes)
                if form.rewrites_whole:
                    self.anew.add(file.new)
            elif rule.tells and not spots:
                data = self._told_anew(rule, form, data)
        if data != packed:
            self._replace(file, lambda: iter([data]), digest(data))

    def _told_anew(self, rule: WrittenAt, form: Form, data: bytes) -> bytes:
        """Return settings that tell a place, where old's did not and new's is not the usual one."""
        path, usual = self.doing.place_told(self.step.item, rule.tells)
        if not path or path == usual:
            return data
        if form.add is None:
            raise Unwritable(f"does not set where {rule.tells} is ({path}), and is not extended")
        told = path.replace("/", self.doing.machine.rules.separator)
        try:
            data = form.add(data, rule.at, told)
        except NotThere as error:
            raise Unwritable(f"cannot hold where {rule.tells} is: {error}") from error
        self.count += 1
        return data

    def _changes(
        self, rule: WrittenAt, spots: list[Spot], file: _File, atlas: Atlas
    ) -> dict[str, str]:
        """Return the new text of each value that changes, by where it stands."""
        changes: dict[str, str] = {}
        for spot in spots:
            text = (
                self._telling(rule, spot.text, file, atlas)
                if rule.tells
                else self._translated(rule, spot, file, atlas)
            )
            if text is not None and text != spot.text:
                changes[spot.where] = text
        self.count += len(changes)
        return changes

    def _telling(self, rule: WrittenAt, text: str, file: _File, atlas: Atlas) -> str | None:
        """Return where new's place is, written as old told its own."""
        path, _ = self.doing.place_told(self.step.item, rule.tells)
        written, reason = read_written(text, atlas.old, file.old)
        if not text or not path:
            return None
        if written is None:
            raise Unreadable(f"names a path that is not understood: {reason}")
        return write_again(written, path, atlas.new, file.new)

    def _translated(self, rule: WrittenAt, spot: Spot, file: _File, atlas: Atlas) -> str | None:
        match atlas.translate(spot.text, file.old, file.new, rule.how):
            case Rewritten(text):
                return text
            case Elsewhere(path):
                self.elsewhere[path] = None
            case Unsayable(path, why):
                self.unsayable[path] = why
            case NotUnderstood(reason):
                self.wrong[file.new, reason] = None
        return None

    def _database(self, file: _File, atlas: Atlas) -> None:
        with tempfile.TemporaryDirectory(prefix="widetrail-") as folder:
            copy = Path(folder) / "copy.db"
            for suffix in ("", *JOURNALS):
                entry = self.doing.packed.get(self.step.item, f"{file.path}{suffix}")
                if entry is not None:
                    with copy.with_name(f"{copy.name}{suffix}").open("wb") as target:
                        target.writelines(self.doing.packed.chunks(entry))
            insist_own_journal(copy)
            changed = 0
            for rule in file.rules:
                form = FORMS[rule.form]
                assert form.database is not None
                spots = ask_form(form, form.database.column, str(copy), rule.at)
                if changes := self._changes(rule, spots, file, atlas):
                    put = form.database.put_column
                    changed += ask_form(form, put, str(copy), rule.at, changes)
            if changed:
                self._replace(file, lambda: _chunks(copy), file_digest(copy))
                self._drop_journals(file)

    def _drop_journals(self, file: _File) -> None:
        """Remove the journals of a database that was rewritten: what they held is in it now."""
        effects, top = self.doing.machine.effects, self.doing.machine.host(self.staged)
        for suffix in BESIDE:
            if (beside := top / f"{file.path}{suffix}").exists():
                effects.remove_file(beside)

    def _replace(self, file: _File, chunks: Callable[[], Iterable[bytes]], sha256: str) -> None:
        """Put a file in the place of the staged one, with its mode, time and attributes."""
        machine, entry = self.doing.machine, self._entry(file.path)
        effects, top = machine.effects, machine.host(self.staged)
        new = machine.host(f"{self.staged}.new")
        if new.exists():  # a walk was cut off here
            effects.remove_file(new)
        with effects.create(new, 0o600) as target:
            for chunk in chunks():
                target.write(chunk)
            if attributes := entry.attributes_by_name:
                effects.set_attributes(new, attributes)
            target.set_status(entry.mode, entry.mtime)
        effects.replace(new, top / file.path)
        others = (e for e in self.doing.packed.of(self.step.item) if e.kind == "hard")
        names = [file.path, *(e.path for e in others if e.target == file.path)]
        for name in names[1:]:
            effects.make_hard_link(new, top / file.path)
            effects.replace(new, top / name)
        for above in dict.fromkeys(name.rpartition("/")[0] for name in names):
            if (folder := self.doing.packed.get(self.step.item, above)) is not None:
                effects.set_status(top / above, folder.mode, folder.mtime)
        self.written.add(file.path)
        self._digests[file.path] = sha256

    def _insist(self, top: SafePath) -> None:
        """Read what was written from the disk again.

        Raises:
            WentWrong: It is not what was written.
        """
        for path, sha256 in self._digests.items():
            if file_digest(top / path) != sha256:
                raise WentWrong(
                    "what was written differs from what it should be",
                    where=join(self.target, path),
                    why="its SHA-256 differs when it is read back",
                    todo="Check the disk, then walk again; nothing was copied to its place.",
                )


@dataclass(frozen=True)
class _File:
    """A packed file with where it was on old, where it comes to, and the rules for it."""

    path: str
    old: str
    new: str
    rules: list[WrittenAt]


def _chunks(path: Path) -> Iterator[bytes]:
    with path.open("rb") as file:
        while chunk := file.read(1 << 20):
            yield chunk
