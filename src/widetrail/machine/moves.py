"""Moves: the changes of a person's folders as plain values, made in any state of being made.

A list of moves is written down before the first is made, so that it can be gone on with after a
cut and taken back later. Each is one rename within a volume, or one folder. Paths are the
machine's own.

``out``: what stands at ``source`` is put away at ``target``, a name that was free when it was
chosen. ``into``: what lies ready at ``source`` gets its place at ``target``. ``folder``: a folder
at ``target``; ``unfolder``: that folder goes, if it is empty.
"""

from __future__ import annotations

import errno
import stat
from collections.abc import Callable, Iterable, Mapping, Sequence
from pathlib import Path
from typing import Literal, NamedTuple

from widetrail.formats.outside import SafePath
from widetrail.formats.stored_values import Text
from widetrail.machine.effect_failed import EffectFailed
from widetrail.machine.interface import Machine
from widetrail.machine.paths import join, parent

MoveKind = Literal["out", "into", "folder", "unfolder"]


class Move(NamedTuple):
    """One change; ``source`` is empty for folders."""

    kind: MoveKind
    source: Text
    target: Text


def carry_out(
    machine: Machine,
    moves: Iterable[Move],
    taken: Callable[[str], str] | None = None,
    modes: Mapping[str, int] | None = None,
) -> None:
    """Make what of ``moves`` is not made yet, in order, and make the names durable.

    ``modes`` is what ``modes_of`` gave before the first was made: a folder that may not be written
    to has its mode again in the end, whenever this was cut off.

    ``taken`` is asked for a free name where something stands in the way of ``into``: what does is
    put away there first, after ``taken`` wrote that down. Without it that is an error.

    Raises:
        EffectFailed: The system refuses; what was made stays made.
    """
    effects, touched = machine.effects, dict[Path, None]()
    known: dict[str, SafePath] = {}

    def host(path: str) -> SafePath:
        folder, name = path.rpartition("/")[::2]
        if folder not in known:  # names below one folder are resolved once
            known[folder] = machine.host(folder or "/")
        resolved = known[folder] / name
        return resolved if resolved.exists() else machine.host(path)

    for move in moves:
        target = host(move.target)
        if move.kind == "folder":
            if not target.exists():
                effects.make_folder(target)
                touched[target.parent] = None
            continue
        if move.kind == "unfolder":
            if target.is_empty():
                effects.remove_folder(target)
                touched[target.parent] = None
            continue
        source = host(move.source)
        if not source.exists():
            continue
        if target.exists():
            if move.kind == "out":  # its name was free, so it was made: another stands there now
                continue
            _make_way(machine, move, target, taken, touched)
        if not target.parent.exists():
            touched |= {folder.parent: None for folder in effects.make_folders(target.parent)}
        try:
            effects.rename(source, target)
        except EffectFailed as error:  # it appeared this very moment
            if error.code != errno.EEXIST or move.kind == "out" or taken is None:
                raise
            _make_way(machine, move, target, taken, touched)
            effects.rename(source, target)
        touched |= {target.parent: None, source.parent: None}
    for path, mode in (modes or {}).items():
        shut = machine.host(path)
        if shut.is_dir() and stat.S_IMODE(shut.stat().st_mode) != mode:
            effects.set_mode(shut, mode)
    for folder in touched:
        if folder.is_dir():
            effects.sync_folder(folder)


def _make_way(
    machine: Machine,
    move: Move,
    target: Path,
    taken: Callable[[str], str] | None,
    touched: dict[Path, None],
) -> None:
    """Put what stands in the way of ``move`` away, where ``taken`` says."""
    if taken is not None:
        away = machine.host(taken(move.target))
        machine.effects.rename(target, away)
        touched[away.parent] = None


def roll_back(machine: Machine, moves: Sequence[Move]) -> None:
    """Give each name back that ``moves`` moved, last first, as far as the system lets it."""
    for move in reversed(moves):
        if move.kind not in ("out", "into"):
            continue
        source, target = machine.host(move.source), machine.host(move.target)
        if target.exists() and not source.exists():
            machine.effects.rename(target, source)
            machine.effects.sync_folder(source.parent)
            machine.effects.sync_folder(target.parent)
    for move in reversed(moves):
        host = machine.host(move.target)
        if move.kind == "folder" and host.is_empty():
            machine.effects.remove_folder(host)


def taken_back(moves: Sequence[Move], fresh: Callable[[str], str]) -> list[Move]:
    """Return the moves that take ``moves`` back, in order; nothing is destroyed by them.

    What was put into a place is put away again, at a name that ``fresh`` gives for the place.
    """
    back: list[Move] = []
    for move in reversed(moves):
        match move.kind:
            case "out":
                back.append(Move("into", move.target, move.source))
            case "into":
                back.append(Move("out", move.target, fresh(move.target)))
            case "folder":
                back.append(Move("unfolder", "", move.target))
            case "unfolder":
                back.append(Move("folder", "", move.target))
    return back


def times_of(machine: Machine, moves: Iterable[Move]) -> dict[str, int]:
    """Return when the folders were changed that ``moves`` change the names of (ns since 1970)."""
    folders = {parent(p) for move in moves for p in (move.source, move.target) if p}
    found = {}
    for folder in sorted(folders):
        host = machine.host(folder)
        if host.is_dir():
            found[folder] = host.stat().st_mtime_ns
    return found


def modes_of(machine: Machine, moves: Iterable[Move]) -> dict[str, int]:
    """Return the modes of the folders that may not be written to and are moved by ``moves``, or
    have names changed in them, by where they are afterwards.
    """
    found: dict[str, int] = {}
    for move in moves:
        if not move.source:
            continue
        folders = (parent(move.source), parent(move.target))
        for path, after in ((move.source, move.target), *zip(folders, folders, strict=True)):
            host = machine.host(path)
            if after in found or not host.is_dir():
                continue
            if (mode := stat.S_IMODE(host.stat().st_mode)) & 0o300 != 0o300:
                found[after] = mode
    return found


def restore_times(machine: Machine, times: Mapping[str, int]) -> None:
    """Give folders that are there the times they had."""
    for folder, moment in sorted(times.items(), reverse=True):
        host = machine.host(folder)
        if host.is_dir() and host.stat().st_mtime_ns != moment:
            machine.effects.set_status(host, host.stat().st_mode, moment)


def below(folder: str, path: str) -> str:
    """Return ``path`` below ``folder``, or the folder for an empty path."""
    return join(folder, path) if path else folder
