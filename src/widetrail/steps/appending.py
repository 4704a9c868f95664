"""Adding to the end of a file that is too large to be kept whole: it is cut off there again."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from hashlib import sha256

from widetrail.formats.stored_values import Count, Moment, Text
from widetrail.lazily import dataclass
from widetrail.machine import Machine
from widetrail.machine.paths import parent
from widetrail.steps.backup import room_at
from widetrail.steps.contexts import Work
from widetrail.steps.journal_events import StepRecord
from widetrail.steps.run_storage import ASIDE
from widetrail.steps.step import Step

LARGE = 1024 * 1024 * 1024
"""Bytes from which on a file is not kept whole, but added to where it lies."""

TAIL = 64 * 1024
"""Bytes before what is added by which it is seen that the file is still the one it was."""

_CHUNK = 4 * 1024 * 1024


class Appending(StepRecord):
    """Something is going to be added to the end of a file, which has ``size`` bytes and was changed
    at ``moment`` (ns); ``tail`` is the SHA-256 of the last of these bytes."""

    event = "appending"

    place: Text
    size: Count
    moment: Moment
    tail: Text

    def paths(self) -> Iterator[str]:
        """Give every path that it names."""
        yield self.place


@dataclass(frozen=True, slots=True)
class Cut:
    """The end of a file that goes again: all after ``size`` bytes, which is put ``away`` first."""

    place: Text
    size: Count
    moment: Moment
    tail: Text
    away: Text


def append_chunks(step: Step, doing: Work, path: str, chunks: Iterable[bytes]) -> None:
    """Add ``chunks`` to the end of the file at ``path``, which is there, and make them durable."""
    machine = doing.machine
    there = machine.look(path)
    assert there is not None, "only a file that is there is large"
    tail = _tail(machine, path, there.size)
    doing.record(
        Appending(step=step.id, place=path, size=there.size, moment=there.mtime, tail=tail)
    )
    with machine.effects.append(machine.host(path)) as file:
        for chunk in chunks:
            file.write(chunk)
        file.sync()


def cut_again(step: Step, doing: Work) -> str:
    """Cut off what a step that was cut off had added; return why that cannot be done."""
    begun = doing.recorded(Appending, step.id)
    if begun is None:
        return ""
    away = room_at(doing, begun.place, step.item).fresh(ASIDE)
    return cut_off(doing.machine, cut_of(begun, away))


def cut_of(record: Appending, away: str) -> Cut:
    """Return what takes back what a record says was going to be added."""
    return Cut(record.place, record.size, record.moment, record.tail, away)


def cut_off(machine: Machine, cut: Cut) -> str:
    """Give a file back the end that it had; return why not, where it is another file by now.

    A call that was cut off is made again.
    """
    there = machine.look(cut.place)
    if there is None or there.kind != "file" or there.size < cut.size:
        return f"{cut.place} is not the file that was appended to"
    if _tail(machine, cut.place, cut.size) != cut.tail:
        return f"{cut.place} was rewritten since, so what was added is still in it"
    effects, host, away = machine.effects, machine.host(cut.place), machine.host(cut.away)
    if there.size > cut.size:
        if away.exists():
            effects.remove_file(away)
        effects.keep_private(machine.host(parent(cut.away)))
        with machine.open(cut.place) as source, effects.create(away, 0o600) as target:
            source.seek(cut.size)
            while chunk := source.read(_CHUNK):
                target.write(chunk)
            target.sync()
        effects.sync_folder(away.parent)
        effects.cut(host, cut.size)
    with effects.append(host) as file:
        file.set_status(there.mode, cut.moment)
        file.sync()
    return ""


def _tail(machine: Machine, path: str, size: int) -> str:
    """Return the SHA-256 of the last bytes of the first ``size`` of a file."""
    with machine.open(path) as file:
        file.seek(max(0, size - TAIL))
        return sha256(file.read(min(size, TAIL))).hexdigest()
