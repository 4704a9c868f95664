"""Staging an item on its volume: written, made durable, and verified from the disk."""

from __future__ import annotations

import os
from collections.abc import Sequence
from itertools import islice

from widetrail.errors import WentWrong
from widetrail.formats.outside import SafePath
from widetrail.machine import file_digest
from widetrail.machine.moves import below
from widetrail.steps.cargo import CargoEntry
from widetrail.steps.outcomes import remarks
from widetrail.steps.publish_step import (
    CHECKPOINT,
    CHECKPOINT_FILES,
    FEW,
    VERIFIERS,
    Has,
    Placing,
    PublishFacts,
    PublishStep,
    Staged,
    StagedSoFar,
    StagingBegun,
)
from widetrail.steps.run_storage import STAGING, Room
from widetrail.steps.tree_writer import TreeWriter


class Staging:
    """One item that is made ready beside its place."""

    _step: PublishStep
    _doing: Has

    def _staged(self, room: Room) -> str:
        """Return where all of the item lies ready, staging what is not staged yet."""
        doing = self._doing
        ready = doing.recorded(Staged, self._step.id)
        if ready is not None and self._is_there(ready.path):
            return ready.path
        begun = doing.recorded(StagingBegun, self._step.id)
        if begun is not None and doing.machine.host(begun.path).is_dir():
            try:
                return self._stage(begun.path)
            except WentWrong:  # the power went, and what had been written was not whole yet
                room.clear(begun.path)
        folder = room.fresh(STAGING)
        doing.record(StagingBegun(step=self._step.id, path=folder))
        try:
            return self._stage(folder)
        except BaseException:
            if doing.recorded(StagedSoFar, self._step.id) is None:
                room.clear(folder)
            raise

    def _is_there(self, staged: str) -> bool:
        moving = self._doing.recorded(Placing, self._step.id) is not None
        return moving or self._doing.machine.host(staged).is_dir()

    def _stage(self, folder: str) -> str:
        """Stage what of the item is not in ``folder`` yet, verify it, and return the folder."""
        doing, effects = self._doing, self._doing.machine.effects
        item, top = self._step.item, doing.machine.host(folder)
        so_far = doing.recorded(StagedSoFar, self._step.id)
        count = so_far.count if so_far is not None and so_far.path == folder else 0
        resumed = top.exists()
        writer = TreeWriter(effects, top, begun=resumed)
        done, (names, files, total) = 0, doing.packed.tally(item)
        for entry in islice(doing.packed.of(item), count):
            writer.passed(entry, entry.path)
            done += entry.size
        every, waiting = max(CHECKPOINT, total // 16), list[CargoEntry]()
        begun, since = doing.clock(), done
        for number, entry in enumerate(doing.packed.of(item, count), start=count + 1):
            if resumed and writer.is_written(entry, entry.path):
                writer.passed(entry, entry.path)
            else:
                writer.write(entry, entry.path, doing.packed.chunks, entry.attributes_by_name)
            done += entry.size
            waiting.append(entry)
            left = (total - done) * (doing.clock() - begun) / done if done else None
            doing.onlooker.moves(done, total, "bytes", left, (number, names))
            due = done - since >= every or len(waiting) >= CHECKPOINT_FILES
            if due and number < names:
                effects.barrier(top)
                self._verify(top, folder, waiting)
                doing.record(StagedSoFar(step=self._step.id, path=folder, count=number))
                since, waiting = done, []
        writer.finish()
        effects.barrier(top)
        self._verify(top, folder, waiting)
        facts = PublishFacts(
            files=files,
            size=total,
            verified=files,
            remarks=remarks("attributes_lost", writer.without_attributes),
        )
        doing.record(Staged(step=self._step.id, path=folder, facts=facts))
        return folder

    def _verify(self, top: SafePath, shown: str, entries: Sequence[CargoEntry]) -> None:
        """Read staged files from the disk and compare them with what was packed.

        Raises:
            ParcelUnusable: What is in the parcel is not what was packed.
            WentWrong: What is on the disk is not what is in the parcel.
        """
        files = [entry for entry in entries if entry.kind == "file"]
        above = f"{top}{os.sep}"

        def differing(some: Sequence[CargoEntry]) -> list[CargoEntry]:
            return [entry for entry in some if file_digest(f"{above}{entry.path}") != entry.sha256]

        if sum(entry.size for entry in files) < FEW:
            found = iter([differing(files)])
        else:  # the disk is waited for and hashing lets others run, so several read at a time
            from concurrent.futures import ThreadPoolExecutor  # which a plan does without

            with ThreadPoolExecutor(VERIFIERS) as pool:
                found = pool.map(differing, [files[n::VERIFIERS] for n in range(VERIFIERS)])
        for entry in (entry for some in found for entry in some):
            self._doing.packed.insist(entry)
            raise WentWrong(
                "what was written differs from what was packed",
                where=below(shown, entry.path),
                why="its SHA-256 differs when it is read back",
                todo="Check the disk, then walk again; nothing was copied to its place.",
            )
