"""What rehearsing costs beside the bare cost of the same bytes and programs, in one run.

1. A small rehearsal: two machines of 200 files, one program, its print-out the same on both. The
   peer is ``cp -a`` of both machines to the same kind of place, and starting the program as often.
2. The same, 200 times, with one job and with two.
3. A bounded ``--stops`` of a demo recipe: one stop for each kind of effect, step and state.
4. Mutants of demo recipes, each shown to one rehearsal: how many a second of the processors' time,
   that of the programs counted. Compared with what another revision of Wide Trail gives.

    python benchmarks/rehearsing.py
"""

from __future__ import annotations

import resource
import subprocess
import tempfile
import time
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path
from statistics import median

import psutil

from widetrail.machine import FolderMachine
from widetrail.recipe.loader import examine
from widetrail.rehearsing import load_rehearsal, rehearse
from widetrail.rehearsing.batch import jobs_of, run_many
from widetrail.rehearsing.mutants import mutants_of
from widetrail.rehearsing.scaffold import Beginning, begin_recipe
from widetrail.rehearsing.stage import fast_folder
from widetrail.steps import KINDS
from widetrail.testing import sweep
from widetrail_demo.world import build_world

NOW = datetime(2026, 11, 25, tzinfo=UTC)
FILES, ROUNDS, MANY = 200, 15, 200
SWEPT = ("trellisdesk", "huemoss")
MUTATED, MUTANTS = ("huemoss", "trellisdesk", "quillbox", "sporelog", "loamlens"), 10


def make(folder: Path) -> Path:
    """Make a recipe with two machines of ``FILES`` files and a rehearsal; return the rehearsal."""
    kept, sign = "{documents}/Huemoss", "{programs}/huemoss"
    begin_recipe(folder, Beginning("huemoss", "Huemoss", "Osier", "linux", kept, sign))
    recipe = folder / "huemoss.trail.yaml"
    told = "  programs: {huemoss: huemoss}\n  screen: [huemoss, list]\n"
    recipe.write_text(recipe.read_text().replace("\nrecognise:", f"{told}\nrecognise:"))
    for station in ("old", "new"):
        top = folder / "machines" / f"huemoss-{station}"
        text = (top / "machine.yaml").read_text().replace("redirected:\n  documents", "x:\n  y")
        text = "".join(line for line in text.splitlines(True) if not line.startswith(("x:", "  y")))
        start = "[python, -P, -m, widetrail_demo, huemoss]"
        text += f"programs: [{{path: /usr/bin/huemoss, start: {start}}}]\n"
        (top / "machine.yaml").write_text(text)
        machine = FolderMachine(top)
        place = "Huemoss/Palettes" if station == "old" else "Other"
        below = machine.host(f"{machine.root('documents')}/{place}")
        below.mkdir(parents=True)
        (below.parent / "Stamps").mkdir(exist_ok=True)  # the program makes it
        for number in range(FILES):
            (below / f"{number:03d}.palette").write_text('["#202030", "#404060"]')
    path = folder / "huemoss.rehearsal.yaml"
    path.write_text(
        "rehearsal: small\nrecipe: huemoss\nold: {machine: huemoss-old}\n"
        "new: {machine: huemoss-new}\nexpect: {kept: {}, screen: same}\n"
    )
    return path


def bare(folder: Path) -> None:
    """Copy both machines and start the program once on each."""
    with tempfile.TemporaryDirectory(dir=fast_folder()) as target:
        for station in ("old", "new"):
            source = folder / "machines" / f"huemoss-{station}"
            subprocess.run(["cp", "-a", str(source), target], check=True)
            machine = FolderMachine(Path(target) / source.name)
            machine.start("/usr/bin/huemoss", ["list"])


def seconds(act: Callable[[], object]) -> float:
    """Return how long ``act`` takes."""
    begun = time.perf_counter()
    act()
    return time.perf_counter() - begun


def small(folder: Path) -> None:
    """Measure a small rehearsal against its bare cost, by turns; print the medians."""
    [job] = jobs_of([make(folder)], NOW)
    run_many([job])
    pairs = [
        (seconds(lambda: run_many([job])), seconds(lambda: bare(folder))) for _ in range(ROUNDS)
    ]
    mine, peer = median(a for a, _ in pairs), median(b for _, b in pairs)
    ratio = median(a / b for a, b in pairs)
    print(f"small rehearsal, 2 x {FILES} files: {mine:.3f} s; cp -a and program: {peer:.3f} s")
    print(f"  ratio {ratio:.2f} (median of {ROUNDS} rounds by turns; asked: at most 1.5)")
    one = seconds(lambda: run_many([job] * MANY, 1))
    two = seconds(lambda: run_many([job] * MANY, 2))
    print(f"{MANY} rehearsals: one job {one:.1f} s, two jobs {two:.1f} s")
    print(f"  {one / two:.2f} times faster (asked: 1.7)")


def stops(folder: Path) -> None:
    """Measure bounded sweeps of demo recipes."""
    build_world(folder, small=True)
    for name in SWEPT:
        rehearsal = load_rehearsal(folder / "recipes" / f"{name}.rehearsal.yaml")
        begun = time.perf_counter()
        swept = sweep(rehearsal, NOW)
        took = time.perf_counter() - begun
        print(
            f"--stops {name}: {swept.stops} of {swept.possible:,} stops, {swept.faults} faults, "
            f"{len(swept.troubles)} troubles: {took:.1f} s (asked: under 20)"
        )


def processors() -> float:
    """Return the processor time of this process and all it started, in seconds."""
    ended = resource.getrusage(resource.RUSAGE_CHILDREN)
    running = sum(sum(one.cpu_times()[:2]) for one in psutil.Process().children())
    return time.process_time() + ended.ru_utime + ended.ru_stime + running


def mutants(folder: Path) -> None:
    """Measure how fast mutants of demo recipes are judged."""
    for name in MUTATED:
        rehearsal = load_rehearsal(folder / "recipes" / f"{name}.rehearsal.yaml")
        first, *others = rehearsal.recipes()
        found = list(mutants_of(first))
        found = found[:: len(found) // MUTANTS][:MUTANTS]
        rehearse(rehearsal, NOW, recipes=[first, *others])
        begun, noticed = processors(), 0
        for mutant in found:
            changed, _ = examine(mutant.text, mutant.file, KINDS)
            assert changed is not None, "mutants are recipes"
            try:
                noticed += not rehearse(rehearsal, NOW, recipes=[changed, *others]).passed
            except Exception:  # as the judge of mutants does: it was noticed, however
                noticed += 1
        took = processors() - begun
        print(
            f"{len(found)} mutants of {name}, {noticed} noticed: {len(found) / took:.2f} a second"
        )


def main() -> None:
    """Print all figures."""
    with tempfile.TemporaryDirectory() as folder:
        small(Path(folder) / "small")
        stops(Path(folder) / "world")
        mutants(Path(folder) / "world")


if __name__ == "__main__":
    main()
