"""That nothing has become much slower: small sizes of each benchmark, beside what was written down.

    pip install . && python benchmarks/guard.py [--write]

Each figure is the CPU of all that it takes, as a ratio to a plain tool for the same bytes in the
same run, the median of ``ROUNDS``; all are taken again where one is too much. It ends with 1 where
one is more than ``ALLOWED`` times the one in ``written.json``; ``--write`` writes them there.
``rehearsal`` is beside the programs that it starts.
"""

from __future__ import annotations

import json
import os
import resource
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from datetime import UTC, datetime
from pathlib import Path
from statistics import median

from parcel import laid_out
from resume import NOW

from widetrail.library.endings import settle
from widetrail.machine import Effects, FolderMachine
from widetrail.parcel import Parcel
from widetrail.rehearsing.batch import jobs_of, run_job
from widetrail.walking import Visit

WRITTEN = Path(__file__).with_name("written.json")
ALLOWED, ROUNDS, FILES = 1.5, 3, 4_000
WIDETRAIL = Path(sys.executable).with_name("widetrail")


def spent(act: Callable[[], object]) -> float:
    """Return the seconds of CPU that the processes take which an act starts and waits for."""
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    act()
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    return after.ru_utime - before.ru_utime + after.ru_stime - before.ru_stime


def ran(*command: str | Path) -> None:
    subprocess.run(list(map(str, command)), check=True, capture_output=True)


def inside(act: str, folder: Path, name: str) -> float:
    """Return the CPU of an act in a process of its own, without that of starting it."""
    command = [sys.executable, __file__, act, str(folder), name]
    return float(subprocess.run(command, check=True, capture_output=True, text=True).stdout)


def one_act(act: str, folder: Path, name: str) -> None:
    machine = FolderMachine(folder / name, Effects())
    if act == "settle":
        run = lambda: settle(machine, "run", lambda due: True)  # noqa: E731
    else:
        visit = Visit(Parcel(folder / "parcel", machine.effects), machine)
        run = lambda: visit.walk(NOW)  # noqa: E731
    begun = time.process_time()
    run()
    print(time.process_time() - begun)


def of_commands(world: Path, number: int) -> Iterator[tuple[str, float]]:
    click = spent(lambda: ran(sys.executable, "-c", "import click"))
    recipe = world / "recipes/huemoss.trail.yaml"
    yield "lint", spent(lambda: ran(WIDETRAIL, "lint", recipe)) / click
    sides = ["--old", world / "machines/potting-shed", "--new", world / "machines/glass-office"]
    parcel = ["--parcel", world / f"media/usb-stick/{number}"]
    yield "plan", spent(lambda: ran(WIDETRAIL, "plan", recipe, *sides, *parcel)) / click


def of_files(top: Path) -> Iterator[tuple[str, float]]:
    stage, tar, there, out = (top / name for name in ("stage", "tar", "there", "out"))
    notes = laid_out(stage, FILES, 4096)
    for copy in (there, stage / "new/root/home/ada/notes"):  # which the walk backs up
        ran("cp", "-a", notes, copy)
    whole = ["tar", "-cf", str(tar), "-C", str(notes.parent), notes.name]
    packing = spent(lambda: (ran(*whole), ran("sha256sum", tar)))
    yield "pack", inside("walk", stage, "old") / packing
    out.mkdir()
    names = sorted(path.name for path in notes.iterdir())
    sums = subprocess.run(["sha256sum", *names], cwd=notes, capture_output=True, check=True)
    (top / "sums").write_bytes(sums.stdout)
    check = f"cd '{out}/notes' && sha256sum --quiet -c '{top}/sums'"
    unpacking = spent(lambda: (ran("tar", "-xf", tar, "-C", out), ran("bash", "-c", check)))
    yield "unpack", inside("walk", stage, "new") / unpacking
    yield "settle", inside("settle", stage, "new") / spent(lambda: ran("rm", "-rf", there))


def of_rehearsal(world: Path) -> Iterator[tuple[str, float]]:
    [job] = jobs_of([world / "recipes/huemoss.rehearsal.yaml"], datetime.now(UTC))
    run_job(job)
    begun = time.process_time()
    started = spent(lambda: run_job(job))
    yield "rehearsal", (time.process_time() - begun + started) / started


def measured() -> dict[str, float]:
    found: dict[str, list[float]] = {}
    with tempfile.TemporaryDirectory() as folder:
        world = Path(folder) / "garden"
        ran(WIDETRAIL, "demo", world, "--world-only")
        for number in range(ROUNDS):
            with tempfile.TemporaryDirectory(dir=folder) as top:
                rows = [*of_commands(world, number), *of_files(Path(top)), *of_rehearsal(world)]
            for name, ratio in rows:
                found.setdefault(name, []).append(ratio)
    return {name: round(median(ratios), 2) for name, ratios in found.items()}


def main() -> None:
    os.environ.pop("PYTHONDONTWRITEBYTECODE", None)
    if len(sys.argv) == 4:
        one_act(sys.argv[1], Path(sys.argv[2]), sys.argv[3])
        return
    now = measured()
    if "--write" in sys.argv:
        WRITTEN.write_text(f"{json.dumps(now, indent=1)}\n", encoding="utf-8")
    written: dict[str, float] = json.loads(WRITTEN.read_text(encoding="utf-8"))
    if slower(now, written):  # something else may have run beside it
        now = {name: min(ratio, now[name]) for name, ratio in measured().items()}
    for name, ratio in now.items():
        print(f"{name:10} {ratio:6.2f} times its peer, written {written[name]:6.2f}")
    if names := slower(now, written):
        sys.exit(f"much slower than written: {', '.join(names)}")


def slower(now: dict[str, float], written: dict[str, float]) -> list[str]:
    return [name for name, ratio in now.items() if ratio > ALLOWED * written[name]]


if __name__ == "__main__":
    main()
