"""Effects that keep the state of every disk before each, so that a walk can be stopped anywhere."""

from __future__ import annotations

import os
import random
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from widetrail.formats import digest
from widetrail.lazily import dataclass
from widetrail.machine import Effect, Effects
from widetrail.machine.effect_failed import REFUSALS
from widetrail.planning import PlannedLeg
from widetrail.rehearsing.fault_injection import Stopped
from widetrail.steps import Step
from widetrail.testing.power_loss import (
    PROGRAM_WRITES,
    Durable,
    Live,
    Tree,
)
from widetrail.testing.stage import MAKER, Stage
from widetrail.walking import Silent

ERROR_NUMBERS = tuple(REFUSALS.values())
KILLED = "killed"


@dataclass(frozen=True)
class Stop:
    """One place to stop at: before the effect of that number in a leg, in one mode.

    ``state`` names the tree that was there then; ``step`` is what was being done.
    """

    leg: int
    number: int
    kind: str
    step: str
    mode: str
    state: str


class Watching(Silent):
    """Knows which step is being done."""

    step = ""

    def begins(self, step: Step, words: str, number: int, total: int) -> None:
        self.step = f"{step.item}:{step.kind}"


class Recording(Effects):
    """Effects that keep the state before each, in every mode."""

    def __init__(self, stage: Stage, leg: PlannedLeg, watching: Watching) -> None:
        super().__init__()
        self._stage, self._leg, self._watching = stage, leg, watching
        self._live = Live(stage.here)
        self._running = stage.volumes_of(leg.station)
        volumes = stage.volumes()
        elsewhere = [MAKER] if stage.service is not None else []
        self._durable = {w: Durable(self._live, volumes, w, elsewhere) for w in PROGRAM_WRITES}
        self._wrote = ""
        self.stops: list[Stop] = []
        self.trees: dict[str, Tree] = {}

    @contextmanager
    def _effect(self, kind: str, path: Path | str, *, own: bool = False) -> Iterator[None]:
        self._keep(kind)
        with super()._effect(kind, path, own=own):
            yield
        self._live.look()
        below = os.path.relpath(path, self._stage.here) if kind != "start" else ""
        below = "" if below == os.curdir else below
        for durable in self._durable.values():
            durable.after(kind, below, self._running)
        self._wrote = below if kind == "write" else ""

    def _keep(self, kind: str) -> None:
        states = {KILLED: dict(self._live.tree)}
        for writes, durable in self._durable.items():
            states[f"power, programs' writes {writes}"] = durable.tree()
            if self._wrote:
                torn = durable.tree(self._wrote)
                states[f"power, programs' writes {writes}, last write torn"] = torn
        for mode, tree in states.items():
            state = _digest(tree)
            self.trees.setdefault(state, tree)
            self.stops.append(
                Stop(self._leg.number, self.count + 1, kind, self._watching.step, mode, state)
            )


def _digest(tree: Tree) -> str:
    told = (f"{p!a} {n.kind} {n.mode} {n.mtime} {digest(n.data)}" for p, n in sorted(tree.items()))
    return digest("\n".join(told).encode())


def stopping(dice: random.Random) -> Effects:
    """Return effects that are stopped at a number thrown by ``dice``, and do nothing after it."""
    number = dice.randint(1, 60)

    def gate(effect: Effect) -> None:
        if effect.number >= number:
            raise Stopped

    return Effects(gate)
