"""Putting a whole file, or values of a store, in place, so that what was there can be had back."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable, Mapping, Sequence
from pathlib import Path

from widetrail.finding.stores import Store
from widetrail.machine.moves import Move
from widetrail.steps.backup import missing_folders, move, move_again, room_at
from widetrail.steps.contexts import Work
from widetrail.steps.journal_events import Moves, ValuesSaved, ValuesSaving
from widetrail.steps.run_storage import ASIDE, SAVED, STAGING, Room
from widetrail.steps.step import Step


def put_file(
    step: Step, doing: Work, path: str, data: bytes, beside: Sequence[str] = ()
) -> list[str]:
    """Put a whole file at ``path``; return where what was there is kept.

    It has the mode and attributes of that. What is at ``beside``, such as the journal of a
    database, goes away with it. A walk that was cut off goes on with its moves.
    """
    return put_chunks(step, doing, path, (data,), beside)


def put_chunks(
    step: Step,
    doing: Work,
    path: str,
    chunks: Iterable[bytes],
    beside: Sequence[str] = (),
    judge: Callable[[Path], None] | None = None,
) -> list[str]:
    """Put a whole file at ``path``, as ``put_file`` does, that comes in pieces.

    ``judge`` is told the file as it lies ready, and raises where it may not be put there.
    """
    machine = doing.machine
    if (before := put_again(step, doing)) is not None:
        return before
    there, room = machine.look(path), room_at(doing, path, step.item)
    staged = room.fresh(STAGING)
    moment = int(doing.now.timestamp() * 10**9)
    with machine.effects.create(machine.host(staged), 0o600) as file:
        for chunk in chunks:
            file.write(chunk)
        if there is not None and (attributes := machine.attributes(path)):
            machine.effects.set_attributes(machine.host(staged), attributes)
        file.set_status(there.mode if there is not None else 0o600, moment)
        file.sync()
    machine.effects.sync_folder(machine.host(staged).parent)
    if judge is not None:
        try:
            judge(machine.host(staged))
        except BaseException:
            room.clear(staged)
            raise
    gone = [p for p in (path, *beside) if machine.look(p) is not None]
    free = room.fresh(ASIDE)
    away = [free if n == 0 else f"{free}.{n}" for n in range(len(gone))]
    out = [Move("out", p, to) for p, to in zip(gone, away, strict=True)]
    moves = [*out, *missing_folders(machine, path), Move("into", staged, path)]
    move(step, doing, moves, aside=away)
    return away


def put_again(step: Step, doing: Work) -> list[str] | None:
    """Go on where a walk was cut off that put a file; ``None`` where none was."""
    before = doing.recorded(Moves, step.id)
    if before is None:
        return None
    move_again(doing, before)
    return list(before.aside)


def put_values(
    step: Step,
    doing: Work,
    store: Store,
    changes: Mapping[str, str | None],
    before: Mapping[str, str],
) -> list[str]:
    """Change a store, with what it held kept first; return where that is."""
    effects = doing.machine.effects
    saving, saved = doing.recorded(ValuesSaving, step.id), doing.recorded(ValuesSaved, step.id)
    if saved is None and changes:
        room = Room(doing.machine, doing.workroom, doing.workroom, doing.slug(step.item))
        path = saving.kept if saving is not None else room.fresh(SAVED)
        if saving is None:
            doing.record(ValuesSaving(step=step.id, kept=path, store=store.kind, place=store.place))
        host = doing.machine.host(path)
        if host.exists():  # a walk was cut off here, before it changed anything
            effects.remove_file(host)
        effects.keep_private(host.parent)
        effects.put(host, json.dumps({n: before.get(n) for n in changes}).encode(), 0o600)
        doing.record(ValuesSaved(step=step.id, kept=path))
    store.change(changes)
    kept = doing.recorded(ValuesSaved, step.id)
    return [kept.kept] if kept is not None else []
