"""How long a plan takes for 1, 10 and 100 recipes, beside the bare cost of loading them.

Run: ``python benchmarks/plan_time.py``. Each recipe has an item of 20 files in a place of its own,
two routes, a need and a check; machines are folder machines in a temporary folder. The peer is
``yaml.load`` with PyYAML's C loader on the same recipe texts, in the same run.
"""

from __future__ import annotations

import tempfile
import time
from datetime import UTC, datetime
from pathlib import Path

import yaml

from widetrail.machine import FolderMachine, Medium
from widetrail.planning import make_plan
from widetrail.recipe import load_recipe_text
from widetrail.steps import KINDS

NOW = datetime(2026, 11, 24, tzinfo=UTC)
RECIPE = """
recipe: 1
revision: 1
application: {id: app%(n)d, name: App %(n)d}
recognise:
  - sign: {file: "{home}/app%(n)d/app.ini"}
    release: {ini: "{home}/app%(n)d/app.ini", at: app/release}
places: {mine: {folder: "{home}/app%(n)d"}}
readings: {files: {files: "{mine}"}}
items:
  data:
    title: Data
    from: mine
    checks: {files: {compare: same}}
    routes:
      - name: own export
        needs: {old: {release: ">=9"}}
        legs: [{new: [copy]}]
      - name: folder
        legs: [{new: [copy]}]
"""


def machine(folder: Path, name: str, count: int) -> FolderMachine:
    """Make a Linux folder machine with ``count`` applications of 20 files each."""
    home = folder / "root/home/ada"
    for number in range(count):
        app = home / f"app{number}"
        app.mkdir(parents=True)
        (app / "app.ini").write_text("[app]\nrelease=3.1\n")
        for file in range(19):
            (app / f"{file}.dat").write_bytes(b"x" * 512)
    (folder / "machine.yaml").write_text(
        f"machine: {name}\nidentity: {name}\nplatform: linux\nsystem: '12'\nuser: ada\n"
        "disks: {/: {folder: root}}\n"
    )
    return FolderMachine(folder)


def main() -> None:
    """Measure and print a table."""
    print("recipes   load (s)   C loader (s)   ratio   plan (s)   plan per recipe (ms)")
    for count in (1, 10, 100):
        with tempfile.TemporaryDirectory() as folder:
            old = machine(Path(folder) / "old", "old", count)
            new = machine(Path(folder) / "new", "new", count)
            texts = [RECIPE % {"n": n} for n in range(count)]
            load_recipe_text(texts[0], "warm", KINDS)
            begun = time.perf_counter()
            recipes = [load_recipe_text(t, f"app{n}", KINDS) for n, t in enumerate(texts)]
            loaded = time.perf_counter() - begun
            begun = time.perf_counter()
            for text in texts:
                yaml.load(text, Loader=yaml.CSafeLoader)
            bare = time.perf_counter() - begun
            make_plan(recipes[:1], old, new, Medium("x", 1 << 40), NOW)
            begun = time.perf_counter()
            plan = make_plan(recipes, old, new, Medium("x", 1 << 40), NOW)
            planned = time.perf_counter() - begun
            assert len(plan.items) == count
            print(
                f"{count:7d}   {loaded:8.3f}   {bare:12.3f}   {loaded / bare:5.1f}"
                f"   {planned:8.3f}   {planned / count * 1000:20.1f}"
            )


if __name__ == "__main__":
    main()
