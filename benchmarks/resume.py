"""How fast a walk goes on where it was cut off, and how fast many small files are put in place.

    python benchmarks/resume.py

The peer of publishing is ``cp -a FOLDER COPY && sync`` of the same files on the same volume.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from contextlib import suppress
from datetime import UTC, datetime
from pathlib import Path
from statistics import median

from widetrail.machine import Effects, FolderMachine, medium_of
from widetrail.machine.effects import Effect
from widetrail.parcel import Along, Parcel, set_out
from widetrail.parcel.seal import Seal
from widetrail.planning import make_plan
from widetrail.recipe import load_recipe_text
from widetrail.steps import KINDS
from widetrail.walking import Visit

RECIPE = """
recipe: 1
revision: 1
application: {id: fernbook, name: Fernbook}
recognise: [{sign: {file: "{home}/fernbook.ini"}}]
places: {notes: {folder: "{home}/notes"}}
items:
  notes: {title: Notes, from: notes, routes: [{name: copy, legs: [{new: [copy]}]}]}
"""
NOW = datetime(2026, 11, 24, tzinfo=UTC)


class Stopped(BaseException):
    """The walk was cut off."""


def machines(folder: Path, count: int, size: int) -> Path:
    for name in ("old", "new"):
        home = folder / name / "root/home/ada"
        home.mkdir(parents=True)
        (home / "fernbook.ini").write_text("")
        (folder / name / "machine.yaml").write_text(
            f"machine: {name}\nplatform: linux\nsystem: '12'\nuser: ada\n"
            "disks: {/: {folder: root}}\n"
        )
    notes = folder / "old/root/home/ada/notes"
    notes.mkdir()
    for number in range(count):
        (notes / f"{number:05d}.bin").write_bytes(os.urandom(size))
    return notes


def plan(folder: Path, sealed: tuple[Seal, bytes] | None = None) -> None:
    loaded = load_recipe_text(RECIPE, "benchmark", KINDS)
    old, new = (FolderMachine(folder / name) for name in ("old", "new"))
    made = make_plan([loaded], old, new, medium_of(folder), NOW)
    set_out(folder / "parcel", made, [loaded], "run", NOW, old.effects, Along(sealed=sealed))


def walk(folder: Path, name: str, gate: Callable[[Effect], None] | None = None) -> float:
    effects = Effects(gate)
    begun = time.monotonic()
    Visit(Parcel(folder / "parcel", effects), FolderMachine(folder / name, effects)).walk(NOW)
    return time.monotonic() - begun


def count_effects(folder: Path, name: str) -> int:
    seen: list[int] = []
    walk(folder, name, lambda effect: seen.append(effect.number))
    return len(seen)


def resume(folder: Path, name: str) -> tuple[float, float]:
    """Return the seconds that a whole leg takes, and those to go on at 95 % of its effects."""
    shutil.copytree(folder, folder.with_name(f"{name}-count"), symlinks=True)
    total = count_effects(folder.with_name(f"{name}-count"), name)
    shutil.rmtree(folder.with_name(f"{name}-count"))
    shutil.copytree(folder, folder.with_name(f"{name}-whole"), symlinks=True)
    os.sync()
    whole = walk(folder.with_name(f"{name}-whole"), name)
    shutil.rmtree(folder.with_name(f"{name}-whole"))

    def stop(effect: Effect) -> None:
        if effect.number >= total * 0.95:
            raise Stopped

    with suppress(Stopped):
        walk(folder, name, stop)
    os.sync()
    return whole, walk(folder, name)


def main() -> None:
    print("resume, cut off at 95 % of the effects   whole (s)   resumed (s)   share")
    for told, count, size in (
        ("1 GiB in 64 files", 64, 16 << 20),
        ("20,000 of 4 KiB", 20_000, 4096),
    ):
        with tempfile.TemporaryDirectory() as top:
            folder = Path(top) / "stage"
            folder.mkdir()
            machines(folder, count, size)
            plan(folder)
            for name in ("old", "new"):
                whole, resumed = resume(folder, name)
                share = resumed / whole
                print(f"{told + ', ' + name:<40} {whole:>9.2f} {resumed:>13.2f} {share:>7.2f}")
    with tempfile.TemporaryDirectory() as top:
        folder = Path(top) / "stage"
        folder.mkdir()
        notes = machines(folder, 20_000, 4096)
        plan(folder)
        walk(folder, "old")
        rounds = [measure(folder, notes, Path(top), number) for number in range(ROUNDS)]
        print("\npublishing 20,000 of 4 KiB     (s)   read back too (s)   cp -a and sync (s)")
        for mine, read, peer in rounds:
            print(f"{'':<30} {mine:>3.2f} {read:>19.2f} {peer:>20.2f}")
        mine, read, peer = (median(values) for values in zip(*rounds, strict=True))
        print(f"medians {mine:>25.2f} {read:>19.2f} {peer:>20.2f}")
        print(f"ratio {mine / peer:.2f}, with reading back {read / peer:.2f}")


ROUNDS = 8
"""Every second round the peer is first: the volume is another one after each."""


def measure(folder: Path, notes: Path, top: Path, number: int) -> tuple[float, float, float]:
    if number % 2:
        return (*publishing(folder, top), copying(notes, top))
    peer = copying(notes, top)
    return (*publishing(folder, top), peer)


def publishing(folder: Path, top: Path) -> tuple[float, float]:
    """Return the seconds to stage, make durable and rename, without and with reading back."""
    copy = top / "published"
    shutil.copytree(folder, copy, symlinks=True)
    os.sync()
    staged, renamed, durable = list[float](), list[float](), list[float]()

    class Timed(Effects):
        def barrier(self, path: Path) -> None:
            super().barrier(path)
            durable.append(time.monotonic())

    def gate(effect: Effect) -> None:
        if "staging" in effect.path:
            staged.append(time.monotonic())
        if effect.path.endswith("/ada/notes"):
            renamed.append(time.monotonic())

    effects = Timed(gate)
    Visit(Parcel(copy / "parcel", effects), FolderMachine(copy / "new", effects)).walk(NOW)
    shutil.rmtree(copy)
    os.sync()
    return durable[-1] - staged[0], renamed[-1] - staged[0]


def copying(notes: Path, top: Path) -> float:
    started = time.monotonic()
    subprocess.run(["cp", "-a", notes, top / "copy"], check=True)
    subprocess.run(["sync"], check=True)
    peer = time.monotonic() - started
    shutil.rmtree(top / "copy")
    os.sync()
    return peer


if __name__ == "__main__":
    sys.exit(main())
