"""Saving what a program is going to change, so that it can be had back."""

from __future__ import annotations

from widetrail.errors import MachineUnusable
from widetrail.machine import Entry
from widetrail.machine.paths import base, join, parent
from widetrail.steps.interface import Doing, Step
from widetrail.steps.room import ASIDE, SAVED, STAGING, Room

_CHUNK = 1024 * 1024


def save(step: Step, doing: Doing, place: str) -> None:
    """Copy what is at ``place``, and journal where the copy is; once for each step and place.

    Raises:
        EffectFailed: There is no room for it, or the system refuses.
        MachineUnusable: Something there cannot be read.
    """
    if _saved(step, doing, place) is not None:
        return
    there, room = doing.machine.look(place), Room(doing, place, step.item)
    kept = ""
    if there is not None:
        room.clear(STAGING)
        copy = room.fresh(STAGING)
        _copy(doing, place, there, copy)
        doing.machine.effects.barrier(doing.machine.host(parent(copy)))
        kept = room.fresh(SAVED)
        doing.machine.effects.rename(doing.machine.host(copy), doing.machine.host(kept))
        doing.machine.effects.sync_folder(doing.machine.host(parent(kept)))
        room.clear(STAGING)
    doing.record(f"saved {place}", step=step.id, place=place, kept=kept)


def put_back(step: Step, doing: Doing, place: str) -> None:
    """Give ``place`` back what was saved; what stands there now is put aside."""
    saved = _saved(step, doing, place)
    if saved is None:
        return
    machine, kept = doing.machine, str(saved["kept"])
    if machine.look(place) is not None:
        aside = Room(doing, place, step.item).fresh(ASIDE)
        machine.effects.rename(machine.host(place), machine.host(aside))
    if kept and machine.look(kept) is not None:
        machine.effects.make_folders(machine.host(parent(place)))
        machine.effects.rename(machine.host(kept), machine.host(place))
    machine.effects.sync_folder(machine.host(parent(place)))
    doing.record(f"put back {place}", step=step.id, place=place)


def keep_first(step: Step, doing: Doing, place: str) -> str:
    """Let go of what was saved for a step where an earlier one of this run saved the place too.

    Return where what was there before this run is kept, if the step's own copy is that.
    """
    saved = _saved(step, doing, place)
    kept = str(saved["kept"]) if saved is not None else ""
    first = doing.records(f"saved {place}")[0]
    if not kept or first["step"] == step.id or _put_back(doing, place, str(first["step"])):
        return kept
    host = doing.machine.host(kept)
    if host.is_dir() and not host.is_symlink():
        doing.machine.effects.remove_tree(host)
    elif host.is_symlink() or host.exists():
        doing.machine.effects.remove_file(host)
    return ""


def _put_back(doing: Doing, place: str, step: str) -> bool:
    return doing.recorded(f"put back {place}", step) is not None


def _saved(step: Step, doing: Doing, place: str) -> dict[str, object] | None:
    """Return the newest record of what was saved, unless it was put back since."""
    saved = doing.recorded(f"saved {place}", step.id)
    back = doing.recorded(f"put back {place}", step.id)
    if saved is None or (back is not None and int(str(back["at"])) > int(str(saved["at"]))):
        return None
    return dict(saved)


def _copy(doing: Doing, place: str, there: Entry, copy: str) -> None:
    machine = doing.machine
    if there.kind == "other":
        raise MachineUnusable("is no regular file", where=place)
    entries = [there] if there.kind != "folder" else [there, *machine.walk(place)]
    folders = []
    for entry in entries:
        inner = "" if entry is there else entry.path
        host = machine.host(copy) / inner if inner else machine.host(copy)
        if entry.kind == "folder":
            machine.effects.make_folder(host)
            folders.append((host, entry))
        elif entry.kind == "link":
            machine.effects.make_link(host, entry.target)
        elif entry.kind == "file":
            with machine.open(join(place, inner)) as source, machine.effects.create(host) as file:
                while chunk := source.read(_CHUNK):
                    file.write(chunk)
            machine.effects.set_status(host, entry.mode, entry.mtime)
    for host, entry in reversed(folders):
        machine.effects.set_status(host, entry.mode, entry.mtime)


def beside(doing: Doing, path: str, origin: str) -> str:
    """Return a path beside ``path`` where nothing is yet, named for where its contents come from.

    The ending of the name stays: ``a.view`` becomes ``a (from potting-shed).view``.
    """
    name = base(path)
    stem, dot, ending = name.rpartition(".") if "." in name[1:] else (name, "", "")
    number = 1
    while True:
        more = f" {number}" if number > 1 else ""
        free = join(parent(path), f"{stem} (from {origin}{more}){dot}{ending}")
        if doing.machine.look(free) is None:
            return free
        number += 1
