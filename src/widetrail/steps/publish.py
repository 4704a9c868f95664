"""``publish``: an item's cargo to its place on new, staged first, then renamed into place.

What stands there is put aside by a rename of the same kind, so nothing is ever written over.
"""

from __future__ import annotations

import hashlib
import os
import sys
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

from widetrail.errors import Halted, WentWrong
from widetrail.finding import Selection
from widetrail.machine import Machine
from widetrail.machine.paths import join, parent
from widetrail.recipe.templates import plain
from widetrail.steps.interface import CargoEntry, Doing, Done, Facts, Outcome, Step
from widetrail.steps.room import ASIDE, STAGING, Room
from widetrail.steps.saving import beside

_WORDS = {
    "put aside": "what is there of it already is put aside",
    "stop": "it must not be there yet",
    "overwrite": "files of the same name are put aside, others stay",
    "alongside": "where something is there already, it comes beside it under another name",
    "pass by": "files that are there already stay, and those carried are left in the parcel",
}


class Publish:
    """Stages, verifies, puts aside and publishes."""

    def words(self, step: Step) -> str:
        where = plain(step.text("to")) or "its place"
        return f"put {step.item} in place at {where}; {_WORDS[step.text('existing')]}"

    def do(self, step: Step, doing: Doing) -> Outcome:
        published = doing.recorded("published", step.id)
        if published is not None:
            facts = published["facts"]
            assert isinstance(facts, dict)
            return Done(facts)
        return _Publishing(step, doing).do()


@dataclass
class _Publishing:
    """One item on its way to its place."""

    step: Step
    doing: Doing
    target: str = ""
    aside: str = ""
    passed_by: list[str] = field(default_factory=list)
    beside: list[str] = field(default_factory=list)

    def do(self) -> Outcome:
        step, doing = self.step, self.doing
        machine = doing.machine
        given = step.text("given")
        self.target = doing.fill(step, step.text("to")) if given else doing.pinned(step.item)
        selection = Selection(doing.item(step.item), machine.platform)
        entries = doing.packed.of(step.item)
        room = Room(doing, self.target, step.item)
        room.clear(STAGING)
        doing.await_closed(step.item)
        try:
            staged = _stage(doing, entries, room.fresh(STAGING))
            doing.record("staged", step=step.id)
            doing.await_closed(step.item)
            self._publish(staged, room, selection)
        finally:
            room.clear(STAGING)
        files = [e for e in entries if e.kind == "file"]
        facts: Facts = {
            "files": len(files),
            "size": sum(e.size for e in files),
            "verified": len(files),
            "to": self.target,
            "put aside": [self.aside] if self.aside else [],
            "passed by": list(self.passed_by),
            "beside": list(self.beside),
        }
        doing.record("published", step=step.id, facts=facts)
        return Done(facts)

    def _publish(self, staged: Path, room: Room, selection: Selection) -> None:
        existing, machine = self.step.text("existing"), self.doing.machine
        there = list(_there(machine, self.target, selection))
        if existing == "stop" and there:
            raise Halted(
                "something is there already",
                where=self.target,
                why="the recipe says to stop then",
                todo="Move it away, then walk again.",
            )
        if selection.whole and existing == "alongside" and there:
            self.target = beside(self.doing, self.target, self.doing.other())
            there = []
        if selection.whole and (existing in ("put aside", "stop") or not there):
            if there:
                self._put_aside(room, "")
            machine.effects.make_folders(machine.host(parent(self.target)))
            machine.effects.rename(staged, machine.host(self.target))
            machine.effects.sync_folder(machine.host(parent(self.target)))
            return
        if existing == "put aside":
            for path in there:
                self._put_aside(room, path)
        self._merge(staged, room, existing)

    def _put_aside(self, room: Room, path: str) -> None:
        """Rename what is at ``path`` below the target, or the target, into the run's folder."""
        machine = self.doing.machine
        self.aside = self.aside or room.fresh(ASIDE)
        source, to = machine.host(join(self.target, path)), machine.host(join(self.aside, path))
        machine.effects.make_folders(to.parent)
        machine.effects.rename(source, to)
        machine.effects.sync_folder(to.parent)

    def _merge(self, staged: Path, room: Room, existing: str) -> None:
        """Bring each staged file into place; ``existing`` decides where one is there already."""
        machine = self.doing.machine
        effects, host = machine.effects, machine.host(self.target)
        effects.make_folders(host)
        for folder, folders, files in os.walk(staged):
            below = Path(folder).relative_to(staged)
            links = [name for name in folders if (Path(folder) / name).is_symlink()]
            for name in sorted(set(folders) - set(links)):
                path = str(below / name)
                entry = machine.look(join(self.target, path))
                if entry is not None and entry.kind != "folder" and self._yields(existing, path):
                    self._put_aside(room, path)
                    entry = None
                if entry is None:
                    effects.make_folder(host / path)
                elif entry.kind != "folder":
                    folders.remove(name)
            for name in sorted([*files, *links]):
                self._bring(Path(folder) / name, str(below / name), room, existing)
            effects.sync_folder(host / below)

    def _bring(self, source: Path, path: str, room: Room, existing: str) -> None:
        machine, target = self.doing.machine, join(self.target, path)
        if machine.look(target) is not None:
            if existing == "alongside":
                target = beside(self.doing, target, self.doing.other())
                self.beside.append(target)
            elif self._yields(existing, path):
                self._put_aside(room, path)
            else:
                return
        machine.effects.rename(source, machine.host(target))

    def _yields(self, existing: str, path: str) -> bool:
        """Return whether what is at ``path`` gives way; else what was carried is passed by."""
        if existing == "pass by":
            self.passed_by.append(path)
        return existing != "pass by"


def _stage(doing: Doing, entries: tuple[CargoEntry, ...], folder: str) -> Path:
    effects, top = doing.machine.effects, doing.machine.host(folder)
    effects.make_folder(top)
    for entry in entries:
        path = top / entry.path
        if entry.kind == "folder":
            effects.make_folder(path)
        elif entry.kind == "link":
            effects.make_link(path, entry.target)
        else:
            with effects.create(path) as file:
                for chunk in doing.packed.chunks(entry):
                    file.write(chunk)
            effects.set_status(path, entry.mode, entry.mtime)
    for entry in reversed(entries):
        if entry.kind == "folder":
            effects.set_status(top / entry.path, entry.mode, entry.mtime)
    effects.barrier(top)
    for entry in entries:
        if entry.kind == "file" and _digest(top / entry.path) != entry.sha256:
            raise WentWrong(
                "what was written is not what was packed",
                where=join(folder, entry.path),
                why="its SHA-256 differs when it is read again",
                todo="Check the disk, then walk again; nothing was put in place.",
            )
    return top


def _digest(path: Path) -> str:
    """Return the SHA-256 of a file as the disk holds it, where the system lets us ask for that."""
    with path.open("rb") as file:
        if sys.platform == "linux":
            os.posix_fadvise(file.fileno(), 0, 0, os.POSIX_FADV_DONTNEED)
        return hashlib.file_digest(file, "sha256").hexdigest()


def _there(machine: Machine, target: str, selection: Selection) -> Iterator[str]:
    """Give what of the item is at ``target`` already: itself, or names below it that it takes."""
    if machine.look(target) is None:
        return
    if selection.whole:
        yield ""
        return
    yield from [e.path for e in selection.walk(machine, target) if e.kind != "folder"]
