"""``publish``: an item's cargo to its place on new, staged first, then renamed into place.

What stands there is put aside by a rename of the same kind, so nothing is ever written over.
"""

from __future__ import annotations

import hashlib
import os
import sys
from pathlib import Path

from widetrail.errors import Halted, WentWrong
from widetrail.finding import Selection
from widetrail.machine import Machine
from widetrail.machine.paths import base, join, parent, split
from widetrail.steps.interface import CargoEntry, Doing, Done, Facts, Outcome, Step


class Publish:
    """Stages, verifies, puts aside and publishes."""

    def words(self, step: Step) -> str:
        words = {
            "put aside": "what is there of it already is put aside",
            "stop": "it must not be there yet",
            "overwrite": "it replaces what is there of it",
            "alongside": "it comes beside what is there",
            "pass by": "what is there of it stays as it is",
        }
        how = words[step.text("existing")]
        where = step.text("to") or "its place"
        return f"put {step.item} in place at {where}; {how}"

    def do(self, step: Step, doing: Doing) -> Outcome:
        published = doing.recorded("published", step.item)
        if published is not None:
            return Done(published)
        machine, target = doing.machine, doing.pinned(step.item)
        selection = Selection(doing.item(step.item), machine.platform)
        entries = doing.packed.of(step.item)
        room = _Room(machine, doing.workroom, target, step.item)
        room.clear("staging")
        doing.insist_closed(step.item)
        try:
            staged = _stage(doing, entries, room.fresh("staging"))
            doing.record("staged", item=step.item)
            doing.insist_closed(step.item)
            if step.text("existing") == "stop" and _present(machine, target, selection):
                raise Halted(
                    "something is there already",
                    where=target,
                    why="the recipe says to stop then",
                    todo="Move it away, then walk again.",
                )
            publish = _publish_whole if selection.whole else _publish_names
            put_aside = publish(machine, staged, target, room, selection)
        finally:
            room.clear("staging")
        files = [e for e in entries if e.kind == "file"]
        facts: Facts = {
            "files": len(files),
            "size": sum(e.size for e in files),
            "verified": len(files),
            "to": target,
            "put aside": list(put_aside),
        }
        doing.record("published", item=step.item, facts=facts)
        return Done(facts)


class _Room:
    """The run's folders for one item, on the volume of its target."""

    def __init__(self, machine: Machine, workroom: str, target: str, item: str) -> None:
        self._machine, self._item = machine, item
        self._home = workroom
        if machine.room(workroom).volume != machine.room(target).volume:
            anchor = split(target)[0] or machine.room(target).volume
            self._home = join(anchor, ".widetrail", base(workroom))

    def fresh(self, purpose: str) -> str:
        """Return a path under ``purpose`` where nothing is yet; its parent is made."""
        folder = join(self._home, purpose)
        self._machine.effects.make_folders(self._machine.host(folder))
        number, path = 1, join(folder, self._item)
        while self._machine.look(path) is not None:
            number += 1
            path = join(folder, f"{self._item}-{number}")
        return path

    def clear(self, purpose: str) -> None:
        """Remove what this run made under ``purpose``, and its folders where they are empty."""
        host = self._machine.host(join(self._home, purpose))
        if host.is_dir():
            self._machine.effects.remove_tree(host)
        for folder in (host.parent, host.parent.parent):
            ours = ".widetrail" in (folder.name, folder.parent.name)
            if ours and folder.is_dir() and not any(folder.iterdir()):
                self._machine.effects.remove_folder(folder)


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


def _present(machine: Machine, target: str, selection: Selection) -> bool:
    there = machine.look(target)
    if there is None or selection.whole:
        return there is not None
    return any(e.kind != "folder" for e in selection.walk(machine, target))


def _publish_whole(
    machine: Machine, staged: Path, target: str, room: _Room, _: Selection
) -> tuple[str, ...]:
    effects, host = machine.effects, machine.host(target)
    put_aside: tuple[str, ...] = ()
    if machine.look(target) is not None:
        aside = room.fresh("aside")
        effects.rename(host, machine.host(aside))
        effects.sync_folder(machine.host(aside).parent)
        put_aside = (aside,)
    effects.make_folders(machine.host(parent(target)))
    effects.rename(staged, host)
    effects.sync_folder(host.parent)
    return put_aside


def _publish_names(
    machine: Machine, staged: Path, target: str, room: _Room, selection: Selection
) -> tuple[str, ...]:
    effects, host = machine.effects, machine.host(target)
    put_aside: tuple[str, ...] = ()
    if machine.look(target) is not None:
        there = [e for e in selection.walk(machine, target) if e.kind != "folder"]
        if there:
            aside = room.fresh("aside")
            for entry in there:
                path = join(aside, entry.path)
                effects.make_folders(machine.host(parent(path)))
                effects.rename(machine.host(join(target, entry.path)), machine.host(path))
            put_aside = (aside,)
    effects.make_folders(host)
    for folder, folders, files in os.walk(staged):
        at = host / Path(folder).relative_to(staged)
        for name in sorted(folders):
            if not (at / name).is_dir():
                effects.make_folder(at / name)
        for name in sorted(files):
            effects.rename(Path(folder) / name, at / name)
        effects.sync_folder(at)
    return put_aside
