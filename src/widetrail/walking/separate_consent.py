"""What of a leg needs a consent of its own, told from the very steps that are due."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from contextlib import closing

from widetrail.lazily import dataclass
from widetrail.machine.paths import is_within, join
from widetrail.machine.sensitive import (
    WHY,
    Attention,
    attention,
    attention_key,
    sensitive_below,
)
from widetrail.steps import Step, act_of
from widetrail.walking.step_context import WalkDoing


@dataclass(frozen=True, order=True)
class Apart:
    """A path or registry key of this station that needs a consent of its own, and why.

    ``taken`` tells that it is read there, and carried away.
    """

    path: str
    why: Attention
    item: str
    taken: bool = False

    @property
    def words(self) -> str:
        """What is told of it."""
        verb = f"{self.item} is taken from" if self.taken else f"{self.item} puts something at"
        return f"{verb} {self.path}: {WHY[self.why]}"


def apart(doing: WalkDoing, steps: Iterable[Step]) -> tuple[Apart, ...]:
    """Return what of ``steps`` needs a consent of its own on this machine, each path once."""
    return tuple(sorted({one for step in steps for one in _of_step(doing, step)}))


def _of_step(doing: WalkDoing, step: Step) -> Iterator[Apart]:
    machine, item = doing.machine, step.item
    for touched in act_of(step).touches(doing.shown(step), doing):
        path = touched.path
        if "\\" in path:
            why = None if touched.taken else attention_key(path)
        else:
            why = attention(path, machine, told=touched.told)
        if why is not None and (not touched.taken or why in ("access", "outside")):
            yield Apart(path, why, item, taken=touched.taken)
        if touched.holds_cargo and "\\" not in path:
            yield from _below(doing, item, path)


def _below(doing: WalkDoing, item: str, place: str) -> Iterator[Apart]:
    """Give the start-up places and the like below ``place`` at which an item's cargo arrives."""
    machine = doing.machine
    named = sensitive_below(place, machine)
    if not named:
        return
    with closing(doing.parcel.reader(machine.platform)) as packed:
        reached = {
            at
            for e in packed.of(item)
            if e.kind != "folder"
            for at in named
            if is_within(join(place, e.path), at, machine.platform)
        }
    yield from (Apart(at, why, item) for at, why in named.items() if at in reached)
