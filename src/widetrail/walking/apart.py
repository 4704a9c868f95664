"""What of a leg needs a consent of its own, told from the very steps that are due."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from contextlib import closing
from dataclasses import dataclass

from widetrail.machine.paths import is_within, join
from widetrail.machine.sensitive import (
    WHY,
    Attention,
    attention,
    attention_key,
    sensitive_below,
)
from widetrail.recipe.templates import braces, plain
from widetrail.steps import Step
from widetrail.steps.write import STORES
from widetrail.walking.doing import WalkDoing


@dataclass(frozen=True, slots=True, order=True)
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
    shown = doing.shown(step)
    paths = [plain(p) for p in (*shown.changes, *shown.writes) if not braces(p)]
    store = shown.text("form") in STORES or doing.store(item) is not None
    if step.kind == "write" and store:
        yield from _of_key(shown.text("file"), item)
    if step.kind not in ("pack", "publish", "enter"):
        for path in paths:
            why = attention(path, machine, told=True)
            if why is not None:
                yield Apart(path, why, item)
        return
    given = shown.text("given")
    place = plain(shown.text("to")) if given else doing.pinned(item)
    if not place or braces(place):
        return
    if "\\" in place:
        if step.kind != "pack":
            yield from _of_key(place, item)
        return
    told = bool(given) or doing.finders[doing.planned(item).recipe].is_told(doing.item(item).from_)
    why = attention(place, machine, told=told)
    if step.kind == "pack":
        if why in ("access", "outside"):
            yield Apart(place, why, item, taken=True)
        return
    if why is not None:
        yield Apart(place, why, item)
    yield from _below(doing, item, place)


def _below(doing: WalkDoing, item: str, place: str) -> Iterator[Apart]:
    """Give the start-up places and the like below ``place`` at which an item's cargo arrives."""
    machine = doing.machine
    named = sensitive_below(place, machine)
    if not named:
        return
    with closing(doing.parcel.reader(machine.platform)) as packed:
        arrive = [join(place, e.path) for e in packed.of(item) if e.kind != "folder"]
    for at, why in named.items():
        if any(is_within(path, at, machine.platform) for path in arrive):
            yield Apart(at, why, item)


def _of_key(key: str, item: str) -> Iterator[Apart]:
    why = attention_key(plain(key))
    if why is not None:
        yield Apart(plain(key), why, item)
