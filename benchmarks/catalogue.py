"""A catalogue of 2,000 recipes and 6,000 rehearsals made from the demo world: what it costs.

1. Loading all recipes; the check of the catalogue, with nothing kept and warm; ``--changed`` where
   nothing changed, warm, as a command of its own.
2. The same short rehearsals on one worker and on two of a scheduler on this computer, in turns: how
   much more two do, what the scheduler and the one who asks take, and the memory of a worker.
3. A simulation of up to 100 workers from the times that were measured: every errand passes through
   the one who asks and the scheduler, one after the other, and then through one of the workers.

    python benchmarks/catalogue.py [--recipes 2000] [--page docs/cluster.svg] [--write FILE]
"""

from __future__ import annotations

import argparse
import heapq
import json
import os
import random
import re
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Sequence
from contextlib import suppress
from pathlib import Path
from statistics import mean, median

import psutil

from widetrail.library.catalogues import check_catalogue
from widetrail.library.rehearsals import rehearse
from widetrail.recipe import SUFFIX, load_recipe
from widetrail.rehearsing import Rehearsed
from widetrail.rehearsing.history import open_history
from widetrail.rehearsing.inputs import InputDigests
from widetrail.rehearsing.rehearsal import SUFFIX as REHEARSAL
from widetrail.rehearsing.tried import all_tried
from widetrail.steps import KINDS
from widetrail_demo.world import build_world

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
from scheduler import Scheduler, scheduling

EACH = 3
"""Rehearsals of each recipe."""

COPIES = 40
"""Copies of each short rehearsal that are run."""

ROOTS = re.compile(r"\{(documents|config|data|home|state|preferences|saved_games|shared)\}/")
WORKERS = (1, 2, 4, 8, 16, 24, 32, 48, 64, 80, 100)


def make(top: Path, recipes: int) -> int:
    """Make the catalogue; return how many rehearsals it has.

    Copies keep their things in places of their own, so that they do not overlap.
    """
    build_world(top)
    source = sorted((top / "recipes").glob(f"*{SUFFIX}"))
    alone = [path for path in source if "relies_on" not in path.read_text()]
    count = 0
    for number in range(recipes):
        path, copy = alone[number % len(alone)], number // len(alone)
        name = path.name.removesuffix(SUFFIX)
        text = path.read_text().replace(f"id: {name}\n", f"id: {name}-{copy:03d}\n")
        text = ROOTS.sub(lambda found, c=copy: f"{found[0]}{c:03d} ", text)
        folder = top / "all" / f"{copy:03d}"
        folder.mkdir(parents=True, exist_ok=True)
        (folder / f"{name}-{copy:03d}{SUFFIX}").write_text(text)
        beside = sorted((top / "recipes").glob(f"{name}*{REHEARSAL}"), key=_length)
        for at in range(EACH):
            told = beside[at % len(beside)].read_text()
            told = re.sub(r"^recipe: .*$", f"recipe: {name}-{copy:03d}", told, flags=re.M)
            told = re.sub(r"^each:.*?(?=^\S|\Z)", "", told, flags=re.M | re.S)
            (folder / f"{name}-{copy:03d}-{at}{REHEARSAL}").write_text(told)
            count += 1
    (top / "catalogue.yaml").write_text(
        "catalogue: many\nrecipes: all\nowners: {us: {name: Us}}\n"
        'groups: {all: {owner: us, recipes: "*"}}\n'
    )
    return count


def _length(path: Path) -> tuple[bool, int]:
    text = path.read_text()
    return "\neach:" in text, len(text)


def seconds(act: Callable[[], object]) -> float:
    begun = time.perf_counter()
    act()
    return time.perf_counter() - begun


def files(top: Path, cache: Path) -> dict[str, float]:
    """Measure what reads the catalogue: seconds of this computer, with all its processors."""
    paths = sorted((top / "all").rglob(f"*{SUFFIX}"))
    loading = seconds(lambda: [load_recipe(path, KINDS) for path in paths])
    cold = seconds(lambda: check_catalogue(top, cache=cache))
    warm = seconds(lambda: check_catalogue(top, cache=cache))
    checked = check_catalogue(top, cache=cache)
    print(
        f"{checked.recipes} recipes, {checked.rehearsals} rehearsals, {len(checked.broken)} broken"
    )
    tried, _ = all_tried(sorted((top / "all").rglob(f"*{REHEARSAL}")))
    digests = InputDigests()
    history = top / "history"
    with open_history(history, add=True) as known:
        known.add((digests.of(one), Rehearsed(str(one.path), "", (), one.case)) for one in tried)
    environment = {**os.environ, "XDG_CACHE_HOME": str(cache)}
    call = [sys.executable, "-m", "widetrail", "rehearse", str(top / "all"), "--changed"]
    call += ["--history", str(history), "--machines", str(top / "machines")]

    def changed() -> None:
        done = subprocess.run(call, capture_output=True, text=True, check=False, env=environment)
        assert done.returncode == 0 and "not run again" in done.stdout, done.stdout + done.stderr

    changed()
    return {
        "loading": loading,
        "check cold": cold,
        "check warm": warm,
        "changed": median(seconds(changed) for _ in range(3)),
    }


class _Watched:
    """The CPU seconds of processes and the most memory of a worker, while something runs."""

    def __init__(self, scheduler: Scheduler) -> None:
        self._scheduler = scheduler
        self.most = 0
        self._over = threading.Event()
        self._thread = threading.Thread(target=self._watch)

    def __enter__(self) -> _Watched:
        self._before = self._cpu()
        self._own = time.process_time()
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._over.set()
        self._thread.join()
        self.scheduler = self._cpu() - self._before
        self.asking = time.process_time() - self._own

    def _cpu(self) -> float:
        assert self._scheduler.scheduler is not None
        times = psutil.Process(self._scheduler.scheduler.pid).cpu_times()
        return float(times.user + times.system)

    def _watch(self) -> None:
        while not self._over.wait(0.3):
            for process in self._scheduler.processes():
                with suppress(psutil.NoSuchProcess):
                    self.most = max(self.most, process.memory_info().rss)


def many(top: Path, rounds: int) -> dict[str, object]:
    """Measure short rehearsals on one worker and on two, in turns."""
    from widetrail.catalogue.cluster import on_scheduler

    folder = top / "short"
    folder.mkdir()
    (folder / "huemoss.trail.yaml").write_text((top / "recipes/huemoss.trail.yaml").read_text())
    for name in ("huemoss", "huemoss-taken-in"):
        text = (top / f"recipes/{name}{REHEARSAL}").read_text()
        for number in range(COPIES):
            (folder / f"{name}-{number:03d}{REHEARSAL}").write_text(text)
    walls: dict[int, list[float]] = {1: [], 2: []}
    tasks: list[float] = []
    busy, idle, asking, most = [], [], [], 0
    for number in range(rounds):
        for count in (1, 2) if number % 2 else (2, 1):
            with (
                scheduling(top / f"dask-{number}-{count}", count) as started,
                on_scheduler(started.address) as crew,
            ):
                while not crew.told().startswith(str(count)):
                    time.sleep(0.2)
                rehearse([folder], jobs=crew)  # what is read once, is read
                with _Watched(started) as resting:
                    time.sleep(5)
                with _Watched(started) as watched:
                    begun = time.perf_counter()
                    ran = rehearse([folder], jobs=crew)
                    walls[count].append(time.perf_counter() - begun)
            assert ran.passed and len(ran.results) == 2 * COPIES
            if count == 1:
                tasks += [one.seconds for one in ran.results]
                idle.append(resting.scheduler / 5)
                busy.append(watched.scheduler / walls[1][-1])
                asking.append(watched.asking / len(ran.results))
            most = max(most, watched.most)
    alone = median(seconds(lambda: rehearse([folder])) for _ in range(rounds))
    return {
        "one worker": median(walls[1]),
        "two workers": median(walls[2]),
        "here": alone,
        "scheduler, share of a worker": median(busy),
        "scheduler with nothing to do": median(idle),
        "asking, seconds an errand": median(asking),
        "own cost, seconds an errand": median(asking)
        + max(0.0, median(busy) - median(idle)) * median(walls[1]) / (2 * COPIES),
        "memory of a worker, MiB": most / 2**20,
        "task seconds": tasks,
    }


def simulate(tasks: Sequence[float], own: float, workers: int, count: int = 6_000) -> float:
    """Return how many errands a second come back: each passes through one who takes ``own`` seconds
    for it, one after the other, and is then done by the worker that is free first."""
    dice = random.Random(workers)
    free = [0.0] * workers
    clock = end = 0.0
    for took in sorted((dice.choice(tasks) for _ in range(count)), reverse=True):
        clock += own
        begun = max(clock, heapq.heappop(free))
        heapq.heappush(free, begun + took)
        end = max(end, begun + took)
    return count / end


def draw(path: Path, tasks: Sequence[float], own: float) -> dict[int, float]:
    """Draw the throughput against the workers; return it."""
    from matplotlib.figure import Figure

    found = {count: simulate(tasks, own, count) for count in WORKERS}
    figure = Figure(figsize=(8, 4), layout="constrained")
    axes = figure.subplots()
    ideal = 1 / mean(tasks)
    axes.plot(WORKERS, [ideal * count for count in WORKERS], "--", color="#8a8f98", label="ideal")
    axes.plot(list(found), list(found.values()), "o-", color="#3b6ea8", label="simulated")
    axes.axhline(1 / own, color="#a11d33", linewidth=1, label="what one scheduler can give out")
    axes.set(xlabel="workers", ylabel="rehearsals a second", xlim=(0, 104), ylim=(0, None))
    axes.legend(frameon=False)
    axes.spines[["top", "right"]].set_visible(False)
    figure.savefig(path, metadata={"Date": None})
    return found


def main() -> None:
    told = argparse.ArgumentParser(description=__doc__)
    told.add_argument("--recipes", type=int, default=2_000)
    told.add_argument("--rounds", type=int, default=3)
    told.add_argument("--page", type=Path)
    told.add_argument("--write", type=Path)
    given = told.parse_args()
    with tempfile.TemporaryDirectory() as made:
        top = Path(made) / "world"
        make(top, given.recipes)
        figures: dict[str, object] = {**files(top, Path(made) / "cache")}
        print(json.dumps(figures, indent=2), flush=True)
        shared = many(top, given.rounds)
    tasks = shared.pop("task seconds")
    assert isinstance(tasks, list)
    own = shared["own cost, seconds an errand"]
    assert isinstance(own, float)
    page = given.page or Path(tempfile.gettempdir()) / "cluster.svg"
    shared["simulated, a second"] = draw(page, tasks, own)
    figures |= shared
    print(json.dumps(figures, indent=2))
    if given.write:
        given.write.write_text(json.dumps(figures, indent=2) + "\n")


if __name__ == "__main__":
    main()
